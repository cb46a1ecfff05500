package exhibit

import (
	"encoding/json"
	"html"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/finding"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// readAuthorization reads the request that was taken to the authorization
// endpoint, with what a request object or nothing else hides (RFC 9101).
func readAuthorization(p *piece) *oauth.AuthorizationRequest {
	v := url.Values{}
	for name, list := range p.params {
		v[name] = list
	}
	if object := v.Get("request"); object != "" {
		if t, err := token.Decode(object); err == nil {
			for name, x := range t.Claims {
				if s, ok := x.(string); ok && !v.Has(name) {
					v.Set(name, s)
				}
			}
		}
	}
	return requestOf(v, p.x.Request.URL)
}

func requestOf(v url.Values, at string) *oauth.AuthorizationRequest {
	endpoint, _, _ := strings.Cut(at, "?")
	r := &oauth.AuthorizationRequest{Endpoint: endpoint, ResponseType: v.Get("response_type"), ClientID: v.Get("client_id"), RedirectURI: v.Get("redirect_uri"),
		Scope: strings.Fields(v.Get("scope")), State: v.Get("state"), Nonce: v.Get("nonce"), ResponseMode: v.Get("response_mode"),
		CodeChallenge: v.Get("code_challenge"), CodeChallengeMethod: v.Get("code_challenge_method"), Prompt: v.Get("prompt"), LoginHint: v.Get("login_hint"), MaxAge: v.Get("max_age")}
	if r.CodeChallenge != "" && r.CodeChallengeMethod == "" {
		r.CodeChallengeMethod = oauth.PKCEPlain // RFC 7636 4.3
	}
	standard := map[string]bool{}
	for _, q := range (oauth.AuthorizationRequest{ResponseType: "x", ClientID: "x", RedirectURI: "x", Scope: []string{"x"}, State: "x", Nonce: "x", ResponseMode: "x", CodeChallenge: "x", CodeChallengeMethod: "x", Prompt: "x", LoginHint: "x", MaxAge: "x"}).Params() {
		standard[q.Name] = true
	}
	for name, list := range v {
		if !standard[name] && len(list) > 0 {
			r.Extra = append(r.Extra, oauth.Param{Name: name, Value: list[0]})
		}
	}
	slices.SortFunc(r.Extra, func(a, b oauth.Param) int { return strings.Compare(a.Name, b.Name) })
	return r
}

// formPost finds the answer in a page that posts itself to the redirect URI
// (response_mode form_post); nil when there is none.
func formPost(body []byte) url.Values {
	text := string(body[:min(len(body), 64<<10)])
	if !strings.Contains(text, "<form") || !strings.Contains(text, "name=\"code\"") && !strings.Contains(text, "name=\"error\"") {
		return nil
	}
	v := url.Values{}
	for _, m := range inputPattern().FindAllString(text, 40) {
		name, value := attribute(m, "name"), attribute(m, "value")
		if name != "" {
			v.Add(name, value)
		}
	}
	if !v.Has("code") && !v.Has("error") || v.Has("password") {
		return nil
	}
	return v
}

var inputPattern = lazy(`(?i)<input[^>]*>`)

func attribute(tag, name string) string {
	_, rest, found := strings.Cut(tag, " "+name+"=\"")
	if !found {
		return ""
	}
	value, _, _ := strings.Cut(rest, "\"")
	return html.UnescapeString(value)
}

// finish gives each flow what the others tell about it.
func (b *builder) finish() {
	for _, f := range b.Flows {
		if q := person(f); q != nil {
			b.pushed(f, q)
			if q.Response == nil && q.Foretold != nil {
				q.Response = q.Foretold
				first := f.Legs[0]
				f.Legs = append(f.Legs, run.Leg{N: first.N, Kind: run.Landing, Inbound: true, Method: "GET", URL: q.Request.RedirectURI, At: first.At, Answer: q.Foretold})
			}
		}
		f.Evidence.Metadata = b.metadataOf(f)
		f.Evidence.Foreign, f.Evidence.HeadersLeftOut = true, b.HeadersLeftOut
		f.Evidence.IssuedAs = func(v string) string { return b.issued[v] }
		f.Evidence.First = true
		b.asClient(f)
		f.Evidence.Spent = b.spentBefore(f)
		f.Evidence.Now = b.settings.Now
		if last := f.Legs[len(f.Legs)-1]; !last.At.IsZero() {
			f.Evidence.Now = last.At.Add(last.Took)
		}
	}
	for i, f := range b.Flows {
		for _, later := range b.Flows[i+1:] {
			f.overcome = f.overcome || worked(later) && sameAim(f, later)
		}
	}
}

// pushed puts the parameters that were pushed before into the request that
// names them (RFC 9126).
func (b *builder) pushed(f *Flow, q *finding.Person) {
	uri := ""
	for _, x := range q.Request.Extra {
		if x.Name == "request_uri" {
			uri = x.Value
		}
	}
	if uri == "" {
		return
	}
	for _, other := range b.Flows {
		l := other.Legs[0]
		if l.Kind != run.Pushed || l.Status() == 0 {
			continue
		}
		var answer struct {
			RequestURI string `json:"request_uri"`
		}
		if json.Unmarshal(l.Exchange.Response.Body, &answer) == nil && answer.RequestURI == uri {
			v := pieceOf(0, l.Exchange).params
			v.Set("request_uri", uri)
			*q.Request = *requestOf(v, q.Request.Endpoint)
			f.Evidence.AskedScope = q.Request.Scope
			f.Evidence.PushedAs = uri
		}
	}
}

func (b *builder) metadataOf(f *Flow) *oauth.Metadata {
	var near *oauth.Metadata
	for _, m := range append(slices.Clone(b.metadata), b.settings.Metadata) {
		if m == nil {
			continue
		}
		for _, l := range f.Legs {
			if sameURL(l.URL, m.TokenEndpoint) || sameURL(l.URL, m.AuthorizationEndpoint) {
				return m
			}
		}
		if near == nil && (f.origin == origin(m.TokenEndpoint) || f.origin == origin(m.Issuer)) {
			near = m
		}
	}
	return near
}

// asClient judges a flow with the settings, when it is that client's: by its
// id, or because the record has no other.
func (b *builder) asClient(f *Flow) {
	e := &f.Evidence
	for _, l := range slices.Backward(f.Legs) {
		if l.Kind != run.Token {
			continue
		}
		e.Secret = finding.SentSecret(l.Exchange)
		if v := pieceOf(0, l.Exchange).params.Get("password"); v != "" {
			e.Password = v
		}
		break
	}
	if b.settings.Client == nil || !b.ours(f) {
		return
	}
	e.Client, e.Registered = b.settings.Client, b.settings.Secret
}

// ours reports whether the settings' client speaks in a flow.
func (b *builder) ours(f *Flow) bool {
	id := b.settings.Client.ClientID.Value
	if f.ClientID == id || f.ClientID == "" {
		return true
	}
	return !slices.ContainsFunc(b.Flows, func(o *Flow) bool { return o.ClientID == id })
}

// spentBefore looks up an earlier use of a credential in the record itself.
func (b *builder) spentBefore(f *Flow) func(kind, fingerprint string) *finding.Spent {
	mine := 0
	for _, l := range f.Legs {
		if l.Kind == run.Token {
			mine = l.N
		}
	}
	return func(kind, fingerprint string) *finding.Spent {
		for _, s := range b.sent {
			if s.kind == kind && s.fingerprint == fingerprint && s.leg < mine && s.ok {
				return &finding.Spent{Leg: s.leg, Client: s.client, At: s.at}
			}
		}
		return nil
	}
}

// worked reports whether a flow came to a good end.
func worked(f *Flow) bool {
	last := f.Legs[len(f.Legs)-1]
	if last.Kind == run.Call || last.Kind == run.Userinfo {
		return last.Status() >= 200 && last.Status() < 300
	}
	return f.Evidence.Answer != nil
}

// sameAim reports whether two flows try the same: the same call, or a grant of
// the same client. A code grant that went wrong halfway and one that was begun
// anew are the same.
func sameAim(a, b *Flow) bool {
	la, lb := a.Legs[0], b.Legs[0]
	if la.Kind == run.Call || lb.Kind == run.Call || la.Kind == run.Userinfo || lb.Kind == run.Userinfo {
		return la.Kind == lb.Kind && la.Method == lb.Method && sameURL(la.URL, lb.URL)
	}
	if a.Grant == oauth.GrantRefresh {
		return b.Grant == a.Grant && a.ClientID == b.ClientID
	}
	return a.ClientID == b.ClientID && a.Grant == b.Grant && a.Grant != ""
}

// Judge runs the rules over every flow. The list holds the causes first; notes,
// and what was overcome later in the record, come last.
func (b *Bundle) Judge() []run.Finding {
	out := []run.Finding{}
	got := map[string]bool{}
	failedGrant := slices.ContainsFunc(b.Flows, func(f *Flow) bool {
		return (f.Grant != "" && !worked(f)) && !f.overcome && slices.ContainsFunc(f.Legs, func(l run.Leg) bool { return l.Kind == run.Token && l.Status() >= 400 })
	})
	for _, f := range b.Flows {
		f.Evidence.Legs = f.Legs
		for _, found := range finding.Judge(&f.Evidence) {
			key := found.ID + "\x00" + f.ClientID + f.Legs[0].URL
			if got[key] {
				continue
			}
			got[key] = true
			if f.overcome || failedGrant && found.ID == "no-token-sent" {
				found.Note = true
			}
			out = append(out, found)
		}
	}
	return finding.Ranked(out)
}

// Secrets lists every secret and token of the record, so that none of them is
// shown.
func (b *Bundle) Secrets(set *mask.Set) {
	for _, f := range b.Flows {
		e := &f.Evidence
		set.Add(e.Secret, e.Access)
		set.AddPassword(e.Password)
		if e.Answer != nil {
			set.Add(e.Answer.AccessToken, e.Answer.RefreshToken, e.Answer.IDToken)
		}
		if q := e.Person; q != nil && q.Response != nil {
			set.Add(q.Response.Code, q.Response.AccessToken, q.Response.IDToken)
		}
		for _, l := range f.Legs {
			if l.Exchange == nil {
				continue
			}
			for name, list := range pieceOf(0, l.Exchange).params {
				for _, v := range list {
					if m := mask.Value(name, v); m == mask.Hidden {
						set.AddPassword(v)
					} else if m != v {
						set.Add(v)
					}
				}
			}
		}
	}
}

// Run is the bundle as a run, to be drawn as a ladder.
func (b *Bundle) Run(command string, client string) *run.Run {
	r := &run.Run{Command: command, Client: client, Legs: b.Legs}
	if len(b.Legs) > 0 {
		r.Started = b.Legs[0].At
	}
	return r
}

// Client is the settings' client, or nil.
func (b *Bundle) Client() *project.Client { return b.settings.Client }

// Span is how much time the record covers.
func (b *Bundle) Span() time.Duration {
	if len(b.Legs) == 0 {
		return 0
	}
	return b.Legs[len(b.Legs)-1].At.Sub(b.Legs[0].At)
}
