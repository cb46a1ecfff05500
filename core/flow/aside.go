package flow

import (
	"context"
	"net/http"
	"strings"

	"tidycourier/core/fault"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
	"tidycourier/core/wire"
)

// Engine is the engine the session belongs to.
func (s *Session) Engine() *Engine { return s.e }

// Held is the token set that the pouch holds for a client, or nil.
func (e *Engine) Held(client string) *pouch.Set {
	set, err := e.held(e.Key(client))
	if err != nil {
		return nil
	}
	return set
}

// SendOnce sends a request as it is, a leg of the session; no redirect is
// followed and nothing is judged.
func (s *Session) SendOnce(ctx context.Context, r wire.Request, placed, note string) (*run.Leg, error) {
	l, err := s.send(ctx, run.Call, r, placed)
	if err != nil {
		return l, err
	}
	l.Note = note
	s.tell(l)
	return l, nil
}

// Aside gets an access token that is not kept: by client credentials, where no
// person is needed and nothing is spent. scope asks for less than the client's
// own, nil for the same; the pouch's token serves when it has that.
func (s *Session) Aside(ctx context.Context, c *project.Client, scope []string) (string, error) {
	if scope == nil {
		if u, err := s.fromPouch(c); err == nil && u != nil {
			return u.Token, nil
		}
	}
	if c.Grant.Value != oauth.GrantClientCredentials || c.ClientID.Value == "" {
		return "", fault.New(fault.Settings, "the client %q cannot get a token by itself", c.Name).At(c.Where)
	}
	kept := s.Evidence.Secret
	defer func() { s.Evidence.Secret = kept }()
	s.Evidence.Secret = ""
	if err := s.readSecret(ctx, c); err != nil {
		return "", err
	}
	m, err := s.metadata(ctx, c, "token_endpoint")
	if err != nil {
		return "", err
	}
	auth, _, err := s.clientAuth(c, m)
	if err != nil {
		return "", err
	}
	if scope == nil {
		scope = c.Scope.Values
	}
	header, body, err := oauth.TokenRequest{Grant: c.Grant.Value, Auth: auth, Scope: scope, Extra: c.Params("token")}.Encode()
	if err != nil {
		return "", err
	}
	_, basic, _ := strings.Cut(header.Get("Authorization"), " ")
	s.e.Mask.Add(basic)
	l, err := s.send(ctx, run.Token, wire.Request{Method: http.MethodPost, URL: m.TokenEndpoint, Header: header, Body: body}, "")
	if err != nil {
		return "", err
	}
	defer s.tell(l)
	l.Note = "for the drill, not kept"
	r := l.Exchange.Response
	answer, err := oauth.ParseTokenResponse(r.Status, r.Header.Get("Content-Type"), r.Body)
	if err != nil {
		return "", err
	}
	s.e.Mask.Add(answer.AccessToken)
	return answer.AccessToken, nil
}

// PublicKey is the PEM of the issuer's key that signed a token, or nil when it
// is not to be had.
func (s *Session) PublicKey(ctx context.Context, c *project.Client, raw string) []byte {
	t, err := token.Decode(raw)
	if err != nil || t.Form != token.JWT {
		return nil
	}
	m, err := s.metadata(ctx, c, "jwks_uri")
	if err != nil {
		return nil
	}
	keys, err := s.KeysAt(ctx, m.JWKSURI, t.KeyID())
	if err != nil {
		return nil
	}
	return keys.PEM(t.KeyID())
}
