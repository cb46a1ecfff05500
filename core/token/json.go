package token

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Bounds on the JSON inside a token.
const (
	// MaxDepth bounds nesting in header and claims; real ones stay below 10.
	MaxDepth = 64
	// MaxMembers bounds the values in one header or claims set, nested ones
	// included: the longest real ones, with all of a person's groups, hold a few
	// hundred.
	MaxMembers = 4000
)

// members is a JSON object as it was read.
type members struct {
	values   map[string]any // string, json.Number, bool, nil, []any, map[string]any
	order    []string       // names as they stand in the text, each once
	repeated []string       // names that stand there more than once; the last value is kept
}

// readObject reads one JSON object and nothing after it (RFC 8259), in one
// pass. Repeated names are noted at the top and below it (as "cnf.jwk").
func readObject(text string) (members, error) {
	return readInto(text, nil)
}

// readInto is readObject with an empty map to fill, or nil for a new one.
func readInto(text string, room map[string]any) (members, error) {
	r := reader{text: text, room: room}
	r.space()
	if r.peek() != '{' {
		return members{}, errors.New("is not a JSON object")
	}
	m := members{order: make([]string, 0, 12)}
	values, err := r.object(&m, "")
	if err != nil {
		return members{}, fmt.Errorf("is not a JSON object: %w", err)
	}
	m.values = values
	r.space()
	if r.at < len(text) {
		return members{}, fmt.Errorf("is not a JSON object: something follows it at byte %d", r.at)
	}
	return m, nil
}

// reader is the place in a JSON text.
type reader struct {
	text  string
	at    int
	depth int
	count int
	room  map[string]any // for the outermost object, or nil
}

var errBreaksOff = errors.New("it breaks off in the middle")

func (r *reader) peek() byte {
	if r.at < len(r.text) {
		return r.text[r.at]
	}
	return 0
}

func (r *reader) space() {
	for r.at < len(r.text) {
		switch r.text[r.at] {
		case ' ', '\t', '\n', '\r':
			r.at++
		default:
			return
		}
	}
}

func (r *reader) unexpected() error {
	if r.at >= len(r.text) {
		return errBreaksOff
	}
	c, _ := utf8.DecodeRuneInString(r.text[r.at:])
	return fmt.Errorf("%q at byte %d is out of place", c, r.at)
}

func (r *reader) enter() error {
	r.at++
	if r.depth++; r.depth > MaxDepth {
		return fmt.Errorf("it nests deeper than %d levels", MaxDepth)
	}
	r.space()
	return nil
}

// next moves on after an element; false at the closing character.
func (r *reader) next(closing byte) (bool, error) {
	r.space()
	switch r.peek() {
	case ',':
		r.at++
		r.space()
		return true, nil
	case closing:
		r.at++
		r.depth--
		return false, nil
	}
	return false, r.unexpected()
}

// object reads an object whose brace is next. Names and repeats of the
// outermost one go to top.
func (r *reader) object(top *members, path string) (map[string]any, error) {
	if err := r.enter(); err != nil {
		return nil, err
	}
	out := r.room
	if out == nil || r.depth > 1 {
		size := 8
		if r.depth == 1 && len(r.text) > 240 {
			size = 16 // growing costs more than the room
		}
		out = make(map[string]any, size)
	}
	if r.peek() == '}' {
		r.at++
		r.depth--
		return out, nil
	}
	for {
		if r.peek() != '"' {
			return nil, r.unexpected()
		}
		name, err := r.str()
		if err != nil {
			return nil, err
		}
		r.space()
		if r.peek() != ':' {
			return nil, r.unexpected()
		}
		r.at++
		r.space()
		v, err := r.value(top, path, name)
		if err != nil {
			return nil, err
		}
		if _, again := out[name]; again {
			top.repeated = append(top.repeated, path+name)
		} else if r.depth == 1 {
			top.order = append(top.order, name)
		}
		out[name] = v
		more, err := r.next('}')
		if err != nil {
			return nil, err
		}
		if !more {
			return out, nil
		}
	}
}

func (r *reader) array(top *members, path, name string) ([]any, error) {
	if err := r.enter(); err != nil {
		return nil, err
	}
	out := []any{}
	if r.peek() == ']' {
		r.at++
		r.depth--
		return out, nil
	}
	for {
		v, err := r.value(top, path, name)
		if err != nil {
			return nil, err
		}
		out = append(out, v)
		more, err := r.next(']')
		if err != nil {
			return nil, err
		}
		if !more {
			return out, nil
		}
	}
}

