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
	"bytes"
	"cmp"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"tidycourier/core/bearer"
	"tidycourier/core/mask"
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
	// Foreign: the legs were recorded elsewhere; Secret and Password are what was
	// sent, and the settings may be those of another run.
	Foreign bool
	// Registered is the secret of the settings, when Secret is the one that was sent.
	Registered string
	// Granted is the scope that the refresh token was given with, and GivenTo the
	// client it was given to.
	Granted []string
	GivenTo string
	// CarriesRefresh and CarriesID: the call carried a refresh or id token that was
	// seen when it was issued.
	CarriesRefresh, CarriesID bool
	// IssuedAs tells as what a value was issued earlier in the record: code,
	// access_token, refresh_token, id_token, or "".
	IssuedAs func(value string) string
	// AnsweredAt is when Answer came.
	AnsweredAt time.Time
	// CarriesGrant is the grant by which the call's token was got, where the record
	// shows it.
	CarriesGrant string
	// PushedAs is the request_uri that the authorization request stands for.
	PushedAs string
	// AnswerOnly: what was sent is not known, so it can prove nothing.
	AnswerOnly bool
	// Spent looks up when a code or refresh token (by fingerprint) was sent before.
	Spent func(kind, fingerprint string) *Spent

	refused *refusedLeg // while Judge runs: what refusal found
}

// refusedLeg is what refusal found.
type refusedLeg struct {
	leg *run.Leg
	o   *oauth.Error
}

// Spent is an earlier use of a single-use credential.
type Spent struct {
	Run    int64
	Leg    int // in a record from elsewhere, in place of Run
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
	Judge      func(e *Evidence) *Match // nil when it stops the program before there is a run: vet, or the error itself, tells
}

// Match is a rule that found its cause.
type Match struct {
	Leg       int
	Certainty run.Certainty
	Items     []run.Item
	Remedy    []string // in place of the rule's own, with the names of this case
	Try       string   // a command that would tell candidates apart
	Note      bool     // nothing failed because of it
	Odd       bool     // a note about an answer that departs from the standard, or gives less than was asked
}

// maxCandidates is how many undecided causes are shown for one leg.
const maxCandidates = 3

// Judge runs every rule over the evidence.
func Judge(e *Evidence) []run.Finding {
	if e.Provoked {
		return []run.Finding{}
	}
	leg, o := e.refusal()
	e.refused = &refusedLeg{leg, o}
	defer func() { e.refused = nil }()
	var out []run.Finding
	for i := range catalogue {
		r := &catalogue[i]
		if r.Judge == nil {
			continue
		}
		if m := r.Judge(e); m != nil {
			out = append(out, r.finding(m))
		}
	}
	return decide(ranked(out))
}

// Ranked puts the surest first and notes last; of equally sure ones their order
// stays.
func Ranked(list []run.Finding) []run.Finding { return ranked(list) }

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

// unreadable are causes that keep a server from reading anything else of the
// request: what else is wrong with it may be their effect.
var unreadable = []string{"wrong-content-type", "parameters-in-query-not-body", "request-body-empty", "wrong-method"}

