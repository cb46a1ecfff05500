// Package finding names causes. Evidence goes in: the legs of a run with what
// was sent and what came back, the settings with their places, the clock.
// Findings come out, most certain first.
//
// A rule is one entry of a table: the text that explain prints, and a function
// that looks at the evidence and returns a match or nil. Rules hold what was
// sent against settings, metadata and the RFCs first; an error_description may
// raise or lower certainty, in any wording, and is never needed.
package finding

import (
	"cmp"
	"errors"
	"slices"
	"strings"
	"time"

	"tidycourier/core/bearer"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// Evidence is everything known about a run. Nil and empty fields are simply
// not known; no rule may need one to be set.
type Evidence struct {
	Now      time.Time
	Legs     []run.Leg
	Client   *project.Client
	Secret   string // the client secret as it was read
	Password string // of the password grant, as it was read
	API      *project.API
	Call     *project.Call
	Metadata *oauth.Metadata
	Asked    string // the issuer whose metadata was asked for
	// Access is the access token that the call carried.
	Access string
	// Answer is the token answer, when one came.
	Answer *oauth.TokenResponse
	// AskedScope is the scope that was asked for.
	AskedScope []string
	// JSONWanted: the caller could only use JSON (an expectation, --pick, keep).
	JSONWanted bool
	// Person is what is known of a grant with a person; nil without one.
	Person *Person
	// RefreshOf is the set whose refresh token was spent; nil when none was, or
	// when it came from the settings.
	RefreshOf *pouch.Set
	// IDTokenFault is why the id token was not accepted, or "".
	IDTokenFault string
	// Provoked: the refusals were what was wanted, and need no cause.
	Provoked bool
	// First is true when this client never had a token here before.
	First bool
	// UserinfoSub and IDTokenSub are whom a userinfo answer and the id token are
	// about.
	UserinfoSub, IDTokenSub string
	// Examined is a token that is looked at, outside any call.
	Examined *Examined
	// Spent looks up when a code or refresh token (by fingerprint) was sent before.
	Spent func(kind, fingerprint string) *Spent
}

// Spent is an earlier use of a single-use credential.
type Spent struct {
	Run    int64
	Client string
	At     time.Time
}

// Rule is one cause of the catalogue.
type Rule struct {
	ID         string
	Title      string
	Meaning    string
	Proof      string
	Remedy     []string
	References []string
	Judge      func(e *Evidence) *Match
}

// Match is a rule that found its cause.
type Match struct {
	Leg       int
	Certainty run.Certainty
	Items     []run.Item
	Remedy    []string // in place of the rule's own, with the names of this case
	Try       string   // a command that would tell candidates apart
	Note      bool     // nothing failed because of it
}

// maxCandidates is how many undecided causes are shown for one leg.
const maxCandidates = 3

// Judge runs every rule over the evidence.
func Judge(e *Evidence) []run.Finding {
	if e.Provoked {
		return []run.Finding{}
	}
	var out []run.Finding
	for i := range catalogue {
		r := &catalogue[i]
		if m := r.Judge(e); m != nil {
			out = append(out, r.finding(m))
		}
	}
	return decide(ranked(out))
}

// ranked puts the surest first and notes last.
func ranked(list []run.Finding) []run.Finding {
	slices.SortStableFunc(list, func(a, b run.Finding) int {
		if a.Note != b.Note {
			return map[bool]int{true: 1, false: -1}[a.Note]
		}
		return cmp.Compare(a.Certainty.Rank(), b.Certainty.Rank())
	})
	return list
}

// decide drops the candidates of a leg whose cause is proved, and all but the
// first few of one whose cause is not.
func decide(list []run.Finding) []run.Finding {
	proved, shown := map[int]bool{}, map[int]int{}
	for _, f := range list {
		if f.Certainty == run.Certain && !f.Note {
			proved[f.Leg] = true
		}
	}
	out := []run.Finding{}
	for _, f := range list {
		if !f.Note && f.Certainty != run.Certain {
			if shown[f.Leg]++; proved[f.Leg] || shown[f.Leg] > maxCandidates {
				continue
			}
		}
		out = append(out, f)
	}
	return out
}

func (r *Rule) finding(m *Match) run.Finding {
	f := run.Finding{ID: r.ID, Leg: m.Leg, Certainty: m.Certainty, Title: r.Title, Evidence: m.Items, Remedy: r.Remedy,
		References: r.References, Try: m.Try, Note: m.Note}
	if m.Remedy != nil {
		f.Remedy = m.Remedy
	}
	return f
}

// Lookup returns a rule by its id.
func Lookup(id string) (Rule, bool) {
	for _, r := range catalogue {
		if r.ID == id {
			return r, true
		}
	}
	return Rule{}, false
}

// IDs lists every cause, in the catalogue's order.
func IDs() []string {
	out := make([]string, len(catalogue))
	for i, r := range catalogue {
		out[i] = r.ID
	}
	return out
}

// catalogue is every rule, in the order of the work; of equally certain
// candidates the earlier one is shown first.
var catalogue = slices.Concat(reachRules, answerRules, discoveryRules, authorizationRules, requestRules, redemptionRules, refreshRules, passwordRules, clientRules, tokenRules, itselfRules, userinfoRules, callRules)

// last returns the last leg of a kind, or nil.
func (e *Evidence) last(kind run.Kind) *run.Leg {
	for i := len(e.Legs) - 1; i >= 0; i-- {
		if e.Legs[i].Kind == kind {
			return &e.Legs[i]
		}
	}
	return nil
}

// refusal reads the token endpoint's answer when it was not a success: as an
// OAuth error, or nil with its leg when it was something else.
func (e *Evidence) refusal() (*run.Leg, *oauth.Error) {
	leg := e.last(run.Token)
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil {
		return nil, nil
	}
	r := leg.Exchange.Response
	_, err := oauth.ParseTokenResponse(r.Status, r.Header.Get("Content-Type"), r.Body)
	if err == nil {
		return nil, nil
	}
	if o, ok := err.(*oauth.Error); ok {
		return leg, o
	}
	return leg, nil
}

// heldRefusal is a refusal by the introspection or revocation endpoint, where a
// client authenticates as at the token endpoint.
func (e *Evidence) heldRefusal() (*run.Leg, *oauth.Error) {
	leg := e.last(run.Revocation)
	if leg == nil {
		leg = e.last(run.Introspection)
	}
	if leg == nil || leg.Status() < 400 {
		return nil, nil
	}
	r := leg.Exchange.Response
	var o *oauth.Error
	if err := oauth.ParseRevocation(r.Status, r.Header.Get("Content-Type"), r.Body); errors.As(err, &o) {
		return leg, o
	}
	return leg, nil
}

// refusedWith is refusal for rules that fit certain codes only. A leg is
// returned too when the server gave no code at all and silent is true: many
// answer with an empty 400 or 401.
func (e *Evidence) refusedWith(silent bool, codes ...string) (*run.Leg, *oauth.Error) {
	leg, o := e.refusal()
	if leg == nil && slices.Contains(codes, oauth.ErrInvalidClient) {
		leg, o = e.heldRefusal()
	}
	switch {
	case leg == nil:
		return nil, nil
	case o == nil:
		if s := leg.Status(); silent && (s == 400 || s == 401 || s == 403) {
			return leg, &oauth.Error{Status: s}
		}
		return nil, nil
	case slices.Contains(codes, o.Code):
		return leg, o
	}
	return nil, nil
}

// form reads the parameters that a leg sent in its body.
func form(leg *run.Leg) map[string]string {
	out := map[string]string{}
	if leg == nil || leg.Exchange == nil {
		return out
	}
	for _, p := range strings.Split(string(leg.Exchange.Request.Body), "&") {
		name, value, _ := strings.Cut(p, "=")
		out[unescape(name)] = unescape(value)
	}
	return out
}

// said reports whether a text holds one of the words, case aside. It weighs,
// it never decides alone.
func said(text string, words ...string) bool {
	text = strings.ToLower(text)
	for _, w := range words {
		if strings.Contains(text, w) {
			return true
		}
	}
	return false
}

// challenge is the API's Bearer challenge, if it gave one.
func challenge(leg *run.Leg) (bearer.Challenge, bool) {
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil {
		return bearer.Challenge{}, false
	}
	list, _ := bearer.ParseChallenges(leg.Exchange.Response.Header.Values("WWW-Authenticate"))
	for _, c := range list {
		if c.Bearer() {
			return c, true
		}
	}
	return bearer.Challenge{}, false
}

// sentToken is the token a call leg carried, however it was placed.
func sentToken(leg *run.Leg) string {
	if leg == nil || leg.Exchange == nil {
		return ""
	}
	name := leg.Placed
	if name == "" {
		name = "Authorization"
	}
	return leg.Exchange.Request.Header.Get(name)
}

func decoded(raw string) *token.Token {
	if raw == "" {
		return nil
	}
	t, err := token.Decode(raw)
	if err != nil || t.Form != token.JWT {
		return nil
	}
	return t
}

// where is a setting's place, or what to say when it has none.
func where(s string) string {
	if s == "" {
		return "not set"
	}
	return s
}
