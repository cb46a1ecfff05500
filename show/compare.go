package show

import (
	"strings"
	"time"

	"tidycourier/core/token"
)

// Comparison draws two token sets side by side: what changed in full, what did
// not in one line.
func (p *Pen) Comparison(left, right string, c token.Comparison, all bool) {
	if c.Equal {
		p.line(p.accent(shapeGood), "  no difference: ", Safe(left), " and ", Safe(right), " are the same")
		return
	}
	name, value := p.comparedWidths(left, c.Rows, all)
	p.line("   ", pad("", name+2), "  ", p.strong(pad(Safe(left), value)), "  ", p.strong(Safe(right)))
	group := ""
	var same []string
	flush := func() {
		if len(same) > 0 {
			for i, l := range wrap("the same: "+strings.Join(same, ", "), p.width()-5) {
				if i > 0 {
					l = "  " + l
				}
				p.line("   ", p.faint(l))
			}
		}
		same = nil
	}
	for _, r := range c.Rows {
		if r.Group != group {
			flush()
			group = r.Group
			p.line()
			p.line(" ", p.faint(group))
		}
		if r.Change == token.Same && !all {
			same = append(same, Safe(r.Name))
			continue
		}
		p.compared(r, name, value)
	}
	flush()
}

// comparedWidths gives the names and the values their columns; what is left is
// for the remark.
func (p *Pen) comparedWidths(left string, rows []token.Row, all bool) (name, value int) {
	value = max(20, width(Safe(left)))
	for _, r := range rows {
		if all || r.Change != token.Same {
			name = max(name, width(Safe(r.Name)))
			value = max(value, width(Safe(r.Before)), width(Safe(r.After)))
		}
	}
	name = min(name, 24)
	return name, min(value, max(20, (p.width()-name-8)*2/5))
}

// compared draws one row: its mark says what became of it.
func (p *Pen) compared(r token.Row, name, value int) {
	mark, note := map[token.Change]string{token.Same: " ", token.Added: p.accent("+"), token.Removed: p.accent("−"), token.Changed: p.accent("≠")}[r.Change], ""
	before, after := r.Before, r.After
	if r.Later != nil {
		note = laterText(time.Duration(*r.Later * float64(time.Second)))
		before, after = p.timeText(r.Before), p.timeText(r.After)
	}
	if len(r.Lost) > 0 {
		note = "lost " + strings.Join(r.Lost, " ")
	}
	if len(r.Won) > 0 {
		note = strings.TrimPrefix(note+"; ", "; ") + "won " + strings.Join(r.Won, " ")
	}
	if r.Change == token.Added {
		before = "absent"
	}
	if r.Change == token.Removed {
		after = "absent"
	}
	left, right := wrapValue(Safe(before), value), wrapValue(Safe(after), value)
	notes := p.fold(Safe(note), max(12, p.width()-name-2*value-12))
	for i := range max(len(left), len(right), len(notes)) {
		cell := func(list []string) string {
			if i < len(list) {
				return list[i]
			}
			return ""
		}
		label, m := "", " "
		if i == 0 {
			label, m = Safe(r.Name), mark
		}
		p.line("   ", m, " ", p.accent(pad(label, name)), "  ", pad(cell(left), value), "  ", pad(cell(right), value), "  ", p.faint(cell(notes)))
	}
}

// timeText is a time of a comparison as a person reads it.
func (p *Pen) timeText(text string) string {
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return text
	}
	return at.Local().Format("2006-01-02 15:04:05")
}

func laterText(d time.Duration) string {
	switch {
	case d > 0:
		return Duration(d) + " later"
	case d < 0:
		return Duration(-d) + " earlier"
	}
	return "at the same time"
}
