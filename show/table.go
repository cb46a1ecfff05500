package show

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"tidycourier/core/flow"
)

// Columns are the members to show of records: those named (a.b steps into an
// object), else every member that is no object or list, in the order of the
// alphabet with id and name first.
func Columns(records []map[string]any, named []string) []string {
	if len(named) > 0 {
		return named
	}
	seen := map[string]bool{}
	for _, r := range records {
		for name, v := range r {
			switch v.(type) {
			case map[string]any, []any:
			default:
				seen[name] = true
			}
		}
	}
	out := slices.Sorted(maps.Keys(seen))
	first := func(s string) int {
		return slices.Index([]string{"", "name", "id"}, s) // -1 for the rest
	}
	slices.SortStableFunc(out, func(a, b string) int { return first(b) - first(a) })
	return out
}

// cell is a record's member as text; "" when it is not there.
func cell(r map[string]any, column string) string {
	var v any = r
	for _, step := range strings.Split(column, ".") {
		m, ok := v.(map[string]any)
		if !ok {
			return ""
		}
		if whole, there := m[column]; there && v != nil {
			return text(whole)
		}
		v = m[step]
	}
	return text(v)
}

func text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case json.Number:
		return v.String()
	}
	return flow.Text(v)
}

// Records draws an array of objects as columns; numbers stand to the right.
func (p *Pen) Records(records []map[string]any, columns []string) {
	if len(records) == 0 {
		p.line(p.faint("(no record)"))
		return
	}
	rows := [][]string{make([]string, len(columns))}
	numbers := make([]bool, len(columns))
	for i, c := range columns {
		rows[0][i], numbers[i] = Safe(c), true
	}
	widths := make([]int, len(columns))
	for _, r := range records {
		row := make([]string, len(columns))
		for i, c := range columns {
			row[i] = Safe(cell(r, c))
			numbers[i] = numbers[i] && (row[i] == "" || json.Valid([]byte(row[i])) && strings.IndexByte("-0123456789", row[i][0]) >= 0)
		}
		rows = append(rows, row)
	}
	for _, row := range rows {
		for i, c := range row {
			widths[i] = max(widths[i], width(c))
		}
	}
	for n, row := range rows {
		for i, c := range row {
			if numbers[i] && i < len(row) {
				row[i] = strings.Repeat(" ", widths[i]-width(c)) + c
			}
			if n == 0 {
				row[i] = p.faint(row[i])
			}
		}
	}
	p.table("", rows)
}

// TSV is the same for other programs: tabs between, a line a record, the names
// first. Tabs and line breaks in values become spaces.
func TSV(records []map[string]any, columns []string) string {
	var b strings.Builder
	b.WriteString(strings.Join(columns, "\t") + "\n")
	plain := strings.NewReplacer("\t", " ", "\n", " ", "\r", " ")
	for _, r := range records {
		for i, c := range columns {
			if i > 0 {
				b.WriteByte('\t')
			}
			b.WriteString(plain.Replace(cell(r, c)))
		}
		b.WriteByte('\n')
	}
	return b.String()
}
