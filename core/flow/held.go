package flow

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
	"tidycourier/core/wire"
)

// heldSet is the client's token set, or an error that says how to get one.
func (s *Session) heldSet(c *project.Client) (*pouch.Set, error) {
	set, err := s.e.held(s.e.Key(c.Name))
	if err == nil && set == nil {
		err = fault.New(fault.Settings, "the pouch holds no token for %q", c.Name).At(c.Where).Hint("tidy-courier obtain %s", c.Name)
	}
	return set, err
}

// Introspected is what the server says of a token (RFC 7662).
type Introspected struct {
	Which  string // access or refresh
	Answer *oauth.Introspection
	Set    *pouch.Set
}

// Introspect asks the server about a token in the pouch. That a token is not
// active is an answer, not an error.
func (s *Session) Introspect(ctx context.Context, c *project.Client, which string) (*Introspected, error) {
	set, raw, hint, err := s.tokenHeld(c, which)
	if err != nil {
		return nil, err
	}
	l, err := s.ask(ctx, c, "introspection_endpoint", run.Introspection, oauth.HeldRequest{Token: raw, Hint: hint})
	if err != nil {
		return nil, err
	}
	defer s.tell(l)
	r := l.Exchange.Response
	answer, err := oauth.ParseIntrospection(r.Status, r.Header.Get("Content-Type"), r.Body)
	if err != nil {
		return nil, refusedBy("introspection", err, r.Status)
	}
	l.Note = "active"
	if !answer.Active {
		l.Note = "not active"
	}
	return &Introspected{which, answer, set}, nil
}

// tokenHeld is one token of the client's set.
func (s *Session) tokenHeld(c *project.Client, which string) (set *pouch.Set, raw, hint string, err error) {
	s.about(c)
	if err := checkID(c); err != nil {
		return nil, "", "", err
	}
	if set, err = s.heldSet(c); err != nil {
		return nil, "", "", err
	}
	switch which {
	case "access":
		raw, hint = set.AccessToken, oauth.HintAccess
	case "refresh":
		raw, hint = set.RefreshToken, oauth.HintRefresh
	default:
		return nil, "", "", fault.New(fault.Usage, "%q is neither access nor refresh", which).At("--which")
	}
	if raw == "" {
		return nil, "", "", fault.New(fault.Settings, "the token set of %q has no %s token", c.Name, which).At(c.Where).Hint("tidy-courier obtain %s", c.Name)
	}
	return set, raw, hint, nil
}

// ask sends a request about a held token, with client authentication.
func (s *Session) ask(ctx context.Context, c *project.Client, endpoint string, kind run.Kind, r oauth.HeldRequest) (*run.Leg, error) {
	if err := s.readSecret(ctx, c); err != nil {
		return nil, err
	}
	if s.e.OnStart != nil {
		s.e.OnStart(s.Run)
	}
	m, err := s.metadata(ctx, c, endpoint)
	if err != nil {
		return nil, err
	}
	if r.Auth, _, err = s.clientAuth(c, m); err != nil {
		return nil, err
	}
	header, body, err := r.Encode()
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the request cannot be made").At(c.AuthMethod.Where)
	}
	_, basic, _ := strings.Cut(header.Get("Authorization"), " ")
	s.e.Mask.Add(r.Token, basic)
	return s.send(ctx, kind, wire.Request{Method: http.MethodPost, URL: m.Endpoint(endpoint), Header: header, Body: body}, "")
}

// refusedBy turns an endpoint's refusal into an error.
func refusedBy(endpoint string, err error, status int) error {
	f := fault.New(fault.Authorization, "the %s endpoint did not answer as it should: %s", endpoint, err.Error())
	f.Status, f.Cause = status, err
	var o *oauth.Error
	if errors.As(err, &o) {
		f.Message = "the " + endpoint + " endpoint refused: " + o.Error()
		f.Code, f.Description = o.Code, o.Description
	}
	return f
}

