package flow

import (
	"fmt"
	"slices"
	"strings"

	"tidycourier/core/fault"
	"tidycourier/core/project"
	"tidycourier/core/token"
)

// checkIDToken is OpenID Connect Core 3.1.3.7 without the signature, which is
// not checked here: the token came straight from the token endpoint.
func (s *Session) checkIDToken(c *project.Client, raw, access string) error {
	if raw == "" {
		return nil
	}
	no := func(format string, args ...any) error {
		s.Evidence.IDTokenFault = fmt.Sprintf(format, args...)
		return fault.New(fault.Authorization, "the id token is not accepted: %s", s.Evidence.IDTokenFault)
	}
	t, err := token.Decode(raw)
	if err != nil || t.Form == token.Opaque {
		return no("it cannot be read")
	}
	if t.Form == token.JWE {
		return nil // encrypted for the client: its content cannot be checked here
	}
	if !slices.Contains(t.Audience(), c.ClientID.Value) {
		return no("it is for %q, not for this client", strings.Join(t.Audience(), " "))
	}
	if exp, ok := t.Time("exp"); !ok || s.e.Now().After(exp.Add(token.Leeway)) {
		return no("it has expired, or carries no exp")
	}
	if p := s.Evidence.Person; p != nil && p.Request != nil && p.Request.Nonce != "" && t.Text("nonce") != p.Request.Nonce {
		return no("its nonce is not the one that was sent")
	}
	if h := t.Text("at_hash"); h != "" && access != "" && h != token.AccessHash(t.Alg(), access) {
		return no("its at_hash does not fit the access token")
	}
	return nil
}
