package exhibit

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/finding"
	"tidycourier/core/har"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// builder puts pieces together.
type builder struct {
	*Bundle
	known    known
	metadata []*oauth.Metadata
	redirect map[string]bool // redirect URIs of authorization requests
	tokens   map[string]*Flow
	refresh  map[string]*Flow
	issued   map[string]string // value to the parameter it was given out as
	sent     []sent
}

// sent is a single-use credential as it was sent, with when.
type sent struct {
	kind, fingerprint, client string
	leg                       int
	at                        time.Time
	ok                        bool
}

func assemble(pieces []*piece, s Settings) *Bundle {
	slices.SortStableFunc(pieces, func(a, b *piece) int {
		if a.x.Started.IsZero() || b.x.Started.IsZero() {
			return 0
		}
		return a.x.Started.Compare(b.x.Started)
	})
	b := &builder{Bundle: &Bundle{settings: s, HeadersLeftOut: s.leftOut, flowOf: map[int]*Flow{}}, issued: map[string]string{}, redirect: map[string]bool{}, tokens: map[string]*Flow{}, refresh: map[string]*Flow{}}
	if s.Metadata != nil {
		b.known.list = append(b.known.list, s.Metadata)
	}
	for _, p := range pieces { // metadata first: it tells what the other addresses are
		if p.kind = kindOf(p, known{}); p.kind == run.Discovery && p.status() == 200 {
			if m, err := oauth.ParseMetadata(p.x.Response.Body); err == nil {
				b.metadata = append(b.metadata, m)
				b.known.list = append(b.known.list, m)
			}
		}
	}
	for _, p := range pieces {
		p.kind = kindOf(p, b.known)
		if p.kind == "" && b.refusedAPI(p) {
			p.kind = run.Call
		}
		b.take(p)
	}
	b.finish()
	return b.Bundle
}

// refusedAPI reports whether a piece without token and challenge is a refused
// call all the same: its address is that of an API, or it carries a token in a
// header of its own.
func (b *builder) refusedAPI(p *piece) bool {
	if s := p.status(); s != 401 && s != 403 {
		return false
	}
	if p.status() == 401 && (p.answerHas("error") || p.answerHas("message") || plainRefusal(p.x.Response)) {
		return true // a program's answer, not a page, and about who is asking
	}
	for _, api := range b.settings.APIs {
		if base := api.BaseURL.Value; base != "" && strings.HasPrefix(p.x.Request.URL, base) {
			return true
		}
	}
	for name, values := range p.x.Request.Header {
		if strings.EqualFold(name, "Cookie") {
			continue
		}
		for _, v := range values {
			if b.tokens[bare(v)] != nil || strings.HasPrefix(bare(v), "eyJ") && strings.Count(v, ".") >= 2 {
				return true
			}
		}
	}
	return slices.ContainsFunc(b.Legs, func(l run.Leg) bool {
		from, err := url.Parse(l.URL)
		return err == nil && l.Kind == run.Call && wire.SameOrigin(from, p.url)
	})
}

// plainRefusal is an answer in plain text that speaks of a token or of who asks.
func plainRefusal(r *wire.Response) bool {
	text := strings.ToLower(string(r.Body[:min(len(r.Body), 512)]))
	return r.MediaType() == "text/plain" && (strings.Contains(text, "token") || strings.Contains(text, "unauthori") || strings.Contains(text, "unauthenticated"))
}

// bare is a header's value without its scheme.
func bare(v string) string {
	if i := strings.LastIndexByte(v, ' '); i >= 0 {
		return v[i+1:]
	}
	return v
}

// take makes a piece a leg of a flow.
func (b *builder) take(p *piece) {
	switch p.kind {
	case "":
		b.lead(p)
	case run.Authorization:
		b.authorization(p)
	case run.Landing:
		b.landing(p.params, p, p.x.Started)
	case run.Token:
		b.token(p)
	case run.Discovery, run.Keys:
		b.leg(b.flowFor(p, ""), p)
	case run.Pushed, run.Device, run.Introspection, run.Revocation:
		f := b.flow(p.params.Get("client_id"), string(p.kind), p)
		b.leg(f, p)
	case run.Call, run.Userinfo:
		b.call(p)
	}
}

func (b *builder) flow(client, grant string, p *piece) *Flow {
	f := &Flow{ClientID: client, Grant: grant, origin: origin(p.x.Request.URL)}
	b.Flows = append(b.Flows, f)
	return f
}

// flowFor is a flow of its own for a leg that serves several.
func (b *builder) flowFor(p *piece, grant string) *Flow { return b.flow("", grant, p) }

