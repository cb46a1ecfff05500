package flow

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
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

type clientSettings = *project.Client

// Obtained is the result of a grant.
type Obtained struct {
	Set      *pouch.Set
	Previous *pouch.Set // the set it replaced, or nil
	Chosen   string     // client authentication that was chosen for want of a setting, and why
}

// Obtain runs a client's grant and puts the token set in the pouch. The run is
// in the Session; Finish still has to be called.
func (s *Session) Obtain(ctx context.Context, c *project.Client) (*Obtained, error) {
	s.about(c)
	if err := checkClient(c); err != nil {
		return nil, err
	}
	if c.Grant.Value == oauth.GrantRefresh {
		r, err := s.Refresh(ctx, c)
		if err != nil {
			return nil, err
		}
		return &Obtained{Set: r.After, Previous: r.Before}, nil
	}
	if s.e.OnStart != nil {
		s.e.OnStart(s.Run)
	}
	if err := s.readSecret(ctx, c); err != nil { // before anything is sent
		return nil, err
	}
	password, err := s.readPassword(ctx, c)
	if err != nil {
		return nil, err
	}
	m, err := s.metadata(ctx, c, "token_endpoint")
	if err != nil {
		return nil, err
	}
	req, chosen, err := s.tokenRequest(c, m, password)
	if err != nil {
		return nil, err
	}
	out, err := s.redeem(ctx, c, m, req)
	if out != nil {
		out.Chosen = chosen
	}
	return out, err
}

// about notes whose run it is.
func (s *Session) about(c *project.Client) {
	s.Run.Client, s.Run.Server, s.Run.Grant = c.Name, c.Server.Name, c.Grant.Value
	s.Evidence.Client, s.Evidence.AskedScope = c, c.Scope.Values
}

// checkClient makes sure that the client can run its grant at all.
func checkClient(c *project.Client) error {
	if err := checkID(c); err != nil {
		return err
	}
	switch c.Grant.Value {
	case "":
		return fault.New(fault.Settings, "the client %q does not say which grant it uses", c.Name).At(c.Where).
			Hint("add grant: with one of %s; without a courier file --grant", strings.Join(project.Grants, ", "))
	case oauth.GrantPassword:
		if c.Username.Value == "" || c.Password == nil {
			return fault.New(fault.Settings, "the client %q uses the password grant and has no username, or no password", c.Name).At(c.Where).
				Hint("add username: and password: { env: NAME }; without a courier file --username and --password-env")
		}
	case oauth.GrantRefresh:
		if c.RefreshToken == nil {
			return fault.New(fault.Settings, "the client %q holds only a refresh token, and has none", c.Name).At(c.Where).
				Hint("add refresh_token: { env: NAME }; without a courier file --refresh-token-env")
		}
	}
	return nil
}

func checkID(c *project.Client) error {
	if c.ClientID.Value == "" {
		return fault.New(fault.Settings, "the client %q has no client_id", c.Name).At(c.Where).Hint("add client_id: with what the provider gave at registration; without a courier file --client-id")
	}
	return nil
}

// tokenRequest prepares the message of a grant without a person.
func (s *Session) tokenRequest(c *project.Client, m *oauth.Metadata, password string) (oauth.TokenRequest, string, error) {
	auth, chosen, err := s.clientAuth(c, m)
	if err != nil {
		return oauth.TokenRequest{}, "", err
	}
	return oauth.TokenRequest{Grant: c.Grant.Value, Auth: auth, Scope: c.Scope.Values, Username: c.Username.Value, Password: password, Extra: c.Params("token")}, chosen, nil
}

// readPassword reads the person's password for the password grant.
func (s *Session) readPassword(ctx context.Context, c *project.Client) (string, error) {
	if c.Grant.Value != oauth.GrantPassword {
		return "", nil
	}
	v, err := s.e.Project.Read(ctx, c.Password, s.e.Ask)
	s.e.Mask.AddPassword(v)
	s.Evidence.Password = v
	return v, err
}

// readSecret reads the client secret, when the client has one to use.
func (s *Session) readSecret(ctx context.Context, c *project.Client) error {
	if c.Secret == nil || c.AuthMethod.Value == oauth.NoAuth {
		return nil
	}
	secret, err := s.e.Project.Read(ctx, c.Secret, s.e.Ask)
	if err != nil {
		return err
	}
	s.e.Mask.Add(secret)
	s.Evidence.Secret = secret
	return nil
}

// clientAuth settles how the client authenticates.
func (s *Session) clientAuth(c *project.Client, m *oauth.Metadata) (oauth.ClientAuth, string, error) {
	auth := oauth.ClientAuth{Method: c.AuthMethod.Value, ID: c.ClientID.Value, Secret: s.Evidence.Secret}
	chosen := ""
	if auth.Method == "" {
		var reason string
		auth.Method, reason = oauth.ChooseAuthMethod(c.Secret != nil, m)
		chosen = choiceNote(auth.Method, reason)
	}
	if auth.Method != oauth.NoAuth && c.Secret == nil {
		return auth, chosen, fault.New(fault.Settings, "the client %q authenticates with %s and has no client_secret", c.Name, auth.Method).At(c.Where).
			Hint("add client_secret: { env: NAME }; without a courier file --secret-env NAME")
	}
	return auth, chosen, nil
}

