// Package near finds the name a person probably meant.
package near

import (
	"slices"
	"strings"
)

// Name returns the name closest to what was typed, or "" when none is close:
// at most a third of its letters may differ, case aside.
func Name(typed string, names []string) string {
	best, distance := "", len(typed)/3+2
	for _, n := range slices.Sorted(slices.Values(names)) {
		if d := between(strings.ToLower(typed), strings.ToLower(n)); d < distance {
			best, distance = n, d
		}
	}
	return best
}

// between counts the insertions, deletions, replacements and swaps of
// neighbours that turn a into b (optimal string alignment).
func between(a, b string) int {
	ra, rb := []rune(a), []rune(b)
	rows := make([][]int, len(ra)+1)
	for i := range rows {
		rows[i] = make([]int, len(rb)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(ra); i++ {
		for j := 1; j <= len(rb); j++ {
			cost := 1
			if ra[i-1] == rb[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && ra[i-1] == rb[j-2] && ra[i-2] == rb[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(ra)][len(rb)]
}