func (b *builder) leg(f *Flow, p *piece) *run.Leg {
	n := len(b.Legs) + 1
	l := run.Leg{N: n, Kind: p.kind, Method: p.x.Request.Method, URL: p.x.Request.URL, Took: p.x.Timing.Total, At: p.x.Started, Exchange: p.x, Note: fmt.Sprintf("entry %d", p.n)}
	b.Legs, f.Legs = append(b.Legs, l), append(f.Legs, l)
	b.flowOf[n] = f
	return &f.Legs[len(f.Legs)-1]
}

func origin(raw string) string {
	if u, err := url.Parse(raw); err == nil {
		return u.Scheme + "://" + u.Host
	}
	return ""
}

// authorization begins a flow. A redirect that answers it at once is its landing.
func (b *builder) authorization(p *piece) {
	req := readAuthorization(p)
	if old := b.sameRequest(req); old != nil { // the same request again, after a sign-in page
		for i := range old.Legs {
			if old.Legs[i].Kind == run.Authorization {
				old.Legs[i].Exchange, b.Legs[old.Legs[i].N-1].Exchange = p.x, p.x
			}
		}
		b.follow(old, p)
		return
	}
	f := b.flow(req.ClientID, oauth.GrantCode, p)
	f.Evidence.Person = &finding.Person{Request: req, At: p.x.Started}
	f.Evidence.AskedScope = req.Scope
	if req.RedirectURI != "" {
		b.redirect[req.RedirectURI] = true
	}
	b.leg(f, p)
	b.follow(f, p)
}

func (b *builder) sameRequest(r *oauth.AuthorizationRequest) *Flow {
	for _, f := range slices.Backward(b.Flows) {
		if q := person(f); q != nil && q.Response == nil && r.State != "" && q.Request.State == r.State && q.Request.ClientID == r.ClientID && q.Request.Endpoint == r.Endpoint {
			return f
		}
	}
	return nil
}

func person(f *Flow) *finding.Person { return f.Evidence.Person }

// lead looks whether an exchange that is no leg brings the browser to the
// redirect URI, or to the server's own error page.
func (b *builder) lead(p *piece) {
	for _, f := range slices.Backward(b.Flows) {
		if q := person(f); q != nil && q.Response == nil && f.origin == origin(p.x.Request.URL) {
			b.follow(f, p)
			return
		}
	}
}

// follow reads where an answer sends the browser.
func (b *builder) follow(f *Flow, p *piece) {
	if p.x.Response == nil {
		return
	}
	target := p.x.Response.Header.Get("Location")
	if to, err := p.url.Parse(target); target != "" && err == nil {
		v := values(to)
		q := person(f)
		home := q.Request.RedirectURI != "" && sameURL(to.String(), q.Request.RedirectURI)
		switch {
		case home && (v.Has("code") || v.Has("error") || v.Has("access_token")):
			// the browser follows; its request is the landing, when it was recorded
			r := oauth.ReadAuthorizationValues(v, via(to))
			f.Evidence.Person.Foretold = &r
		case v.Has("error") && !home:
			f.Evidence.Person.OwnPage = &oauth.Error{Code: v.Get("error"), Description: first(v, "error_description", "error_hint", "error_debug"), Status: p.status()}
		}
		return
	}
	if v := formPost(p.x.Response.Body); v != nil {
		r := oauth.ReadAuthorizationValues(v, "form_post")
		f.Evidence.Person.Foretold = &r
	}
}