// redeem sends a token request and keeps what comes. The token set is on disk
// before anybody is told of the leg.
func (s *Session) redeem(ctx context.Context, c *project.Client, m *oauth.Metadata, req oauth.TokenRequest) (*Obtained, error) {
	header, body, err := req.Encode()
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the token request cannot be made").At(c.AuthMethod.Where)
	}
	_, basic, _ := strings.Cut(header.Get("Authorization"), " ")
	s.e.Mask.Add(req.Code, req.CodeVerifier, req.RefreshToken, basic)
	s.e.Mask.AddPassword(req.Password)
	l, err := s.send(ctx, run.Token, wire.Request{Method: http.MethodPost, URL: m.TokenEndpoint, Header: header, Body: body}, "")
	if err != nil {
		return nil, err
	}
	defer s.tell(l)
	s.spent(req)
	r := l.Exchange.Response
	answer, err := oauth.ParseTokenResponse(r.Status, r.Header.Get("Content-Type"), r.Body)
	if err != nil {
		return nil, refusal(err, r.Status)
	}
	s.e.Mask.Add(answer.AccessToken, answer.RefreshToken, answer.IDToken)
	s.Evidence.Answer = answer
	if err := s.checkIDToken(c, answer.IDToken, answer.AccessToken); err != nil {
		return nil, err
	}
	return s.keep(c, answer)
}

// refusal turns an answer that gave no token into an error.
func refusal(err error, status int) error {
	f := fault.New(fault.Authorization, "the token endpoint refused: %s", err.Error())
	f.Status, f.Cause = status, err
	var o *oauth.Error
	if errors.As(err, &o) {
		f.Code, f.Description = o.Code, o.Description
	} else {
		f.Message = "the token endpoint did not answer as it should: " + err.Error()
	}
	return f
}

// keep puts a token answer into the pouch.
func (s *Session) keep(c *project.Client, a *oauth.TokenResponse) (*Obtained, error) {
	set := &pouch.Set{Server: c.Server.Name, Grant: c.Grant.Value, TokenType: a.TokenType, AccessToken: a.AccessToken,
		RefreshToken: a.RefreshToken, IDToken: a.IDToken, Scope: a.Scope, Asked: c.Scope.Values, ExpiresIn: a.ExpiresIn,
		ObtainedAt: s.e.Now().UTC(), Basis: Basis(c)}
	if old := s.Evidence.RefreshOf; old != nil { // RFC 6749 6: what is not said stays as it was
		if set.RefreshToken == "" {
			set.RefreshToken = old.RefreshToken
		}
		if set.IDToken == "" {
			set.IDToken = old.IDToken
		}
		if set.Scope == nil {
			set.Scope = old.Scope
		}
	}
	if set.Scope == nil {
		set.Scope = c.Scope.Values // RFC 6749 5.1: not said means as asked
	}
	set.Settle()
	p, err := s.e.Store.Pouch()
	if err != nil {
		return nil, err
	}
	previous, err := p.Get(s.e.Key(c.Name))
	if err != nil && !errors.Is(err, pouch.ErrNone) {
		return nil, err
	}
	s.Evidence.First = previous == nil
	if err := p.Put(s.e.Key(c.Name), set); err != nil {
		return nil, err
	}
	s.e.Recent.put(s.e.Key(c.Name), set)
	s.Run.Token = View(set)
	return &Obtained{Set: set, Previous: previous}, nil
}

// View is a token set as it may be shown.
func View(set *pouch.Set) *run.TokenView {
	v := &run.TokenView{TokenType: set.TokenType, ExpiresIn: set.ExpiresIn, Scope: set.Scope,
		Access: run.Detail(set.AccessToken), Refresh: run.Detail(set.RefreshToken), ID: run.Detail(set.IDToken)}
	if !set.ExpiresAt.IsZero() {
		at := set.ExpiresAt.UTC().Truncate(time.Second)
		v.ExpiresAt = &at
	}
	if v.Scope == nil {
		v.Scope = []string{}
	}
	return v
}

// Basis is what a token was asked with, as two hashes: by whom and where, and
// for what. A set with another basis belongs to other settings.
func Basis(c *project.Client) string {
	who := []string{c.ClientID.Value, c.Server.Issuer.Value, c.Server.Given()["token_endpoint"], c.Grant.Value, c.Username.Value}
	what := slices.Sorted(slices.Values(c.Scope.Values))
	for _, leg := range []string{"authorization", "token"} {
		for _, p := range c.Params(leg) {
			what = append(what, leg+"."+p.Name+"="+p.Value)
		}
	}
	return hash(who) + "." + hash(what)
}

func hash(parts []string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return hex.EncodeToString(sum[:8])
}

