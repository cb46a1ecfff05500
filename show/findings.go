package show

import (
	"fmt"
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
	value, place := Exact(it.Value), Safe(it.Where)
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

// Exact is Safe for a value that is held against another: spaces that look like
// the common one, or like nothing, become their code points too.
func Exact(s string) string {
	var b strings.Builder
	for _, r := range Safe(s) {
		if r != ' ' && unicode.Is(unicode.Zs, r) || unicode.Is(unicode.Mn, r) || r == 0x115f || r == 0x1160 || r == 0x3164 || r == 0x2800 { // combining marks, and letters and patterns without ink
			fmt.Fprintf(&b, "<U+%04X>", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

// difference marks the first character in which two values differ, and says what
// the eye cannot tell: white space, the case, a letter of another script.
func (p *Pen) difference(a, b string, label int) {
	ra, rb := []rune(a), []rune(b)
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
		if rest := strings.TrimSpace(string(ra[i:]) + string(rb[i:])); rest == "" {
			what += ", and the other goes on with white space"
		}
	case odd(ra[i]) || odd(rb[i]):
		what = "differs from here: " + runeName(ra[i]) + " above, " + runeName(rb[i]) + " below"
	case unicode.ToLower(ra[i]) == unicode.ToLower(rb[i]):
		what = "differs in case"
	}
	at := label + 2 + width(Exact(string(rb[:i])))
	if p.Width > 0 && at > p.width()-width(findingIndent)-4 {
		p.line(findingIndent, strings.Repeat(" ", label+2), p.red(fmt.Sprintf("^ character %d: %s", i+1, what)))
		return
	}
	p.line(findingIndent, strings.Repeat(" ", at), p.red("^ "+what))
}

// odd reports whether a character may look like another one, or like none.
func odd(r rune) bool { return r > 0x7e || unicode.IsSpace(r) || r < 0x20 }

// scripts whose letters look like Latin ones.
var scripts = []struct {
	name  string
	table *unicode.RangeTable
}{{"Cyrillic", unicode.Cyrillic}, {"Greek", unicode.Greek}, {"Armenian", unicode.Armenian}, {"Cherokee", unicode.Cherokee}}

var spaceNames = map[rune]string{' ': "a space", '\t': "a tab", '\n': "a newline", '\r': "a carriage return", 0xa0: "a non-breaking space", 0x202f: "a narrow non-breaking space", 0x200b: "a zero-width space", 0xfeff: "a byte order mark", 0x3000: "an ideographic space"}

// runeName says which character it is, where a look does not tell.
func runeName(r rune) string {
	if n := spaceNames[r]; n != "" {
		if r > 0x7e {
			n += fmt.Sprintf(" (U+%04X)", r)
		}
		return n
	}
	for _, s := range scripts {
		if unicode.Is(s.table, r) {
			return fmt.Sprintf("%s %c (U+%04X)", s.name, r, r)
		}
	}
	if odd(r) {
		return fmt.Sprintf("%s (U+%04X)", Exact(string(r)), r)
	}
	return string(r)
}
