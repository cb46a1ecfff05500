package project

import (
	"strings"

	"tidycourier/core/fault"
)

// Given is a field's value from the command line.
type Given struct {
	Field  string   // the courier file's name for it
	Value  string   // for texts and lists (items separated by spaces)
	Source string   // for secrets: env, file or command
	Args   []string // for a command: program and arguments
	Flag   string   // "--scope", named in errors
}

// Override lays command-line values over an entry of servers or clients, which
// is made when it is not there. They are checked like the file's own.
func (p *Project) Override(section, name string, given []Given) error {
	if len(given) == 0 {
		return nil
	}
	shape := map[string]*Shape{"servers": ServerShape, "clients": ClientShape}[section]
	entry := p.ensure(section, name, given[0].Flag)
	for _, g := range given {
		v := g.node(shape.field(g.Field).Kind)
		entry.set(g.Field, v)
		if err := checkField(*entry.entry(g.Field), shape.field(g.Field)); err != nil {
			f := fault.As(err)
			f.Kind = fault.Usage
			return f
		}
	}
	return nil
}

func (p *Project) ensure(section, name, flag string) *node {
	s := p.root.get(section)
	if s == nil || s.kind == nodeNull {
		s = &node{kind: nodeMap, where: flag}
		p.root.set(section, s)
	}
	e := s.get(name)
	if e == nil {
		e = &node{kind: nodeMap, where: flag}
		s.set(name, e)
	}
	return e
}

func (g Given) node(kind FieldKind) *node {
	scalar := func(text string) *node { return &node{text: text, where: g.Flag} }
	switch kind {
	case kindList:
		n := &node{kind: nodeList, where: g.Flag}
		for _, item := range strings.Fields(g.Value) {
			n.items = append(n.items, scalar(item))
		}
		return n
	case kindSecret:
		n := &node{kind: nodeMap, where: g.Flag}
		var v *node
		switch g.Source {
		case "command":
			v = &node{kind: nodeList, where: g.Flag}
			for _, a := range g.Args {
				v.items = append(v.items, scalar(a))
			}
		case "ask":
			v = scalar("true")
			v.isBool = true
		default:
			v = scalar(g.Value)
		}
		n.set(g.Source, v)
		return n
	}
	return scalar(g.Value)
}

// OverrideParam adds or replaces an extra request parameter of a client.
func (p *Project) OverrideParam(client, leg, name, value, flag string) {
	c := p.ensure("clients", client, flag)
	params := c.get("parameters")
	if params == nil {
		params = &node{kind: nodeMap, where: flag}
		c.set("parameters", params)
	}
	of := params.get(leg)
	if of == nil {
		of = &node{kind: nodeMap, where: flag}
		params.set(leg, of)
	}
	of.set(name, &node{text: value, where: flag})
}

// Line is one resolved setting of an entry, for show NAME.
type Line struct {
	Key   string   `json:"key"`
	Value string   `json:"value"`
	Where string   `json:"where"`
	From  []string `json:"from,omitempty"`
}

// Describe resolves every setting of an entry, in the file's order. Secrets are
// described by their source.
func (p *Project) Describe(section, name string) ([]Line, error) {
	n, err := p.section(section, strings.TrimSuffix(section, "s"), name, p.Display())
	if err != nil {
		return nil, err
	}
	r := &resolver{p: p}
	return r.describe(n, "", fileShape.field(section).Of), r.err
}

func (r *resolver) describe(n *node, prefix string, shape *Shape) []Line {
	var out []Line
	for _, e := range n.entries() {
		var f *Field
		if shape != nil {
			f = shape.field(e.name)
		}
		key := prefix + e.name
		switch {
		case f != nil && f.Kind == kindSecret:
			if s := r.secret(n, e.name); s != nil {
				out = append(out, Line{Key: key, Value: "[" + s.Source() + "]", Where: e.value.where})
			}
		case f != nil && f.Kind == kindJSON && e.value.kind != nodeScalar:
			out = append(out, Line{Key: key, Value: r.json(e.value), Where: e.value.where})
		case e.value.kind == nodeMap:
			var of *Shape
			if f != nil {
				of = f.Of
			}
			out = append(out, r.describe(e.value, key+".", of)...)
		case e.value.kind == nodeList:
			l := r.list(n, e.name)
			out = append(out, Line{Key: key, Value: strings.Join(l.Values, " "), Where: l.Where, From: l.From})
		default:
			v := r.value(e.value, e.name)
			out = append(out, Line{Key: key, Value: v.Value, Where: v.Where, From: v.From})
		}
	}
	return out
}
