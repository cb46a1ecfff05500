package project

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/near"
)

// maxExpansion bounds values that name each other: deep enough for any real
// file, and a circle ends.
const maxExpansion = 16

var clockPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(now|today)(?:([+-])(\d{1,6})([smhdw]))?$`) })

// expand replaces the placeholders of a text. from lists each one with where
// its value came from. An unresolved placeholder is an error that names the
// key, its place, and where it was looked for.
func (p *Project) expand(text, key, where string) (out string, from []string, err error) {
	return p.expandDeep(text, key, where, 0)
}

func (p *Project) expandDeep(text, key, where string, depth int) (string, []string, error) {
	if !strings.Contains(text, "$") {
		return text, nil, nil
	}
	if depth > maxExpansion {
		return "", nil, fault.New(fault.Settings, "the values that %q uses name each other in a circle", key).At(where)
	}
	var b strings.Builder
	var from []string
	for {
		i := strings.Index(text, "${")
		if i < 0 {
			b.WriteString(text)
			return b.String(), from, nil
		}
		if i > 0 && text[i-1] == '$' { // $${ is a literal ${
			b.WriteString(text[:i-1] + "${")
			text = text[i+2:]
			continue
		}
		b.WriteString(text[:i])
		name, rest, closed := strings.Cut(text[i+2:], "}")
		if !closed {
			return "", nil, fault.New(fault.Settings, "the placeholder %q in %s is not closed", text[i:], key).At(where).
				Hint("close it with }, or write $${ for a literal ${")
		}
		v, source, err := p.lookup(strings.TrimSpace(name), key, where, depth)
		if err != nil {
			return "", nil, err
		}
		b.WriteString(v)
		from = append(from, "${"+name+"} from "+source)
		text = rest
	}
}

// lookup finds one placeholder's value and says where it came from.
func (p *Project) lookup(name, key, where string, depth int) (string, string, error) {
	if env, isEnv := strings.CutPrefix(name, "env."); isEnv {
		if v, source, ok := p.Env(env); ok {
			return v, source, nil
		}
		return "", "", fault.New(fault.Settings, "${env.%s} in %s has no value", env, key).At(where).
			Hint("it was looked for in the process environment and in %s; export it, or add a line %s=… there", p.display(p.envPath()), env)
	}
	if v, ok := p.clock(name); ok {
		return v, "the clock", nil
	}
	if name == "uuid" {
		return p.opt.UUID(), "a new random UUID", nil
	}
	if v, ok := p.opt.Set[name]; ok {
		return v, "--set", nil
	}
	if v, ok := p.opt.Kept[name]; ok {
		return v, "an earlier call (kept)", nil
	}
	for _, place := range p.valuePlaces() {
		if v := place.node.get(name); v != nil && v.kind == nodeScalar {
			text, _, err := p.expandDeep(v.text, name, v.where, depth+1)
			return text, place.name + " (" + v.where + ")", err
		}
	}
	return "", "", p.unresolved(name, key, where)
}

type valuePlace struct {
	name string
	node *node
}

func (p *Project) valuePlaces() []valuePlace {
	var out []valuePlace
	if p.opt.Stage != "" {
		out = append(out, valuePlace{"stage " + p.opt.Stage, p.root.get("stages").get(p.opt.Stage)})
	}
	return append(out, valuePlace{"values", p.root.get("values")})
}

func (p *Project) unresolved(name, key, where string) error {
	looked := []string{"--set", "kept values"}
	known := []string{"now", "today", "uuid"}
	for _, place := range p.valuePlaces() {
		looked = append(looked, place.name)
		known = append(known, place.node.names()...)
	}
	for k := range p.opt.Kept {
		known = append(known, k)
	}
	err := fault.New(fault.Settings, "${%s} in %s has no value; nothing was sent", name, key).At(where)
	looked = slices.Compact(looked)
	hint := fmt.Sprintf("it was looked for in %s", strings.Join(looked, ", "))
	if n := near.Name(name, known); n != "" {
		return err.Hint("did you mean ${%s}? %s", n, hint)
	}
	if keeper := p.keeper(name); keeper != "" {
		return err.Hint("the call %s keeps it: run tidy-courier call %s first; %s", keeper, keeper, hint)
	}
	return err.Hint("%s; add it under values, or give --set %s=…", hint, name)
}

// keeper is the call that keeps a value of that name, if any.
func (p *Project) keeper(name string) string {
	for _, e := range p.root.get("calls").entries() {
		if e.value.get("keep").get(name) != nil {
			return e.name
		}
	}
	return ""
}

// clock resolves now, now-30d, now+2h (RFC 3339, UTC) and today-7d (a date).
func (p *Project) clock(name string) (string, bool) {
	m := clockPattern().FindStringSubmatch(name)
	if m == nil {
		return "", false
	}
	at := p.opt.Now().UTC()
	if m[3] != "" {
		n, _ := strconv.Atoi(m[3])
		if m[2] == "-" {
			n = -n
		}
		switch m[4] {
		case "d":
			at = at.AddDate(0, 0, n)
		case "w":
			at = at.AddDate(0, 0, 7*n)
		default:
			at = at.Add(time.Duration(n) * map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour}[m[4]])
		}
	}
	if m[1] == "today" {
		return at.Format(time.DateOnly), true
	}
	return at.Truncate(time.Second).Format(time.RFC3339), true
}
