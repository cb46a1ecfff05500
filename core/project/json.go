package project

import (
	"bytes"
	"encoding/json"
	"strings"
)

// json renders a body written as YAML: mappings in the file's order, numbers
// and booleans as such when they were written without quotes, placeholders
// filled in.
func (r *resolver) json(n *node) string {
	var b bytes.Buffer
	r.writeJSON(&b, n)
	return b.String()
}

func (r *resolver) writeJSON(b *bytes.Buffer, n *node) {
	quote := func(s string) {
		enc := json.NewEncoder(b)
		enc.SetEscapeHTML(false)
		_ = enc.Encode(s) // a string always encodes
		b.Truncate(b.Len() - 1)
	}
	switch n.kind {
	case nodeNull:
		b.WriteString("null")
	case nodeMap:
		b.WriteByte('{')
		for i, e := range n.keys {
			if i > 0 {
				b.WriteByte(',')
			}
			quote(e.name)
			b.WriteByte(':')
			r.writeJSON(b, e.value)
		}
		b.WriteByte('}')
	case nodeList:
		b.WriteByte('[')
		for i, item := range n.items {
			if i > 0 {
				b.WriteByte(',')
			}
			r.writeJSON(b, item)
		}
		b.WriteByte(']')
	default:
		text := r.value(n, "body").Value
		if (n.isBool || n.isNum) && !strings.Contains(n.text, "$") && json.Valid([]byte(text)) {
			b.WriteString(text)
			return
		}
		quote(text)
	}
}
