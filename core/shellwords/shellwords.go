// Package shellwords splits a command line into words as a POSIX shell does
// for quotes and backslashes (XCU 2.2). Nothing is expanded.
package shellwords

import (
	"errors"
	"strings"
)

// ErrQuote is returned for a quote that is not closed.
var ErrQuote = errors.New("a quote is not closed")

// Split returns the words of a command line.
func Split(line string) ([]string, error) {
	var words []string
	var b strings.Builder
	inWord := false
	r := []rune(line)
	for i := 0; i < len(r); i++ {
		switch c := r[i]; {
		case c == ' ' || c == '\t' || c == '\n':
			if inWord {
				words, inWord = append(words, b.String()), false
				b.Reset()
			}
		case c == '\'' || c == '"':
			end, text := quoted(r, i)
			if end < 0 {
				return nil, ErrQuote
			}
			b.WriteString(text)
			i, inWord = end, true
		case c == '\\' && i+1 < len(r):
			i++
			b.WriteRune(r[i])
			inWord = true
		default:
			b.WriteRune(c)
			inWord = true
		}
	}
	if inWord {
		words = append(words, b.String())
	}
	return words, nil
}

// quoted reads from an opening quote to its closing one.
func quoted(r []rune, start int) (end int, text string) {
	var b strings.Builder
	for i := start + 1; i < len(r); i++ {
		switch {
		case r[i] == r[start]:
			return i, b.String()
		case r[start] == '"' && r[i] == '\\' && i+1 < len(r) && strings.ContainsRune(`"\$`+"`", r[i+1]):
			i++
			b.WriteRune(r[i])
		default:
			b.WriteRune(r[i])
		}
	}
	return -1, ""
}
