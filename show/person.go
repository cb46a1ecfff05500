package show

import (
	"slices"
	"strings"
	"time"

	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/token"
)

// Plan draws a grant's first request: the URL whole, so that it can be copied,
// and every parameter on its own line with its source.
func (p *Pen) Plan(g *flow.GrantPlan) {
	p.line(p.strong(g.Leg), "   ", g.Method)
	p.line(Safe(g.URL))
	p.line()
	name, value := 0, 0
	for _, x := range g.Params {
		name, value = max(name, len(x.Name)), max(value, len(x.Value))
	}
	value = min(value, max(24, p.width()-name-34))
	for _, x := range g.Params {
		lines := wrapValue(Safe(x.Value), value)
		p.line("   ", p.accent(pad(Safe(x.Name), name)), "  ", pad(lines[0], value), "  ", p.faint(Safe(x.Where)))
		for _, more := range lines[1:] {
			p.line("   ", strings.Repeat(" ", name), "  ", more)
		}
	}
	for _, n := range sortedKeys(g.Header) {
		p.line("   ", p.accent(n+":"), " ", Safe(g.Header[n]))
	}
}

func sortedKeys(m map[string]string) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// SideBySide draws two token sets, the old one and the one that replaced it.
func (p *Pen) SideBySide(before, after *pouch.Set) {
	rows := [][]string{{"", p.faint("before"), p.faint("after"), ""}}
	row := func(name, a, b string) {
		mark := p.accent("changed")
		if a == b {
			b, mark = p.faint("the same"), ""
		}
		rows = append(rows, []string{name, a, b, mark})
	}
	print := func(raw string) string {
		if raw == "" {
			return "none"
		}
		return mask.Fingerprint(raw)
	}
	row("access token", print(before.AccessToken), print(after.AccessToken))
	row("refresh token", print(before.RefreshToken), print(after.RefreshToken))
	row("id token", print(before.IDToken), print(after.IDToken))
	row("lifetime", life(before), life(after))
	row("until", p.when(before.ExpiresAt), p.when(after.ExpiresAt))
	row("scope", Safe(scopeText(before.Scope)), Safe(scopeText(after.Scope)))
	for _, c := range changedClaims(before.AccessToken, after.AccessToken) {
		row("claim "+Safe(c.name), Safe(c.before), Safe(c.after))
	}
	p.line()
	p.table("   ", rows)
	if lost, won := oauth.ScopeDifference(before.Scope, after.Scope); len(lost)+len(won) > 0 {
		p.line("   ", p.amber(shapeSoon+" scope lost: "+Safe(scopeText(lost))+"; won: "+Safe(scopeText(won))))
	}
}

func scopeText(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, " ")
}

func life(s *pouch.Set) string {
	if s.Lifetime() == 0 {
		return "not known"
	}
	return Duration(s.Lifetime())
}

func (p *Pen) when(at time.Time) string {
	if at.IsZero() {
		return "not known"
	}
	return p.clock(at) + " (" + p.relative(at) + ")"
}

type claimChange struct{ name, before, after string }

// changedClaims lists the claims that differ, but for those that always do.
func changedClaims(before, after string) []claimChange {
	a, err1 := token.Decode(before)
	b, err2 := token.Decode(after)
	if err1 != nil || err2 != nil {
		return nil
	}
	always := []string{"iat", "exp", "nbf", "jti"}
	var out []claimChange
	seen := map[string]bool{}
	for _, name := range append(slices.Clone(a.ClaimOrder), b.ClaimOrder...) {
		x, y := claimOr(a.Claims, name), claimOr(b.Claims, name)
		if !seen[name] && x != y && !slices.Contains(always, name) {
			out = append(out, claimChange{name, x, y})
		}
		seen[name] = true
	}
	return out
}

func claimOr(claims map[string]any, name string) string {
	v, there := claims[name]
	if !there {
		return "absent"
	}
	if s, ok := v.(string); ok {
		return s
	}
	return compact(v)
}
