package show

import (
	"fmt"

	"tidycourier/core/drill"
)

// DrillView is the --json document of drill.
type DrillView struct {
	Run      int64          `json:"run"`
	Call     string         `json:"call"`
	Refused  int            `json:"refused"`
	Wrong    int            `json:"wrong"`
	Unclear  int            `json:"unclear"`
	Skipped  int            `json:"skipped"`
	Variants []drill.Result `json:"variants"`
}

// NewDrillView makes the document of a drill.
func NewDrillView(run int64, r *drill.Report) DrillView {
	v := DrillView{Run: run, Call: r.Call, Refused: r.Refused, Wrong: r.Wrong, Unclear: r.Unclear, Skipped: r.Skipped, Variants: r.Results}
	if v.Variants == nil {
		v.Variants = []drill.Result{}
	}
	return v
}

// DrillLine draws one variant: what was sent, what came, and whether that is
// right.
func (p *Pen) DrillLine(r drill.Result) {
	mark, verdict := p.accent(shapeGood), r.Outcome
	switch {
	case r.Wrong && r.Outcome == drill.Accepted:
		mark, verdict = p.red(shapeBad), p.red("wrongly accepted")
	case r.Wrong:
		mark, verdict = p.red(shapeBad), p.red("wrongly refused")
	case r.Outcome == drill.Unclear:
		mark, verdict = p.amber(shapeSoon), p.amber("unclear")
	case r.Outcome == drill.Skipped:
		mark, verdict = p.faint(shapeNote), p.faint("skipped: "+Safe(r.Reason))
	}
	status := ""
	if r.Status > 0 {
		status = fmt.Sprint(r.Status)
	}
	p.line(" ", mark, "  ", pad(r.Name, 21), "  ", pad(status, 3), "  ", pad(Safe(r.Sent), 46), "  ", verdict)
	if r.Wrong || r.Outcome == drill.Unclear && r.Status > 0 {
		p.line(findingIndent, p.faint("it must be "+r.Expected+": "), Safe(r.Why))
	}
	if r.Outcome == drill.Unclear && r.Reason != "" {
		p.line(findingIndent, p.faint(Safe(r.Reason)))
	}
	for _, f := range r.Form {
		p.line(findingIndent, p.amber(shapeSoon), " ", Safe(f))
	}
}

// DrillSummary draws the counts.
func (p *Pen) DrillSummary(r *drill.Report) {
	p.line()
	mark, text := p.accent(shapeGood), fmt.Sprintf("%d handled as they must be", r.Refused)
	if r.Wrong > 0 {
		mark, text = p.red(shapeBad), text+", "+p.red(fmt.Sprintf("%d wrongly", r.Wrong))
	}
	if r.Unclear > 0 {
		text += fmt.Sprintf(", %d unclear", r.Unclear)
	}
	if r.Skipped > 0 {
		text += fmt.Sprintf(", %d skipped", r.Skipped)
	}
	p.line(" ", mark, "  ", p.strong(Safe(r.Call)), "   ", text)
}
