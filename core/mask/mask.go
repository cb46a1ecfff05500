// Package mask keeps secrets and tokens out of everything that is shown or
// stored in the clear.
//
// Two nets are laid. By value: a Set holds every secret and token this process
// has met, and replaces them wherever they turn up, also in the encodings HTTP
// uses. By name: Header, Form, Query and JSON mask the members that carry
// credentials even when their value was never seen before (a token inside an
// answer of somebody else's).
//
// What replaces a value is "[masked 3f9a1c2e]", with the value's fingerprint,
// so that two people can compare without seeing. A password is masked without
// one: a few bits of a hash are enough to confirm a guessed password.
package mask

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"slices"
	"sort"
	"strings"
	"sync"
)

// minimal is the length below which a value is not searched for in foreign
// text: replacing every "a" would mask nothing and garble everything.
const minimal = 4

// Fingerprint is the first 8 hex digits of the SHA-256 of a secret or token.
func Fingerprint(value string) string {
	sum := sha256.Sum256([]byte(value))
	return hex.EncodeToString(sum[:4])
}

// Text is what stands in place of a secret or token. An empty value stays
// empty: that nothing was sent is evidence.
func Text(value string) string {
	if value == "" {
		return ""
	}
	return "[masked " + Fingerprint(value) + "]"
}

// Hidden stands in place of a value whose fingerprint would give it away.
const Hidden = "[masked]"

// Set is every secret and token met so far. The zero value is ready; it is
// safe for concurrent use. A nil Set masks by name only.
type Set struct {
	mu       sync.RWMutex
	known    map[string]string // spelling -> replacement
	values   []string          // as they were added
	hidden   []string          // those of them that are passwords
	replacer *strings.Replacer
}

// Add makes the set replace a secret or token from now on.
func (s *Set) Add(values ...string) {
	for _, v := range values {
		s.add(v, Text(v))
	}
}

// AddPassword makes the set replace a password, without its fingerprint.
func (s *Set) AddPassword(values ...string) {
	for _, v := range values {
		s.add(v, Hidden)
	}
}

func (s *Set) add(value, replacement string) {
	if s == nil || len(strings.TrimSpace(value)) < minimal {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, met := s.known[value]; met {
		return
	}
	if s.known == nil {
		s.known = map[string]string{}
	}
	if replacement == Hidden {
		s.hidden = append(s.hidden, value)
	} else {
		s.values = append(s.values, value)
	}
	for _, spelling := range spellings(value) {
		if _, met := s.known[spelling]; !met {
			s.known[spelling] = replacement
		}
	}
	s.replacer = nil
}

// Values lists the secrets and tokens of the set, and apart from them the
// passwords. The caller must not change the lists.
func (s *Set) Values() (values, passwords []string) {
	if s == nil {
		return nil, nil
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.Clip(s.values), slices.Clip(s.hidden)
}

// spellings lists how a value may appear in HTTP and JSON text.
func spellings(v string) []string {
	quoted, _ := json.Marshal(v)
	out := []string{v, url.QueryEscape(v), url.PathEscape(v), strings.Trim(string(quoted), `"`),
		url.QueryEscape(url.QueryEscape(v)),
		base64.StdEncoding.EncodeToString([]byte(v)), base64.RawURLEncoding.EncodeToString([]byte(v))}
	if trimmed := strings.TrimSpace(v); trimmed != v {
		out = append(out, trimmed, url.QueryEscape(trimmed))
	}
	return out
}

// Replace returns text with every known secret and token masked.
func (s *Set) Replace(text string) string {
	if s == nil || text == "" {
		return text
	}
	s.mu.RLock()
	r, empty := s.replacer, len(s.known) == 0
	s.mu.RUnlock()
	if empty {
		return text
	}
	if r == nil {
		r = s.build()
	}
	return r.Replace(text)
}

// build makes the replacer, longest spelling first so that a secret which
// contains another is replaced whole.
func (s *Set) build() *strings.Replacer {
	s.mu.Lock()
	defer s.mu.Unlock()
	keys := make([]string, 0, len(s.known))
	for k := range s.known {
		keys = append(keys, k)
	}
	sort.Slice(keys, func(i, j int) bool {
		if len(keys[i]) != len(keys[j]) {
			return len(keys[i]) > len(keys[j])
		}
		return keys[i] < keys[j]
	})
	pairs := make([]string, 0, 2*len(keys))
	for _, k := range keys {
		pairs = append(pairs, k, s.known[k])
	}
	s.replacer = strings.NewReplacer(pairs...)
	return s.replacer
}