func (r *reader) value(top *members, path, name string) (any, error) {
	if r.count++; r.count > MaxMembers {
		return nil, fmt.Errorf("it holds more than %d values", MaxMembers)
	}
	switch c := r.peek(); {
	case c == '"':
		return r.str()
	case c == '{':
		return r.object(top, path+name+".")
	case c == '[':
		return r.array(top, path, name)
	case c == '-' || c >= '0' && c <= '9':
		return r.number()
	}
	for _, word := range []struct {
		text  string
		value any
	}{{"true", true}, {"false", false}, {"null", nil}} {
		if strings.HasPrefix(r.text[r.at:], word.text) {
			r.at += len(word.text)
			return word.value, nil
		}
	}
	return nil, r.unexpected()
}

// number reads a number as it is written (RFC 8259 6).
func (r *reader) number() (json.Number, error) {
	start := r.at
	if r.peek() == '-' {
		r.at++
	}
	if r.peek() == '0' {
		r.at++
	} else if !r.digits() {
		return "", r.unexpected()
	}
	if r.peek() == '.' {
		r.at++
		if !r.digits() {
			return "", r.unexpected()
		}
	}
	if c := r.peek(); c == 'e' || c == 'E' {
		r.at++
		if c := r.peek(); c == '+' || c == '-' {
			r.at++
		}
		if !r.digits() {
			return "", r.unexpected()
		}
	}
	return json.Number(r.text[start:r.at]), nil
}

func (r *reader) digits() bool {
	start := r.at
	for r.at < len(r.text) && r.text[r.at] >= '0' && r.text[r.at] <= '9' {
		r.at++
	}
	return r.at > start
}

// str reads a string whose quote is next. One without escapes is a part of the
// text, not a copy.
func (r *reader) str() (string, error) {
	r.at++
	start := r.at
	plain := true
	for r.at < len(r.text) {
		switch c := r.text[r.at]; {
		case c == '"':
			s := r.text[start:r.at]
			r.at++
			if plain {
				return s, nil
			}
			if !utf8.ValidString(s) {
				return "", errors.New("it is not UTF-8 text (RFC 8259 8.1)")
			}
			return unescape(s)
		case c < 0x20:
			return "", fmt.Errorf("a control character stands unescaped at byte %d", r.at)
		case c == '\\':
			plain = false
			r.at += 2
		default:
			if c >= utf8.RuneSelf {
				plain = false
			}
			r.at++
		}
	}
	return "", errBreaksOff
}

var shortEscapes = map[byte]rune{'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}

// unescape resolves a string's escapes. Half a surrogate pair becomes U+FFFD.
func unescape(s string) (string, error) {
	if !strings.Contains(s, `\`) {
		return s, nil
	}
	var b strings.Builder
	b.Grow(len(s))
	for {
		i := strings.IndexByte(s, '\\')
		if i < 0 {
			b.WriteString(s)
			return b.String(), nil
		}
		b.WriteString(s[:i])
		s = s[i+1:]
		if s == "" {
			return "", errBreaksOff
		}
		if s[0] != 'u' {
			c, known := shortEscapes[s[0]]
			if !known {
				return "", fmt.Errorf("\\%c is no escape", s[0])
			}
			b.WriteRune(c)
			s = s[1:]
			continue
		}
		c, ok := codeUnit(s)
		if !ok {
			return "", errors.New("a \\u escape has no four hex digits")
		}
		s = s[5:]
		if utf16.IsSurrogate(c) {
			low, ok := rune(0), false
			if strings.HasPrefix(s, `\`) {
				low, ok = codeUnit(s[1:])
			}
			if pair := utf16.DecodeRune(c, low); ok && pair != utf8.RuneError {
				c = pair
				s = s[6:]
			} else {
				c = utf8.RuneError
			}
		}
		b.WriteRune(c)
	}
}

// codeUnit reads uXXXX.
func codeUnit(s string) (rune, bool) {
	if len(s) < 5 || s[0] != 'u' {
		return 0, false
	}
	n, err := strconv.ParseUint(s[1:5], 16, 16)
	return rune(n), err == nil
}
