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
	"slices"
	"strings"
	"time"

	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
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
	// HeadersLeftOut: the record leaves out Authorization and Cookie, so that they
	// are not there proves nothing.
	HeadersLeftOut bool
	// Beyond: more came on a connection than Content-Length said.
	Beyond bool
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
	Try        Test                     // for when evidence cannot decide
	Judge      func(e *Evidence) *Match // nil when it stops the program before there is a run: vet, or the error itself, tells
}

// Test is a command of this program whose result speaks for a cause or against
// it, and what to look for. CLIENT, NAME and ISSUER stand for those of the case.
type Test struct{ Command, Tells string }

// String is the test in one line.
func (t Test) String() string {
	if t.Command == "" {
		return ""
	}
	return t.Command + "   " + t.Tells
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
	return e.suggest(decide(ranked(out)))
}

// suggest adds the tests that would tell candidates apart, where a leg has more
// than one, or one that is merely possible.
func (e *Evidence) suggest(list []run.Finding) []run.Finding {
	candidates := map[int]int{}
	for _, f := range list {
		if !f.Note && f.Certainty != run.Certain {
			candidates[f.Leg]++
		}
	}
	told := map[string]bool{}
	for i := range list {
		f := &list[i]
		if f.Note || f.Certainty == run.Certain || f.Try != "" || candidates[f.Leg] < 2 && f.Certainty != run.Possible {
			continue
		}
		r, _ := Lookup(f.ID)
		if test := e.named(r.Try.String()); !told[test] {
			f.Try, told[test] = test, true
		}
	}
	return list
}

// named puts the names of the case into a test.
func (e *Evidence) named(test string) string {
	if e.Client != nil && e.Client.Name != "" {
		test = strings.ReplaceAll(test, "CLIENT", e.Client.Name)
		if s := e.Client.Server; s != nil && s.Issuer.Value != "" {
			test = strings.ReplaceAll(test, "ISSUER", s.Issuer.Value)
		}
	}
	if e.Call != nil && e.Call.Name != "" {
		test = strings.Replace(test, "call NAME", "call "+e.Call.Name, 1)
	}
	return test
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