// fits reports whether a set can serve the client's present settings. Where a
// person signed in, what they agreed to that day is kept until they sign in
// again; a job simply asks anew.
func fits(set *pouch.Set, c *project.Client) bool {
	now := Basis(c)
	if c.Grant.Value == oauth.GrantCode {
		before, _, _ := strings.Cut(set.Basis, ".")
		who, _, _ := strings.Cut(now, ".")
		return before == who
	}
	return set.Basis == now
}

// Used is the token a call is sent with.
type Used struct {
	Client    string
	Token     string
	Set       *pouch.Set // nil for a token from elsewhere
	Refreshed bool       // obtained or refreshed for this call
}

// Age is how long ago the token was obtained.
func (u *Used) Age(now time.Time) time.Duration {
	if u.Set == nil {
		return 0
	}
	return now.Sub(u.Set.ObtainedAt)
}

// TokenFor gives a client's access token: the one in the pouch while it is
// fresh, else a new one when no person is needed. One process at a time gets a
// new one; the others wait and use it.
func (s *Session) TokenFor(ctx context.Context, c *project.Client) (*Used, error) {
	s.about(c)
	if u, err := s.fromPouch(c); u != nil || err != nil {
		return u, err
	}
	if err := checkClient(c); err != nil {
		return nil, err
	}
	release, err := s.e.Store.Lock(ctx, lockName(s.e.Key(c.Name)))
	if err != nil {
		return nil, err
	}
	defer release()
	if u, err := s.fromPouch(c); u != nil || err != nil {
		return u, err
	}
	return s.renew(ctx, c)
}

// Renew gets a new token in place of one that an API refused. When another call
// or process has got one meanwhile, that one is used. Nil without error means
// that only a person could.
func (s *Session) Renew(ctx context.Context, c *project.Client, refused string) (*Used, error) {
	release, err := s.e.Store.Lock(ctx, lockName(s.e.Key(c.Name)))
	if err != nil {
		return nil, err
	}
	defer release()
	s.e.Recent.forget(s.e.Key(c.Name))
	u, err := s.fromPouch(c)
	if err != nil || u != nil && u.Token != refused {
		return u, err
	}
	if c.Grant.Value == oauth.GrantCode && (u == nil || u.Set.RefreshToken == "") {
		return nil, nil
	}
	return s.renew(ctx, c)
}

// renew gets a new token: by refresh where there is a refresh token, else by
// the grant when it needs no person. The client's lock is held.
func (s *Session) renew(ctx context.Context, c *project.Client) (*Used, error) {
	before, err := s.e.held(s.e.Key(c.Name))
	if err != nil {
		return nil, err
	}
	if before != nil && !fits(before, c) {
		before = nil
	}
	if before != nil && before.RefreshToken != "" || c.Grant.Value == oauth.GrantRefresh {
		r, err := s.refreshNow(ctx, c, before)
		if err == nil {
			return &Used{Client: c.Name, Token: r.After.AccessToken, Set: r.After, Refreshed: true}, nil
		}
		if c.Grant.Value != oauth.GrantPassword || fault.As(err).Code != oauth.ErrInvalidGrant {
			return nil, err
		}
		s.Evidence.RefreshOf = nil // its refresh token has ended, and no person is needed to begin anew
	}
	if c.Grant.Value == oauth.GrantCode {
		f := fault.New(fault.Settings, "the pouch holds no usable token for %q, and a person has to sign in to get one", c.Name).At(c.Where)
		return nil, f.Hint("tidy-courier obtain %s", c.Name)
	}
	got, err := s.Obtain(ctx, c)
	if err != nil {
		return nil, err
	}
	return &Used{Client: c.Name, Token: got.Set.AccessToken, Set: got.Set, Refreshed: true}, nil
}

func lockName(k pouch.Key) string {
	sum := sha256.Sum256([]byte(k.Project + "\x00" + k.Stage + "\x00" + k.Client))
	return hex.EncodeToString(sum[:8])
}

func (s *Session) fromPouch(c *project.Client) (*Used, error) {
	if set := s.e.Recent.get(s.e.Key(c.Name)); set != nil && fits(set, c) && set.Fresh(s.e.Now()) {
		return &Used{Client: c.Name, Token: set.AccessToken, Set: set}, nil
	}
	set, err := s.e.held(s.e.Key(c.Name))
	if err != nil || set == nil || !fits(set, c) || !set.Fresh(s.e.Now()) {
		return nil, err
	}
	s.e.Recent.put(s.e.Key(c.Name), set)
	return &Used{Client: c.Name, Token: set.AccessToken, Set: set}, nil
}

// Subject names whom a token stands for, when it says so: the sub claim.
func Subject(raw string) string {
	t, err := token.Decode(raw)
	if err != nil {
		return ""
	}
	return t.Text("sub")
}

// Peek is the access token that the pouch holds for a client, or "". Nothing is
// sent.
func (e *Engine) Peek(client string) string {
	set, err := e.held(e.Key(client))
	if err != nil || set == nil {
		return ""
	}
	return set.AccessToken
}
