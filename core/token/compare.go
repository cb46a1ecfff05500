package token

import (
	"slices"
	"strings"
	"time"

	"tidycourier/core/mask"
)

// Change is what became of one thing between two tokens.
type Change string

const (
	Same    Change = "same"
	Added   Change = "added"
	Removed Change = "removed"
	Changed Change = "changed"
)

// Row is one thing compared. A token appears by its fingerprint only.
type Row struct {
	Group  string   `json:"group"` // "token set", "access token", "access token header", …
	Name   string   `json:"name"`
	Before string   `json:"before"`
	After  string   `json:"after"`
	Change Change   `json:"change"`
	Later  *float64 `json:"later_seconds,omitempty"` // of times: how much later the second is
	Lost   []string `json:"lost,omitempty"`          // of sets: what only the first has
	Won    []string `json:"won,omitempty"`           // of sets: what only the second has
}

// Comparison is two tokens or token sets side by side.
type Comparison struct {
	Equal bool  `json:"equal"`
	Rows  []Row `json:"rows"`
}

// Held is a token set to compare; a token alone has only Access.
type Held struct {
	Access, Refresh, ID   string
	TokenType             string
	Scope                 []string
	Server, Grant         string
	ObtainedAt, ExpiresAt time.Time // zero when not known
}

// Compare puts two token sets side by side: the set first, then what stands in
// its tokens.
func Compare(a, b Held) Comparison {
	c := &comparer{}
	c.group = "token set"
	c.texts("server", a.Server, b.Server)
	c.texts("grant", a.Grant, b.Grant)
	c.texts("access token", print(a.Access), print(b.Access))
	c.texts("refresh token", print(a.Refresh), print(b.Refresh))
	c.texts("id token", print(a.ID), print(b.ID))
	c.texts("token type", a.TokenType, b.TokenType)
	c.times("obtained", a.ObtainedAt, b.ObtainedAt)
	c.times("ends", a.ExpiresAt, b.ExpiresAt)
	c.sets("scope", a.Scope, b.Scope)
	c.tokens("access token", a.Access, b.Access)
	c.tokens("id token", a.ID, b.ID)
	out := Comparison{Equal: true, Rows: c.rows}
	for _, r := range c.rows {
		out.Equal = out.Equal && r.Change == Same
	}
	return out
}

func print(raw string) string {
	if raw == "" {
		return ""
	}
	return mask.Fingerprint(raw)
}

// comparer gathers rows; what neither side has makes none.
type comparer struct {
	group string
	rows  []Row
}

func (c *comparer) add(r Row) {
	r.Group = c.group
	switch {
	case r.Change != "":
	case r.Before == r.After:
		r.Change = Same
	case r.Before == "":
		r.Change = Added
	case r.After == "":
		r.Change = Removed
	default:
		r.Change = Changed
	}
	c.rows = append(c.rows, r)
}

func (c *comparer) texts(name, a, b string) {
	if a != "" || b != "" {
		c.add(Row{Name: name, Before: a, After: b})
	}
}

func (c *comparer) times(name string, a, b time.Time) {
	text := func(at time.Time) string {
		if at.IsZero() {
			return ""
		}
		return at.UTC().Truncate(time.Second).Format(time.RFC3339)
	}
	if a.IsZero() && b.IsZero() {
		return
	}
	r := Row{Name: name, Before: text(a), After: text(b)}
	if !a.IsZero() && !b.IsZero() {
		later := b.Truncate(time.Second).Sub(a.Truncate(time.Second)).Seconds()
		r.Later = &later
	}
	c.add(r)
}

// sets compares without regard to order: scope is a set (RFC 6749 3.3).
func (c *comparer) sets(name string, a, b []string) {
	if len(a) == 0 && len(b) == 0 {
		return
	}
	r := Row{Name: name, Before: strings.Join(a, " "), After: strings.Join(b, " ")}
	for _, s := range a {
		if !slices.Contains(b, s) {
			r.Lost = append(r.Lost, s)
		}
	}
	for _, s := range b {
		if !slices.Contains(a, s) {
			r.Won = append(r.Won, s)
		}
	}
	if len(r.Lost)+len(r.Won) == 0 {
		r.Change = Same
	}
	c.add(r)
}

// tokens compares what stands in two JWTs, header and claims.
func (c *comparer) tokens(group, a, b string) {
	x, y := readable(a), readable(b)
	if x == nil && y == nil || a == b {
		return
	}
	if x == nil || y == nil {
		c.group = group
		c.texts("form", formOf(a, x), formOf(b, y))
		return
	}
	c.group = group + " header"
	c.values(x.Header, y.Header, x.HeaderOrder, y.HeaderOrder, HeaderRegistry)
	c.group = group
	c.values(x.Claims, y.Claims, x.ClaimOrder, y.ClaimOrder, Registry)
}

func readable(raw string) *Token {
	if raw == "" {
		return nil
	}
	t, err := Decode(raw)
	if err != nil || t.Claims == nil {
		return nil
	}
	return t
}

func formOf(raw string, t *Token) string {
	switch {
	case raw == "":
		return ""
	case t != nil:
		return string(JWT)
	}
	if t, err := Decode(raw); err == nil {
		return string(t.Form)
	}
	return string(Opaque)
}

// setClaims are compared as sets of words.
var setClaims = map[string]bool{"scope": true, "scp": true, "aud": true, "roles": true, "groups": true, "entitlements": true, "permissions": true, "amr": true}

func (c *comparer) values(a, b map[string]any, orderA, orderB []string, registry map[string]Claim) {
	names := slices.Clone(orderA)
	for _, n := range orderB {
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	for _, n := range names {
		x, inA := a[n]
		y, inB := b[n]
		if setClaims[n] && (inA || inB) {
			c.sets(n, words(x), words(y))
			continue
		}
		if registry[n].Kind == KindTime {
			at, okA := numericDate(x)
			bt, okB := numericDate(y)
			if okA && okB || okA && !inB || okB && !inA {
				if !okA {
					at = time.Time{}
				}
				if !okB {
					bt = time.Time{}
				}
				c.times(n, at, bt)
				continue
			}
		}
		r := Row{Name: n, Before: valueText(x, inA), After: valueText(y, inB)}
		switch {
		case !inA:
			r.Change = Added
		case !inB:
			r.Change = Removed
		}
		c.add(r)
	}
}

func words(v any) []string {
	var out []string
	for _, s := range texts(v) {
		out = append(out, strings.Fields(s)...)
	}
	return out
}

func valueText(v any, there bool) string {
	if !there {
		return ""
	}
	if s, ok := v.(string); ok {
		return s
	}
	return jsonText(v)
}
