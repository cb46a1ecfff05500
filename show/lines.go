package show

import (
	"encoding/json"
	"slices"
	"strconv"
	"time"
	"unicode/utf8"

	"tidycourier/core/run"
	"tidycourier/core/token"
)

// LineOfToken is what one line of decode --lines is about.
type LineOfToken struct {
	N            int
	Token        *token.Token
	TakenOff     []string
	Verification *token.Verification
	Findings     []run.Finding
	Err          error
}

// AppendLine appends the JSON object of one line, and a newline. It is written
// by hand: over a stream of tokens, the general encoder costs more than reading
// them does.
func AppendLine(dst []byte, l LineOfToken) []byte {
	dst = append(dst, `{"line":`...)
	dst = strconv.AppendInt(dst, int64(l.N), 10)
	if l.Err != nil {
		dst = append(dst, `,"error":{"kind":"usage","message":`...)
		dst = appendText(dst, l.Err.Error())
		return append(dst, "}}\n"...)
	}
	t := l.Token
	dst = append(dst, `,"form":"`...)
	dst = append(dst, t.Form...)
	dst = append(dst, `","header":`...)
	dst = appendMembers(dst, t.Header, t.HeaderOrder)
	dst = append(dst, `,"claims":`...)
	dst = appendMembers(dst, t.Claims, t.ClaimOrder)
	dst = append(dst, `,"times":{`...)
	for _, name := range t.ClaimOrder {
		if c, known := token.Registry[name]; known && c.Kind == token.KindTime {
			if at, ok := t.Time(name); ok {
				dst = appendName(dst, name)
				dst = append(dst, '"')
				dst = at.AppendFormat(dst, time.RFC3339)
				dst = append(dst, '"')
			}
		}
	}
	dst = append(dst, `},"scope":`...)
	dst = appendTexts(dst, t.Scope())
	dst = append(dst, `,"audience":`...)
	dst = appendTexts(dst, t.Audience())
	dst = append(dst, `,"fingerprint":"`...)
	dst = append(dst, t.Fingerprint()...)
	dst = append(dst, '"')
	if len(l.TakenOff) > 0 {
		dst = append(dst, `,"taken_off":`...)
		dst = appendTexts(dst, l.TakenOff)
	}
	dst = append(dst, `,"signature":{"checked":`...)
	s := signatureView(t, l.Verification)
	dst = strconv.AppendBool(dst, s.Checked)
	dst = append(dst, `,"valid":`...)
	if s.Valid == nil {
		dst = append(dst, "null"...)
	} else {
		dst = strconv.AppendBool(dst, *s.Valid)
	}
	dst = append(dst, `,"reason":`...)
	dst = appendText(dst, s.Reason)
	dst = append(dst, '}')
	if l.Verification != nil {
		dst = append(dst, `,"failed":`...)
		dst = appendTexts(dst, failedParts(l.Verification))
	}
	dst = append(dst, `,"findings":`...)
	dst = appendFindings(dst, l.Findings)
	return append(dst, "}\n"...)
}

// failedParts names the parts of a verification that failed.
func failedParts(v *token.Verification) []string {
	if !v.Failed() {
		return nil
	}
	var out []string
	for _, c := range v.Checks() {
		if c.Outcome == token.Fail {
			out = append(out, c.Name)
		}
	}
	return out
}

func appendFindings(dst []byte, list []run.Finding) []byte {
	if len(list) == 0 {
		return append(dst, "[]"...)
	}
	raw, err := encode(list)
	if err != nil {
		return append(dst, "[]"...)
	}
	return append(dst, raw...)
}

// appendMembers writes an object in the order it was read in, and null for none.
func appendMembers(dst []byte, m map[string]any, order []string) []byte {
	if m == nil {
		return append(dst, "null"...)
	}
	dst = append(dst, '{')
	for _, name := range order {
		dst = appendName(dst, name)
		dst = appendValue(dst, m[name])
	}
	return append(dst, '}')
}

// appendName writes a member's name, with a comma unless it is the first.
func appendName(dst []byte, name string) []byte {
	if dst[len(dst)-1] != '{' {
		dst = append(dst, ',')
	}
	dst = appendText(dst, name)
	return append(dst, ':')
}

func appendValue(dst []byte, v any) []byte {
	switch v := v.(type) {
	case nil:
		return append(dst, "null"...)
	case string:
		return appendText(dst, v)
	case json.Number:
		return append(dst, v...)
	case bool:
		return strconv.AppendBool(dst, v)
	case []any:
		dst = append(dst, '[')
		for i, e := range v {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = appendValue(dst, e)
		}
		return append(dst, ']')
	case map[string]any:
		names := make([]string, 0, len(v))
		for n := range v {
			names = append(names, n)
		}
		slices.Sort(names)
		return appendMembers(dst, v, names)
	}
	return append(dst, "null"...)
}

func appendTexts(dst []byte, list []string) []byte {
	dst = append(dst, '[')
	for i, s := range list {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = appendText(dst, s)
	}
	return append(dst, ']')
}

// appendText writes a string; one that needs an escape goes through the encoder
// that also makes it safe to look at.
func appendText(dst []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c == '"' || c == '\\' || c >= utf8.RuneSelf-1 {
			raw, err := encode(s)
			if err != nil {
				return append(dst, `""`...)
			}
			return append(dst, raw...)
		}
	}
	dst = append(dst, '"')
	dst = append(dst, s...)
	return append(dst, '"')
}