// Revoked is what was ended (RFC 7009).
type Revoked struct {
	Kinds []string // refresh, access
	Left  string   // what the pouch still holds of the set, or ""
}

// Revoke ends tokens at the server, and the pouch forgets what was ended. The
// refresh token goes first: ending it ends what came from it at most servers
// (RFC 7009 2.1). which is access, refresh or both.
func (s *Session) Revoke(ctx context.Context, c *project.Client, which string) (*Revoked, error) {
	s.about(c)
	if err := checkID(c); err != nil {
		return nil, err
	}
	kinds, known := map[string][]string{"both": {"refresh", "access"}, "access": {"access"}, "refresh": {"refresh"}}[which]
	if !known {
		return nil, fault.New(fault.Usage, "%q is not one of access, refresh, both", which).At("--which")
	}
	release, err := s.e.Store.Lock(ctx, lockName(s.e.Key(c.Name)))
	if err != nil {
		return nil, err
	}
	defer release()
	set, err := s.heldSet(c)
	if err != nil {
		return nil, err
	}
	out := &Revoked{Kinds: []string{}}
	for _, kind := range kinds {
		raw, hint := set.AccessToken, oauth.HintAccess
		if kind == "refresh" {
			raw, hint = set.RefreshToken, oauth.HintRefresh
		}
		if raw == "" {
			continue
		}
		if err := s.revokeOne(ctx, c, kind, oauth.HeldRequest{Token: raw, Hint: hint}); err != nil {
			return out, err
		}
		out.Kinds = append(out.Kinds, kind)
		if err := s.forget(c, set, kind); err != nil {
			return out, err
		}
	}
	if len(out.Kinds) == 0 {
		return nil, fault.New(fault.Settings, "the token set of %q has no %s token", c.Name, which).At(c.Where)
	}
	switch {
	case set.AccessToken != "":
		out.Left = "access token"
	case set.RefreshToken != "":
		out.Left = "refresh token"
	}
	return out, nil
}

func (s *Session) revokeOne(ctx context.Context, c *project.Client, kind string, r oauth.HeldRequest) error {
	l, err := s.ask(ctx, c, "revocation_endpoint", run.Revocation, r)
	if err != nil {
		return err
	}
	defer s.tell(l)
	answer := l.Exchange.Response
	if err := oauth.ParseRevocation(answer.Status, answer.Header.Get("Content-Type"), answer.Body); err != nil {
		return refusedBy("revocation", err, answer.Status)
	}
	l.Note = kind + " token revoked"
	return nil
}

// forget takes a revoked token out of the pouch at once, before the next one is
// tried: what is dead must not be used.
func (s *Session) forget(c *project.Client, set *pouch.Set, kind string) error {
	p, err := s.e.Store.Pouch()
	if err != nil {
		return err
	}
	if kind == "refresh" {
		set.RefreshToken = ""
	} else {
		set.AccessToken, set.ExpiresAt = "", time.Time{}
	}
	if set.AccessToken == "" && set.RefreshToken == "" {
		return p.Drop(s.e.Key(c.Name))
	}
	return p.Replace(s.e.Key(c.Name), set)
}

// UserinfoResult is what the server says of the person who signed in.
type UserinfoResult struct {
	Claims       map[string]any
	Order        []string
	Verification *token.Verification // of a signed answer
	Expected     string              // sub of the id token, or ""
}

