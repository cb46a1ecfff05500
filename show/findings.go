package show

import (
	"strings"
	"unicode"

	"tidycourier/core/run"
)

// Findings draws every finding of a run.
func (p *Pen) Findings(list []run.Finding) {
	for _, f := range list {
		p.finding(f)
	}
}

// findings draws those of one leg; notes only when asked for.
func (p *Pen) findings(list []run.Finding, leg int, notes bool) {
	for _, f := range list {
		if f.Leg == leg && (notes || !f.Note) {
			p.finding(f)
		}
	}
}

// LegFindings draws the findings of one leg.
func (p *Pen) LegFindings(list []run.Finding, leg int) { p.findings(list, leg, true) }

const findingIndent = "      "

// finding draws one: the cause and how sure, the evidence, what to change.
func (p *Pen) finding(f run.Finding) {
	room := p.width() - width(findingIndent)
	mark, title := p.red(shapeBad), p.strong(f.Title)
	if f.Note {
		mark, title = p.amber(shapeSoon), f.Title
	}
	p.line("   ", mark, "  ", title, "  ", p.faint(string(f.Certainty)))
	label := 0
	for _, it := range f.Evidence {
		label = max(label, width(it.What))
	}
	label = min(label, 30)
	for i, it := range f.Evidence {
		p.item(it, label, room)
		if it.Compare && i > 0 && f.Evidence[i-1].Compare {
			p.difference(f.Evidence[i-1].Value, it.Value, label)
		}
	}
	for _, r := range f.Remedy {
		if !f.Note || len(f.Remedy) == 1 {
			p.remedy(findingIndent, r)
		}
	}
	if f.Try != "" {
		p.line(findingIndent, p.faint("try: "), Safe(f.Try))
	}
	p.line(findingIndent, p.faint(strings.Join(append([]string{f.ID}, f.References...), " · ")))
}

// item draws one piece of evidence, its place behind it or, where that does
// not fit, on the next line.
func (p *Pen) item(it run.Item, label, room int) {
	value, place := Safe(it.Value), Safe(it.Where)
	lines := []string{value}
	if p.Width > 0 {
		lines = wrapValue(value, room-label-2)
	} else {
		room = 1 << 20
	}
	for i, l := range lines {
		head := strings.Repeat(" ", label)
		if i == 0 {
			head = pad(Safe(it.What), label)
		}
		if i == len(lines)-1 && place != "" && width(l)+width(place)+3 <= room-label-2 {
			p.line(findingIndent, p.faint(head), "  ", l, "   ", p.faint(place))
			return
		}
		p.line(findingIndent, p.faint(head), "  ", l)
	}
	if place != "" {
		p.line(findingIndent, strings.Repeat(" ", label), "  ", p.faint(place))
	}
}

// wrapValue breaks a value without touching its spaces: they may be the cause.
func wrapValue(s string, n int) []string {
	if n < 20 {
		n = 20
	}
	var out []string
	r := []rune(s)
	for len(r) > n && len(out) < 6 {
		end := n
		for i := n - 1; i > n/2; i-- { // at a space where there is one, which stays
			if r[i] == ' ' {
				end = i + 1
				break
			}
		}
		out = append(out, string(r[:end]))
		r = r[end:]
	}
	return append(out, cut(string(r), n))
}

// difference marks the first character in which two values differ.
func (p *Pen) difference(a, b string, label int) {
	ra, rb := []rune(Safe(a)), []rune(Safe(b))
	i := 0
	for i < len(ra) && i < len(rb) && ra[i] == rb[i] {
		i++
	}
	if i == len(ra) && i == len(rb) {
		return
	}
	what := "differs from here"
	switch {
	case i == len(ra), i == len(rb):
		what = "one ends here"
	case unicode.ToLower(ra[i]) == unicode.ToLower(rb[i]):
		what = "differs in case"
	}
	p.line(findingIndent, strings.Repeat(" ", label+2+width(string(rb[:i]))), p.red("^ "+what))
}
