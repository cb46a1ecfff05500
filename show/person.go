package show

import (
	"maps"
	"slices"
	"strings"

	"tidycourier/core/flow"
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
	for _, n := range sortedNames(g.Header) {
		p.line("   ", p.accent(n+":"), " ", Safe(g.Header[n]))
	}
}

func sortedNames[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

func scopeText(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, " ")
}