// Userinfo asks the userinfo endpoint (OpenID Connect Core 5.3). Its sub must be
// that of the id token, or the answer is not about the person who signed in
// (5.3.4).
func (s *Session) Userinfo(ctx context.Context, c *project.Client) (*UserinfoResult, error) {
	used, err := s.TokenFor(ctx, c)
	if err != nil {
		return nil, err
	}
	if s.e.OnStart != nil {
		s.e.OnStart(s.Run)
	}
	m, err := s.metadata(ctx, c, "userinfo_endpoint")
	if err != nil {
		return nil, err
	}
	s.e.Mask.Add(used.Token)
	s.Evidence.Access = used.Token
	header := http.Header{"Accept": {"application/json, application/jwt"}, "Authorization": {"Bearer " + used.Token}}
	l, err := s.send(ctx, run.Userinfo, wire.Request{Method: http.MethodGet, URL: m.UserinfoEndpoint, Header: header}, "")
	if err != nil {
		return nil, err
	}
	defer s.tell(l)
	r := l.Exchange.Response
	if r.Status >= 400 {
		return nil, fault.New(fault.API, "the userinfo endpoint refused: %s", statusText(r.Status))
	}
	info, err := oauth.ParseUserinfo(r.Status, r.Header.Get("Content-Type"), r.Body)
	if err != nil {
		return nil, refusedBy("userinfo", err, r.Status)
	}
	out, err := s.readUserinfo(ctx, c, m, info)
	if err != nil {
		return out, err
	}
	return out, s.checkSubject(out, used.Set)
}

// readUserinfo reads a JSON answer, or a signed one after verifying it.
func (s *Session) readUserinfo(ctx context.Context, c *project.Client, m *oauth.Metadata, info *oauth.Userinfo) (*UserinfoResult, error) {
	if info.JWT == "" {
		names := make([]string, 0, len(info.Claims))
		for n := range info.Claims {
			names = append(names, n)
		}
		slices.Sort(names)
		return &UserinfoResult{Claims: info.Claims, Order: names}, nil
	}
	t, err := token.Decode(info.JWT)
	if err != nil || t.Claims == nil {
		return nil, fault.New(fault.Authorization, "the userinfo endpoint answered with a token that cannot be read").Hint("an encrypted answer is opened with: decode --key FILE")
	}
	out := &UserinfoResult{Claims: t.Claims, Order: t.ClaimOrder}
	if m.JWKSURI == "" {
		return out, fault.New(fault.Authorization, "the userinfo answer is signed, and the server names no jwks_uri to verify it with")
	}
	keys, err := s.KeysAt(ctx, m.JWKSURI, t.KeyID())
	if err != nil {
		return out, err
	}
	v := token.NewVerifier(keys).Verify(t, token.Expect{Now: s.e.Now(), Issuer: m.Issuer, Audience: []string{c.ClientID.Value}})
	out.Verification = &v
	if v.Signature.Outcome == token.Fail {
		return out, fault.New(fault.Authorization, "the signed userinfo answer is not accepted: %s", v.Signature.Reason)
	}
	return out, nil
}

func (s *Session) checkSubject(out *UserinfoResult, set *pouch.Set) error {
	got, _ := out.Claims["sub"].(string)
	if got == "" {
		return fault.New(fault.Authorization, "the userinfo answer has no sub, which it must have (OpenID Connect Core 5.3.2)")
	}
	if set == nil || set.IDToken == "" {
		return nil
	}
	if t, err := token.Decode(set.IDToken); err == nil {
		out.Expected = t.Text("sub")
	}
	s.Evidence.UserinfoSub, s.Evidence.IDTokenSub = got, out.Expected
	if out.Expected != "" && got != out.Expected {
		return fault.New(fault.Authorization, "the userinfo answer is about %q, and %q signed in: it must not be used", got, out.Expected)
	}
	return nil
}

// Logout makes the URL that ends the person's session at the server (OpenID
// Connect RP-Initiated Logout). back is where the browser returns, or "".
func (s *Session) Logout(ctx context.Context, c *project.Client, back, state string) (string, error) {
	s.about(c)
	m, err := s.metadata(ctx, c, "end_session_endpoint")
	if err != nil {
		return "", err
	}
	r := oauth.LogoutRequest{Endpoint: m.EndSessionEndpoint, ClientID: c.ClientID.Value, RedirectURI: back, State: state}
	set, err := s.e.held(s.e.Key(c.Name))
	if err != nil {
		return "", err
	}
	if set != nil {
		r.IDTokenHint = set.IDToken
	}
	url, err := r.URL()
	if err != nil {
		return "", fault.Wrap(fault.Authorization, err, "the logout URL cannot be made")
	}
	return url, nil
}
