package show

import (
	"strings"

	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/token"
)

// Introspection draws what the server says of a token, and where that differs
// from what the pouch holds.
func (p *Pen) Introspection(i *flow.Introspected) {
	raw := i.Set.AccessToken
	if i.Which == "refresh" {
		raw = i.Set.RefreshToken
	}
	head := p.strong(i.Which+" token") + "  " + p.accent(mask.Fingerprint(raw)) + "   "
	if !i.Answer.Active {
		p.line(head, p.amber(shapeSoon+" not active"))
		p.prose("The server never says why: it has ended, was revoked, or was issued to another client.")
		return
	}
	p.line(head, p.accent(shapeGood), " active")
	members := map[string]any{}
	for n, v := range i.Answer.Members {
		if n != "active" {
			members[n] = v
		}
	}
	p.claims("the server says", members, claimOrder(members), token.Registry)
	if said, ok := members["scope"].(string); ok && len(i.Set.Scope) > 0 {
		if lost, won := oauth.ScopeDifference(i.Set.Scope, strings.Fields(said)); len(lost)+len(won) > 0 {
			p.line()
			p.line("   ", p.amber(shapeSoon+" not the scope of the token answer: lost "+Safe(scopeText(lost))+"; won "+Safe(scopeText(won))))
		}
	}
}

// claimOrder puts the claims people look for first, the rest by name.
func claimOrder(m map[string]any) []string {
	var out []string
	seen := map[string]bool{}
	for _, n := range []string{"iss", "sub", "username", "name", "preferred_username", "client_id", "aud", "scope", "iat", "exp"} {
		if _, there := m[n]; there {
			out, seen[n] = append(out, n), true
		}
	}
	for _, n := range sortedNames(m) {
		if !seen[n] {
			out = append(out, n)
		}
	}
	return out
}

// Userinfo draws what the server says of the person who signed in.
func (p *Pen) Userinfo(u *flow.UserinfoResult) {
	sub, _ := u.Claims["sub"].(string)
	state := p.faint(shapeNote + " no id token to compare with")
	if u.Expected != "" {
		state = p.accent(shapeGood) + " the one who signed in"
	}
	p.line(p.strong(Safe(sub)), "   ", state)
	p.verification(u.Verification)
	p.claims("the server says", u.Claims, claimOrder(u.Claims), token.Registry)
}
