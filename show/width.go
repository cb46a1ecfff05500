package show

import "charm.land/lipgloss/v2"

// width is how many columns a text takes. Plain text, and the shapes that are
// drawn here, take one a character; only other text has to be looked at closely.
func width(s string) int {
	n := 0
	for _, r := range s {
		if r < 0x20 || r > 0x7e && !ours(r) {
			return lipgloss.Width(s)
		}
		n++
	}
	return n
}

// ours are the shapes of one column that are drawn here: arrows, lines, blocks,
// marks.
func ours(r rune) bool {
	return r >= 0x2500 && r <= 0x259f || r >= 0x2190 && r <= 0x2193 || r == '·' || r == '…' || r == '✔' || r == '✘' || r == '▲' || r == '●' || r == '≠' || r == '−'
}
