package drill

import (
	"context"
	"slices"

	"tidycourier/core/flow"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/token"
)

// gather looks together what the variants are made of: from the pouch, from the
// issuer's keys, and by grants that need no person.
func gather(ctx context.Context, s *flow.Session, p *flow.CallPlan, used *flow.Used) (Material, error) {
	e := s.Engine()
	m := Material{Token: used.Token, Header: p.Placement.Header, Expired: e.Expired(p.Client)}
	c, err := e.Project.Client(p.Client)
	if err != nil {
		return m, err
	}
	m.PublicKey = s.PublicKey(ctx, c, used.Token)
	need := scopeNeeded(p)
	for _, name := range e.Project.Names("clients") {
		other, err := e.Project.Client(name)
		if err != nil || other.Server.Name != c.Server.Name {
			continue
		}
		set := e.Held(name)
		if set != nil && m.IDToken == "" {
			m.IDToken = set.IDToken
		}
		if set != nil && m.Refresh == "" {
			m.Refresh = set.RefreshToken
		}
		if m.Other == "" && name != p.Client {
			if raw := otherToken(ctx, s, other, p, need); raw != "" {
				m.Other, m.OtherName = raw, name
			}
		}
	}
	m.Narrow = narrower(ctx, s, c, need)
	return m, ctx.Err()
}

// scopeNeeded is the scope that the call says it needs.
func scopeNeeded(p *flow.CallPlan) []string {
	if p.Saved != nil && len(p.Saved.Needs.Scope.Values) > 0 {
		return p.Saved.Needs.Scope.Values
	}
	if p.API != nil {
		return p.API.Needs.Scope.Values
	}
	return nil
}

// otherToken is another client's token when it lacks what the call needs:
// audience or scope. A token that carries both may well be accepted.
func otherToken(ctx context.Context, s *flow.Session, c *project.Client, p *flow.CallPlan, need []string) string {
	used, err := s.Aside(ctx, c, nil)
	if err != nil {
		return ""
	}
	t, err := token.Decode(used)
	if err != nil || t.Form != token.JWT {
		return ""
	}
	if p.API != nil && p.API.Needs.Audience.Value != "" && len(t.Audience()) > 0 && !slices.Contains(t.Audience(), p.API.Needs.Audience.Value) {
		return used
	}
	if lacking, _ := oauth.ScopeDifference(need, append(t.Scope(), t.Roles()...)); len(lacking) > 0 {
		return used
	}
	return ""
}

// narrower is the client's own token without the scope the call needs, where the
// grant needs no person and the client has other scope to ask for.
func narrower(ctx context.Context, s *flow.Session, c *project.Client, need []string) string {
	var rest []string
	for _, sc := range c.Scope.Values {
		if !slices.Contains(need, sc) {
			rest = append(rest, sc)
		}
	}
	if len(need) == 0 || len(rest) == 0 {
		return ""
	}
	raw, err := s.Aside(ctx, c, rest)
	if err != nil {
		return ""
	}
	if t, err := token.Decode(raw); err == nil && t.Form == token.JWT {
		if lacking, _ := oauth.ScopeDifference(need, t.Scope()); len(lacking) == 0 {
			return "" // the server gave more than was asked
		}
	}
	return raw
}