// decide drops the candidates of a leg whose cause is proved, and all but the
// first few of one whose cause is not.
func decide(list []run.Finding) []run.Finding {
	proved, shown, unread := map[int]bool{}, map[int]int{}, map[int]string{}
	for _, f := range list {
		if f.Certainty == run.Certain && !f.Note && f.ID != "error-with-status-200" { // that hides the cause, and is none
			proved[f.Leg] = true
			if slices.Contains(unreadable, f.ID) && unread[f.Leg] == "" {
				unread[f.Leg] = f.ID
			}
		}
	}
	out := []run.Finding{}
	for _, f := range list {
		if first := unread[f.Leg]; first != "" && f.ID != first && !f.Note {
			continue
		}
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
		References: r.References, Try: m.Try, Note: m.Note, Odd: m.Odd}
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
var catalogue = slices.Concat(reachRules, sentRules, settingsRules, discoveryRules, pageRules, authorizationRules, assertionRules, dpopRules, deviceRules, requestRules, redemptionRules, refreshRules, passwordRules, clientRules, answerRules, tokenRules, carriedRules, itselfRules, userinfoRules, callRules)

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
// error in the form rules read, or nil with its leg when nothing was said.
func (e *Evidence) refusal() (*run.Leg, *oauth.Error) {
	if r := e.refused; r != nil {
		return r.leg, r.o
	}
	leg := e.last(run.Token)
	if leg == nil {
		leg = e.last(run.Device)
	}
	if leg == nil {
		leg = e.last(run.Pushed)
	}
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil {
		return nil, nil
	}
	r := leg.Exchange.Response
	if leg.Kind != run.Token {
		if r.Status < 400 {
			return nil, nil
		}
		return leg, reply(r, "")
	}
	if _, err := oauth.ParseTokenResponse(r.Status, r.Header.Get("Content-Type"), r.Body); err == nil {
		return nil, nil
	}
	return leg, reply(r, form(leg)["grant_type"])
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
	return leg, reply(leg.Exchange.Response, "")
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
	case o == nil || o.Code == "":
		if s := leg.Status(); silent && (s == 400 || s == 401 || s == 403) {
			if o != nil {
				return leg, o
			}
			return leg, &oauth.Error{Status: s}
		}
		return nil, nil
	case slices.Contains(codes, o.Code):
		return leg, o
	}
	return nil, nil
}

// form reads the parameters that a leg sent in its body; of a doubled one the
// first counts. A body of another type than a form is read too, since what was
// meant is evidence.
func form(leg *run.Leg) map[string]string {
	out := map[string]string{}
	if leg == nil || leg.Exchange == nil {
		return out
	}
	if leg.Unseen {
		return unseenForm(leg)
	}
	body := leg.Exchange.Request.Body
	if head := bytes.TrimLeft(body, " \t\r\n"); len(head) > 0 && head[0] == '{' {
		var members map[string]any
		if json.Unmarshal(body, &members) == nil {
			for k, v := range members {
				if s, ok := v.(string); ok {
					out[k] = s
				}
			}
			return out
		}
	}
	for _, p := range strings.Split(string(body), "&") {
		name, value, _ := strings.Cut(p, "=")
		if name = unescape(name); name != "" {
			if _, met := out[name]; !met {
				out[name] = unescape(value)
			}
		}
	}
	return out
}

// notPasted stands for a value that was sent and is not known.
const notPasted = "not-pasted"

// MaskedWord begins a word that stands in a record for a value which was masked
// there; its fingerprint follows.
const MaskedWord = "masked-"

// unknown reports whether a value that was sent is not known.
func unknown(v string) bool { return v == notPasted || strings.HasPrefix(v, MaskedWord) }

// shown is a secret value as it may be quoted.
func shown(v string) string {
	if v == notPasted {
		return "not known here"
	}
	if fingerprint, masked := strings.CutPrefix(v, MaskedWord); masked {
		return "[masked " + fingerprint + "]"
	}
	return mask.Text(v)
}

// unseenForm is what a token request must have held, of which only the answer is
// known: the grant by the server's words, and whatever such a grant sends.
func unseenForm(leg *run.Leg) map[string]string {
	f := map[string]string{"grant_type": oauth.GrantCode}
	if raw := rawReply(leg.Exchange.Response); raw != nil {
		text := telling(raw.Description)
		switch {
		case said(text, "refresh"):
			f["grant_type"] = oauth.GrantRefresh
		case said(text, "user", "password", "login", "mfa", "multi factor", "account"):
			f["grant_type"] = oauth.GrantPassword
		}
	}
	for _, n := range map[string][]string{oauth.GrantCode: {"code", "redirect_uri", "code_verifier"}, oauth.GrantRefresh: {"refresh_token"}, oauth.GrantPassword: {"username", "password"}}[f["grant_type"]] {
		f[n] = notPasted
	}
	return f
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
