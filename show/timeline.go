package show

import (
	"strings"
	"time"
	"unicode/utf8"

	"tidycourier/core/token"
)

// label is a text that wants to stand at a column.
type label struct {
	at    int
	text  string
	style func(string) string
}

// timeline draws a token's life on one line: issued, not before, now, ends. A
// token without both ends has none.
func (p *Pen) timeline(t *token.Token) {
	exp, ends := t.Time("exp")
	start, begins := t.Time("iat")
	nbf, later := t.Time("nbf")
	if !begins {
		start, begins = nbf, later
	}
	if !begins || !ends || !exp.After(start) {
		return
	}
	now := p.Now()
	first, last := start, exp
	if now.Before(first) {
		first = now
	}
	if now.After(last) {
		last = now
	}
	room := min(p.width(), 104) - 8
	column := func(at time.Time) int {
		return int(float64(room-1) * float64(at.Sub(first)) / float64(last.Sub(first)))
	}
	line := make([]rune, room)
	for i := range line {
		switch at := column(now); {
		case i < column(start) || i > column(exp):
			line[i] = '·'
		case i < at:
			line[i] = '━'
		default:
			line[i] = '─'
		}
	}
	line[column(start)], line[column(exp)] = '├', '┤'
	above := []label{{column(start), "issued " + p.clock(start), nil}}
	if later && nbf.Sub(start) > exp.Sub(start)/20 {
		line[column(nbf)] = '┼'
		above = append(above, label{column(nbf), "not before " + p.clock(nbf), nil})
	}
	word, mark := "ends ", p.accent
	if now.After(exp) {
		word, mark = "ended ", p.amber
	}
	above = append(above, label{column(exp), word + p.clock(exp), nil})
	below := []label{{column(now), "now", p.strong}, {column(exp), p.relative(exp), p.faint}, {column(start), p.relative(start), p.faint}}
	dot := column(now)
	line[dot] = '●'
	p.line()
	p.line("   ", p.labels(above, room))
	p.line("   ", p.faint(string(line[:dot])), mark("●"), p.faint(string(line[dot+1:])))
	p.line("   ", p.labels(below, room))
}

// labels puts texts at their columns, the first ones first; one that has no
// room is left out.
func (p *Pen) labels(list []label, room int) string {
	taken := make([]bool, room)
	placed := map[int]label{}
	for _, l := range list {
		n := utf8.RuneCountInString(l.text)
		at := min(max(0, l.at-n/2), room-n)
		if at < 0 || !free(taken, at-2, at+n+2) {
			continue
		}
		for i := at; i < at+n; i++ {
			taken[i] = true
		}
		placed[at] = l
	}
	var b strings.Builder
	for i := 0; i < room; {
		l, here := placed[i]
		if !here {
			b.WriteByte(' ')
			i++
			continue
		}
		if l.style != nil {
			b.WriteString(l.style(l.text))
		} else {
			b.WriteString(l.text)
		}
		i += utf8.RuneCountInString(l.text)
	}
	return strings.TrimRight(b.String(), " ")
}

func free(taken []bool, from, to int) bool {
	for i := max(0, from); i < min(to, len(taken)); i++ {
		if taken[i] {
			return false
		}
	}
	return true
}

// bar draws how much of a life is left, n columns wide: full when it has just
// begun, empty when it is over.
func (p *Pen) bar(obtained, ends time.Time, soon bool, n int) string {
	if ends.IsZero() || !ends.After(obtained) {
		return strings.Repeat(" ", n)
	}
	left := float64(ends.Sub(p.Now())) / float64(ends.Sub(obtained))
	halves := int(min(max(left, 0), 1)*float64(n*2) + 0.5)
	if left > 0 {
		halves = max(halves, 1)
	}
	full := strings.Repeat("━", halves/2)
	if halves%2 == 1 {
		full += "╸"
	}
	rest := strings.Repeat("─", n-utf8.RuneCountInString(full))
	if soon {
		return p.amber(full) + p.faint(rest)
	}
	return p.accent(full) + p.faint(rest)
}
