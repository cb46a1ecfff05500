package project

import (
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"tidycourier/core/fault"
)

// MaxFile bounds the courier file: real ones have a few hundred lines.
const MaxFile = 1 << 20

// maxNesting bounds its depth; the layout needs 6.
const maxNesting = 32

type nodeKind int

const (
	nodeScalar nodeKind = iota
	nodeMap
	nodeList
	nodeNull
)

// node is a value of the file with its place. Scalars keep their source text:
// a port or a date is what was written.
type node struct {
	kind   nodeKind
	text   string
	plain  bool // a scalar written without quotes
	isBool bool
	isNum  bool
	keys   []entry
	items  []*node
	where  string // "courier.yaml:31:5", or the flag it came from
	line   int    // 1-based; 0 when it came from a flag
	col    int
	flow   bool // a mapping or list in braces or brackets
	length int  // of the scalar's source text, in runes, when it stands on one line
}

// entry is one key of a mapping.
type entry struct {
	name  string
	where string
	line  int
	col   int
	value *node
}

func (n *node) get(name string) *node {
	if n == nil {
		return nil
	}
	for i := range n.keys {
		if n.keys[i].name == name {
			return n.keys[i].value
		}
	}
	return nil
}

func (n *node) entry(name string) *entry {
	if n == nil {
		return nil
	}
	for i := range n.keys {
		if n.keys[i].name == name {
			return &n.keys[i]
		}
	}
	return nil
}

func (n *node) names() []string {
	if n == nil {
		return nil
	}
	out := make([]string, len(n.keys))
	for i := range n.keys {
		out[i] = n.keys[i].name
	}
	return out
}

// set puts a value under a key, replacing what was there.
func (n *node) set(name string, value *node) {
	if e := n.entry(name); e != nil {
		e.value, e.where = value, value.where
		return
	}
	n.keys = append(n.keys, entry{name: name, where: value.where, value: value})
}

// parse reads YAML text into nodes. display is the file's name in errors.
func parse(src []byte, display string) (*node, error) {
	if len(src) > MaxFile {
		return nil, fault.New(fault.Settings, "the courier file is larger than %d MiB", MaxFile>>20).At(display)
	}
	file, err := parser.ParseBytes(src, 0)
	if err != nil {
		return nil, syntaxError(err, display)
	}
	b := builder{display: display}
	var root *node
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		if root != nil {
			return nil, fault.New(fault.Settings, "a courier file is one document; a second begins here").At(b.at(doc.Body.GetToken()))
		}
		if root, err = b.node(doc.Body, 0); err != nil {
			return nil, err
		}
	}
	if root == nil {
		root = &node{kind: nodeMap, where: display + ":1:1", line: 1, col: 1}
	}
	if root.kind != nodeMap {
		return nil, fault.New(fault.Settings, "a courier file is a mapping, with keys such as servers, clients and calls").At(root.where).
			Hint("tidy-courier init writes one to start from")
	}
	return root, nil
}

func syntaxError(err error, display string) error {
	var y yaml.Error
	if errors.As(err, &y) && y.GetToken() != nil {
		p := y.GetToken().Position
		return fault.New(fault.Settings, "this is not well-formed YAML: %s", y.GetMessage()).
			At(fmt.Sprintf("%s:%d:%d", display, p.Line, p.Column)).Hint("look at the indentation and quotes of this line and the one above")
	}
	return fault.Wrap(fault.Settings, err, "this is not well-formed YAML").At(display)
}

type builder struct{ display string }

func (b builder) at(t *token.Token) string {
	if t == nil || t.Position == nil {
		return b.display
	}
	return fmt.Sprintf("%s:%d:%d", b.display, t.Position.Line, t.Position.Column)
}

func (b builder) node(n ast.Node, depth int) (*node, error) {
	if depth > maxNesting {
		return nil, fault.New(fault.Settings, "nested deeper than %d levels", maxNesting).At(b.at(n.GetToken()))
	}
	tok := n.GetToken()
	out := &node{where: b.at(tok)}
	if tok != nil && tok.Position != nil {
		out.line, out.col = tok.Position.Line, tok.Position.Column
	}
	switch v := n.(type) {
	case *ast.MappingNode:
		out.kind, out.flow = nodeMap, v.IsFlowStyle
		for _, pair := range v.Values {
			if err := b.pair(out, pair, depth); err != nil {
				return nil, err
			}
		}
	case *ast.MappingValueNode:
		out.kind = nodeMap
		return out, b.pair(out, v, depth)
	case *ast.SequenceNode:
		out.kind, out.flow = nodeList, v.IsFlowStyle
		for _, item := range v.Values {
			child, err := b.node(item, depth+1)
			if err != nil {
				return nil, err
			}
			out.items = append(out.items, child)
		}
	case *ast.NullNode:
		out.kind = nodeNull
	case *ast.LiteralNode:
		out.text = v.Value.Value
	case *ast.AnchorNode, *ast.AliasNode, *ast.MergeKeyNode, *ast.TagNode:
		return nil, fault.New(fault.Settings, "anchors, aliases and tags are not used in a courier file").At(out.where).
			Hint("write the value out, or use ${name} with an entry under values")
	case ast.ScalarNode:
		out.scalar(v, tok)
	default:
		return nil, fault.New(fault.Settings, "this kind of YAML is not used in a courier file").At(out.where)
	}
	return out, nil
}

func (n *node) scalar(v ast.ScalarNode, tok *token.Token) {
	n.text = tok.Value
	switch s := v.(type) {
	case *ast.StringNode:
		n.text = s.Value
		n.plain = tok.Type == token.StringType
	case *ast.BoolNode:
		n.isBool, n.plain = true, true
	case *ast.IntegerNode, *ast.FloatNode:
		n.isNum, n.plain = true, true
	default:
		n.plain = true
	}
	n.length = len([]rune(tok.Value))
	if !n.plain {
		n.length += 2
	}
}

func (b builder) pair(out *node, pair *ast.MappingValueNode, depth int) error {
	key := pair.Key.GetToken()
	if _, merge := pair.Key.(*ast.MergeKeyNode); merge {
		return fault.New(fault.Settings, "merge keys are not used in a courier file").At(b.at(key)).Hint("write the values out")
	}
	e := entry{name: key.Value, where: b.at(key), line: key.Position.Line, col: key.Position.Column}
	if earlier := out.entry(e.name); earlier != nil {
		return fault.New(fault.Settings, "%q is here twice; the first is at %s", e.name, earlier.where).At(e.where).Hint("keep one of the two")
	}
	value, err := b.node(pair.Value, depth+1)
	if err != nil {
		return err
	}
	if value.kind == nodeNull {
		value.where = e.where
	}
	e.value = value
	out.keys = append(out.keys, e)
	return nil
}
