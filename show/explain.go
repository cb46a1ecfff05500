package show

import (
	"fmt"
	"slices"
	"strings"

	"tidycourier/core/finding"
	"tidycourier/core/run"
)

// ExplainView is the document of explain --json: the causes, and apart from
// them what is only worth knowing.
type ExplainView struct {
	Run      int64         `json:"run,omitempty"`
	Source   string        `json:"source,omitempty"`
	Findings []run.Finding `json:"findings"`
	Notes    []run.Finding `json:"notes"`
}

// NewExplainView divides findings into causes, with what deviates from the
// standards, and mere advice.
func NewExplainView(n int64, source string, list []run.Finding) ExplainView {
	v := ExplainView{Run: n, Source: source, Findings: []run.Finding{}, Notes: []run.Finding{}}
	for _, f := range list {
		if f.Note && !f.Odd {
			v.Notes = append(v.Notes, f)
			continue
		}
		v.Findings = append(v.Findings, f)
	}
	return v
}

// Explained draws a run or a record with its findings: the legs that have one,
// and where there are few, all of them.
func (p *Pen) Explained(r *run.Record, source string) {
	p.line(p.strong(Safe(source)))
	if r.Client != "" {
		p.line(p.faint("client "+Safe(r.Client)), p.faint(orNothing("   server ", Safe(r.Server))))
	}
	const few = 12
	skipped := 0
	for _, l := range r.Legs {
		spoken := slices.ContainsFunc(r.Findings, func(f run.Finding) bool { return f.Leg == l.N })
		if !spoken && len(r.Legs) > few && l.Status < 400 {
			skipped++
			continue
		}
		if skipped > 0 {
			p.line("     ", p.faint(fmt.Sprintf("… %d legs without a finding", skipped)))
			skipped = 0
		}
		p.Rung(l)
		p.findings(r.Findings, l.N, true)
	}
	if skipped > 0 {
		p.line("     ", p.faint(fmt.Sprintf("… %d legs without a finding", skipped)))
	}
	p.findings(r.Findings, 0, true)
	switch {
	case len(r.Legs) == 0:
		p.line(p.amber(shapeSoon), "  nothing in it belongs to a grant or a protected call")
	case len(r.Findings) == 0 && r.Error != nil:
		p.Failure(r.Error.Message, r.Error.Where, r.Error.Hint)
	case !slices.ContainsFunc(r.Findings, func(f run.Finding) bool { return !f.Note }):
		p.line(p.accent(shapeGood), "  nothing went wrong")
	}
}

func orNothing(before, s string) string {
	if s == "" {
		return ""
	}
	return before + s
}

// RuleView is the document of explain FINDING --json.
type RuleView struct {
	ID         string   `json:"id"`
	Title      string   `json:"title"`
	Meaning    string   `json:"meaning"`
	Proof      string   `json:"proof"`
	Remedy     []string `json:"remedy"`
	References []string `json:"references"`
	Try        string   `json:"try,omitempty"`
}

// NewRuleView makes the document.
func NewRuleView(r finding.Rule) RuleView {
	v := RuleView{r.ID, r.Title, r.Meaning, r.Proof, r.Remedy, r.References, r.Try.String()}
	if v.References == nil {
		v.References = []string{}
	}
	return v
}

// Rule draws the long text of a cause.
func (p *Pen) Rule(r finding.Rule) {
	room := p.width() - 4
	p.line(p.strong(r.Title), "   ", p.faint(r.ID))
	section := func(name, text string) {
		p.line()
		p.line("  ", p.accent(name))
		for _, l := range p.fold(text, room) {
			p.line("    ", l)
		}
	}
	section("what it means", r.Meaning)
	section("how it is proved", r.Proof)
	p.line()
	p.line("  ", p.accent("what to change"))
	for _, m := range r.Remedy {
		p.remedy("    ", m)
	}
	if r.Try.Command != "" {
		p.line()
		p.line("  ", p.accent("how to be sure"))
		p.line("    ", r.Try.Command)
		p.line("    ", p.faint(r.Try.Tells))
	}
	if len(r.References) > 0 {
		p.line()
		p.line("  ", p.faint("read "+strings.Join(r.References, ", ")))
	}
}
