package show

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"unicode"
)

// JSON writes one document, indented. Characters that a terminal would act on
// or that hide text are escaped, so that the document is safe to look at too.
func JSON(w io.Writer, v any) error {
	raw, err := encode(v)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := json.Indent(&b, raw, "", "  "); err != nil {
		return err
	}
	b.WriteByte('\n')
	_, err = w.Write(b.Bytes())
	return err
}

// JSONLine writes one document on one line.
func JSONLine(w io.Writer, v any) error {
	raw, err := encode(v)
	if err != nil {
		return err
	}
	_, err = w.Write(append(raw, '\n'))
	return err
}

func encode(v any) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	return escape(bytes.TrimRight(b.Bytes(), "\n")), nil
}

// escape writes C1 controls, DEL and format characters as \uXXXX; inside JSON
// they can only stand in strings.
func escape(raw []byte) []byte {
	harmless := true
	for _, c := range raw {
		if c >= 0x7f {
			harmless = false
			break
		}
	}
	if harmless {
		return raw
	}
	var b bytes.Buffer
	for _, r := range string(raw) {
		if r >= 0x7f && (r < 0xa0 || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)) && r <= 0xffff {
			fmt.Fprintf(&b, `\u%04x`, r)
			continue
		}
		b.WriteRune(r)
	}
	return b.Bytes()
}

// WithError adds the error and an empty list of findings to a document that
// lacks them: what was known so far stays in it.
func WithError(doc any, failure any) (json.RawMessage, error) {
	raw := []byte("{}")
	if doc != nil {
		var err error
		if raw, err = encode(doc); err != nil {
			return nil, err
		}
	}
	var members map[string]json.RawMessage
	if err := json.Unmarshal(raw, &members); err != nil || members == nil {
		members, raw = map[string]json.RawMessage{}, []byte("{}")
	}
	add := func(name string, v any) error {
		if _, there := members[name]; there {
			return nil
		}
		text, err := encode(v)
		if err != nil {
			return err
		}
		sep := ","
		if len(members) == 0 {
			sep = ""
		}
		members[name] = text
		raw = append(bytes.TrimSuffix(raw, []byte("}")), sep+`"`+name+`":`+string(text)+"}"...)
		return nil
	}
	if err := add("error", failure); err != nil {
		return nil, err
	}
	err := add("findings", []any{})
	return raw, err
}