func first(v url.Values, names ...string) string {
	var out []string
	for _, n := range names {
		if x := v.Get(n); x != "" && !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return strings.Join(out, ". ")
}

func via(u *url.URL) string {
	if strings.Contains(u.EscapedFragment(), "=") {
		return "fragment"
	}
	return "query"
}

// values are the parameters of query and fragment.
func values(u *url.URL) url.Values {
	v := url.Values{}
	for _, raw := range []string{u.RawQuery, u.EscapedFragment()} {
		for _, q := range har.FormPairs(raw) {
			v.Add(q.Name, q.Value)
		}
	}
	return v
}

// landing gives the answer that came through the browser to its flow: by state,
// by redirect URI, or as the newest that waits.
func (b *builder) landing(v url.Values, p *piece, at time.Time) {
	r := oauth.ReadAuthorizationValues(v, via(p.url))
	if p.x.Request.Method == "POST" {
		r.Via = "form_post"
	}
	var found *Flow
	for _, match := range []func(q *finding.Person) bool{
		func(q *finding.Person) bool { return r.State != "" && q.Request.State == r.State },
		func(q *finding.Person) bool {
			return q.Request.RedirectURI != "" && sameURL(q.Request.RedirectURI, p.x.Request.URL)
		},
		func(q *finding.Person) bool { return q.Foretold != nil && q.Foretold.Code == r.Code },
	} {
		for _, f := range slices.Backward(b.Flows) {
			if q := person(f); found == nil && q != nil && q.Response == nil && match(q) {
				found = f
			}
		}
	}
	if found == nil {
		if !slices.ContainsFunc([]string{"code", "error", "access_token"}, v.Has) {
			return
		}
		found = b.flow("", oauth.GrantCode, p)
		found.Evidence.Person = &finding.Person{Request: &oauth.AuthorizationRequest{}, Unasked: true, At: at}
	}
	l := b.leg(found, p)
	l.Inbound, l.Answer = true, &r
	b.Legs[l.N-1].Inbound, b.Legs[l.N-1].Answer = true, &r
	found.Evidence.Person.Response, found.Evidence.Person.Landed = &r, at
	b.issue(r.Code, "code")
	if r.AccessToken != "" {
		b.tokens[r.AccessToken] = found
	}
}

// token makes a token request a leg: of the flow whose code it redeems, or of
// its own.
func (b *builder) token(p *piece) {
	form := p.params
	client := form.Get("client_id")
	if id, _, ok := finding.BasicCredentials(p.x.Request.Header.Get("Authorization")); ok && id != "" {
		client = id
	}
	var f *Flow
	if form.Get("grant_type") == oauth.GrantCode || form.Get("grant_type") == "" && form.Has("code") {
		f = b.flowOfCode(form, client)
	}
	if f == nil {
		f = b.flow(client, form.Get("grant_type"), p)
		f.Evidence.AskedScope = strings.Fields(form.Get("scope"))
	}
	if f.ClientID == "" {
		f.ClientID = client
	}
	if old := b.refresh[form.Get("refresh_token")]; old != nil && form.Get("refresh_token") != "" {
		f.Evidence.Granted = old.Evidence.Answer.Scope
		if f.Evidence.Granted == nil {
			f.Evidence.Granted = old.Evidence.AskedScope
		}
		f.Evidence.GivenTo = old.ClientID
	}
	l := b.leg(f, p)
	f.origin = origin(p.x.Request.URL)
	ok := b.answer(f, l)
	for _, kind := range []string{"code", "refresh_token"} {
		if v := form.Get(kind); v != "" {
			b.sent = append(b.sent, sent{kind, mask.Fingerprint(v), client, l.N, p.x.Started, ok})
		}
	}
	for kind, v := range map[string]string{"assertion": first(form, "client_assertion", "assertion"), "dpop": p.x.Request.Header.Get("DPoP")} {
		if v != "" {
			b.sent = append(b.sent, sent{kind, mask.Fingerprint(v), client, l.N, p.x.Started, true})
		}
	}
}

// answer reads a token answer into its flow.
func (b *builder) answer(f *Flow, l *run.Leg) bool {
	r := l.Exchange.Response
	if r == nil {
		return false
	}
	t, err := oauth.ParseTokenResponse(r.Status, r.Header.Get("Content-Type"), r.Body)
	if err != nil {
		return false
	}
	f.Evidence.Answer, f.Evidence.AnsweredAt = t, l.At.Add(l.Took)
	b.issue(t.AccessToken, "access_token")
	b.issue(t.RefreshToken, "refresh_token")
	b.issue(t.IDToken, "id_token")
	b.tokens[t.AccessToken] = f
	if t.IDToken != "" {
		b.tokens[t.IDToken] = f
	}
	if t.RefreshToken != "" {
		b.tokens[t.RefreshToken], b.refresh[t.RefreshToken] = f, f
	}
	return true
}

// issue notes as what a value was given out.
func (b *builder) issue(value, as string) {
	if value != "" && b.issued[value] == "" {
		b.issued[value] = as
	}
}

func (b *builder) flowOfCode(form url.Values, client string) *Flow {
	waiting := func(f *Flow) bool {
		return person(f) != nil && f.Evidence.Answer == nil && !slices.ContainsFunc(f.Legs, func(l run.Leg) bool { return l.Kind == run.Token })
	}
	code, redirect, verifier := form.Get("code"), form.Get("redirect_uri"), form.Get("code_verifier")
	for _, match := range []func(q *finding.Person) bool{
		func(q *finding.Person) bool { return q.Code() != "" && q.Code() == code },
		func(q *finding.Person) bool {
			c := q.Request.CodeChallenge
			return verifier != "" && c != "" && (c == oauth.Challenge(oauth.PKCES256, verifier) || c == verifier)
		},
		func(q *finding.Person) bool {
			return client != "" && q.Request.ClientID == client && redirect != "" && q.Request.RedirectURI == redirect
		},
		func(q *finding.Person) bool { return client != "" && q.Request.ClientID == client },
		func(q *finding.Person) bool { return true },
	} {
		for _, f := range slices.Backward(b.Flows) {
			if waiting(f) && match(person(f)) {
				return f
			}
		}
	}
	return nil
}
