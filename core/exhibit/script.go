package exhibit

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/finding"
	"tidycourier/core/mask"
	"tidycourier/core/run"
)

// unsent are headers that belong to the connection, and that curl sets itself.
var unsent = []string{"Host", "Content-Length", "Connection", "Accept-Encoding", "Transfer-Encoding", "User-Agent"}

// script collects the variables that stand for secrets, in the order of their
// first use.
type script struct {
	set   *mask.Set
	order []string
	about map[string]string
	names map[string]string // value to variable
}

// Script writes a run's requests as a shell script that sends them again. A
// secret is a variable, which the script asks for by name; what has no name of
// its own and is secret all the same is masked, and the script says so. Legs that
// need a person, or came to us, are comments.
func Script(r *run.Run, set *mask.Set) string {
	s := &script{set: set, about: map[string]string{}, names: map[string]string{}}
	var body strings.Builder
	for i := range r.Legs {
		s.leg(&body, &r.Legs[i])
	}
	var b strings.Builder
	b.WriteString("#!/bin/sh\n")
	fmt.Fprintf(&b, "# Sends the requests of a run again: %s, %s.\n", oneLine(strings.TrimSpace(r.Command+" "+r.Client)), r.Started.UTC().Format("2006-01-02 15:04:05 UTC"))
	b.WriteString("# Needs curl. Codes and refresh tokens serve once: take new ones.\nset -eu\n")
	if len(s.order) > 0 {
		b.WriteString("\n# What was secret; set them before.\n")
	}
	for _, name := range s.order {
		fmt.Fprintf(&b, ": \"${%s:?%s}\"\n", name, s.about[name])
	}
	b.WriteString("\nurlencoded() { printf %s \"$1\" | od -An -v -tx1 | tr -d '\\n' | sed 's/ /%/g'; }\n")
	b.WriteString(body.String())
	return b.String()
}

// oneLine keeps foreign text inside a comment.
func oneLine(text string) string {
	return strings.Map(func(c rune) rune {
		if c < 0x20 || c == 0x7f || c == 0x85 || c == 0x2028 || c == 0x2029 {
			return ' '
		}
		return c
	}, text)
}

func (s *script) leg(b *strings.Builder, l *run.Leg) {
	fmt.Fprintf(b, "\n# leg %d: %s\n", l.N, l.Kind)
	if l.Exchange == nil || l.Inbound || l.Kind == run.Authorization {
		fmt.Fprintf(b, "# %s %s\n", l.Method, oneLine(s.set.Replace(mask.URL(l.URL))))
		if l.Inbound {
			b.WriteString("# came to the redirect URI\n")
		} else {
			b.WriteString("# a person answers it, in a browser\n")
		}
		return
	}
	parts := []string{"curl --silent --show-error --include --request " + quoted(l.Method) + " " + s.address(l.URL)}
	for _, n := range slices.Sorted(maps.Keys(l.Exchange.Request.Header)) {
		if slices.Contains(unsent, n) {
			continue
		}
		for _, v := range l.Exchange.Request.Header[n] {
			parts = append(parts, "--header "+s.header(n, v, l.Placed))
		}
	}
	if body := l.Exchange.Request.Body; len(body) > 0 {
		parts = append(parts, "--data-binary "+s.body(l, string(body)))
	}
	b.WriteString(strings.Join(parts, " \\\n  ") + "\n")
}

// quoted is a text as one word of the shell.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// word is a foreign name with nothing in it that the shell reads.
func word(name string) string {
	return strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' {
			return c
		}
		return '_'
	}, name)
}

// variable gives a secret its variable; the same value gets the same one.
func (s *script) variable(name, value, about string) string {
	if known := s.names[value]; known != "" {
		return known
	}
	base := strings.ToUpper(strings.ReplaceAll(word(name), "-", "_"))
	if !mask.Named(name) { // a foreign name must not become PATH
		base = "VALUE_" + base
	}
	name = base
	for i := 2; s.about[name] != ""; i++ {
		name = fmt.Sprintf("%s_%d", base, i)
	}
	s.names[value], s.about[name] = name, about
	s.order = append(s.order, name)
	return name
}

func (s *script) header(name, value, placed string) string {
	head := quoted(name + ": ")
	own := placed != "" && strings.EqualFold(name, placed)
	switch {
	case own || strings.EqualFold(name, "Authorization"):
		scheme, rest, found := strings.Cut(value, " ")
		if !found {
			scheme, rest = "", value
		}
		if id, secret, ok := finding.BasicCredentials(value); ok && strings.EqualFold(scheme, "Basic") {
			v := s.variable("client_secret", secret, "the client's secret")
			return `"` + name + `: Basic $(printf %s ` + quoted(url.QueryEscape(id)) + `":$(urlencoded "$` + v + `")" | base64 | tr -d '\n')"`
		}
		if rest == "" {
			return quoted(name + ": " + value)
		}
		if found {
			scheme += " "
		}
		return quoted(name+": "+scheme) + `"$` + s.variable("access_token", rest, "an access token") + `"`
	case mask.Header(name, value, placed) != value:
		return head + `"$` + s.variable(name, value, "the header "+word(name)) + `"`
	}
	return quoted(name + ": " + s.set.Replace(value))
}

// address is a URL as one word; secret parameters are variables.
func (s *script) address(raw string) string {
	head, query, found := strings.Cut(raw, "?")
	if !found {
		return quoted(s.set.Replace(mask.URL(raw)))
	}
	return quoted(s.set.Replace(mask.URL(head))+"?") + s.form(query)
}

func (s *script) body(l *run.Leg, text string) string {
	if strings.Contains(l.Exchange.Request.Header.Get("Content-Type"), "x-www-form-urlencoded") {
		return s.form(text)
	}
	mt := l.Exchange.Request.Header.Get("Content-Type")
	return quoted(s.set.Replace(mask.Data(mt, text)))
}

func (s *script) form(text string) string {
	var b, plainly strings.Builder
	flush := func() {
		if plainly.Len() > 0 {
			b.WriteString(quoted(plainly.String()))
			plainly.Reset()
		}
	}
	for i, pair := range strings.Split(text, "&") {
		if i > 0 {
			plainly.WriteByte('&')
		}
		name, value, _ := strings.Cut(pair, "=")
		plain, err := url.QueryUnescape(value)
		if err != nil {
			plain = value
		}
		if plain == "" || mask.Value(name, plain) == plain && s.set.Replace(plain) == plain {
			plainly.WriteString(pair)
			continue
		}
		plainly.WriteString(name + "=")
		flush()
		b.WriteString(`"$(urlencoded "$` + s.variable(name, plain, "the parameter "+word(name)) + `")"`)
	}
	flush()
	return b.String()
}
