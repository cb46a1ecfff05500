// Package show draws the core's values on a terminal, or as JSON. The rules of
// its output: state is told by shape as well as by colour; one accent colour;
// red only for refusals, amber only for what will soon hurt; nothing that came
// from a server reaches the terminal before Safe has made it harmless.
package show

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode"

	"charm.land/lipgloss/v2"
)

// Pen draws on one output.
type Pen struct {
	W     io.Writer
	Color bool
	Width int              // columns; 0 means 100
	Now   func() time.Time // for relative times
}

// Shapes of state.
const (
	shapeGood = "✔"
	shapeBad  = "✘"
	shapeSoon = "▲"
	shapeNote = "·"
)

var (
	accent = lipgloss.NewStyle().Foreground(lipgloss.Cyan)
	red    = lipgloss.NewStyle().Foreground(lipgloss.Red)
	amber  = lipgloss.NewStyle().Foreground(lipgloss.Yellow)
	faint  = lipgloss.NewStyle().Foreground(lipgloss.BrightBlack)
	strong = lipgloss.NewStyle().Bold(true)
)

func (p *Pen) style(s lipgloss.Style, text string) string {
	if !p.Color || text == "" {
		return text
	}
	return s.Render(text)
}

func (p *Pen) accent(s string) string { return p.style(accent, s) }
func (p *Pen) red(s string) string    { return p.style(red, s) }
func (p *Pen) amber(s string) string  { return p.style(amber, s) }
func (p *Pen) faint(s string) string  { return p.style(faint, s) }
func (p *Pen) strong(s string) string { return p.style(strong, s) }

func (p *Pen) width() int {
	if p.Width <= 0 {
		return 100
	}
	return min(max(p.Width, 60), 140)
}

func (p *Pen) line(parts ...string) {
	fmt.Fprintln(p.W, strings.TrimRight(strings.Join(parts, ""), " "))
}

// Gap leaves a line empty.
func (p *Pen) Gap() { p.line() }

// Safe makes one line of foreign text harmless: control characters become
// their pictures, and characters that reorder or hide text become their code
// points.
func Safe(s string) string { return safe(s, false) }

// SafeText is Safe for text of several lines: newlines and tabs stay.
func SafeText(s string) string { return safe(s, true) }

func safe(s string, lines bool) string {
	clean := true
	for _, r := range s {
		if r < 0x20 || r >= 0x7f && (r < 0xa0 || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) || r == unicode.ReplacementChar) {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case lines && (r == '\n' || r == '\t'):
			b.WriteRune(r)
		case r < 0x20:
			b.WriteRune(0x2400 + r)
		case r == 0x7f:
			b.WriteRune(0x2421)
		case r < 0xa0 && r > 0x7f, unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp):
			fmt.Fprintf(&b, "<U+%04X>", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// pad fills a text with spaces to n columns, or cuts it with an ellipsis.
func pad(s string, n int) string {
	w := width(s)
	if w > n {
		return cut(s, n)
	}
	return s + strings.Repeat(" ", n-w)
}

// cut shortens a text to n columns, keeping its beginning.
func cut(s string, n int) string {
	if width(s) <= n {
		return s
	}
	out := []rune(s)
	for len(out) > 0 && width(string(out)) > n-1 {
		out = out[:len(out)-1]
	}
	return string(out) + "…"
}

// fold wraps a text for a terminal. Anywhere else a line is left whole, so that
// it can be searched for.
func (p *Pen) fold(s string, n int) []string {
	if p.Width <= 0 {
		return []string{s}
	}
	return wrap(s, n)
}

// wrap breaks a text into lines of at most n columns, at spaces where it can.
func wrap(s string, n int) []string {
	if n < 10 {
		n = 10
	}
	var out []string
	line := ""
	for _, word := range strings.Fields(s) {
		for width(word) > n {
			room := n
			if line != "" {
				out, line = append(out, line), ""
			}
			r := []rune(word)
			out, word = append(out, string(r[:room])), string(r[room:])
		}
		switch {
		case line == "":
			line = word
		case width(line)+1+width(word) <= n:
			line += " " + word
		default:
			out, line = append(out, line), word
		}
	}
	if line != "" || len(out) == 0 {
		out = append(out, line)
	}
	return out
}

// Clock is a time of day, with the date when it is another day.
func (p *Pen) clock(at time.Time) string {
	at, now := at.Local(), p.Now().Local()
	switch {
	case at.Year() == now.Year() && at.YearDay() == now.YearDay():
		return at.Format("15:04")
	case at.Year() == now.Year():
		return at.Format("2 Jan 15:04")
	}
	return at.Format("2 Jan 2006")
}

// Relative is how far a time lies from now: "in 30 min", "2 h ago".
func (p *Pen) relative(at time.Time) string {
	d := at.Sub(p.Now())
	if d > -time.Second && d < time.Second {
		return "just now"
	}
	if d >= 0 {
		return "in " + Duration(d)
	}
	return Duration(-d) + " ago"
}

// Duration is a length of time in at most two units, as a person says it.
func Duration(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()+0.5))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Bytes is a size as a person says it.
func Bytes(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d bytes", n)
	case n < 10<<20:
		return fmt.Sprintf("%.0f KiB", float64(n)/(1<<10))
	case n < 10<<30:
		return fmt.Sprintf("%.0f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
}

// took is how long a leg took.
func took(ms float64) string {
	switch {
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

// table draws rows in aligned columns, two spaces between them, the last one
// cut at the width.
func (p *Pen) table(indent string, rows [][]string) {
	widths := []int{}
	sizes := make([]int, 0, len(rows)*8) // of every cell, in order
	for _, row := range rows {
		for i, cell := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			n := width(cell)
			sizes = append(sizes, n)
			widths[i] = max(widths[i], n)
		}
	}
	room, at := p.width(), 0
	out := bufio.NewWriterSize(p.W, 32<<10) // a write a row costs more than the row
	defer out.Flush()
	var b strings.Builder
	for _, row := range rows {
		b.Reset()
		b.WriteString(indent)
		used := width(indent)
		for i, cell := range row {
			if i == len(row)-1 {
				if sizes[at] > max(8, room-used) {
					cell = cut(cell, max(8, room-used))
				}
				b.WriteString(cell)
			} else {
				b.WriteString(cell)
				b.WriteString(spaces(widths[i] - sizes[at] + 2))
				used += widths[i] + 2
			}
			at++
		}
		out.WriteString(strings.TrimRight(b.String(), " "))
		out.WriteByte('\n')
	}
}

func spaces(n int) string {
	const some = "                                                                "
	if n <= len(some) {
		return some[:n]
	}
	return strings.Repeat(" ", n)
}
