package project

import (
	"regexp"
	"strings"
	"sync"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/near"
)

// check holds the whole file against the layout: unknown keys, wrong types,
// unknown words, names that point nowhere.
func check(root *node) error {
	if err := checkMapping(root, fileShape); err != nil {
		return err
	}
	if v := root.get("version"); v == nil {
		return fault.New(fault.Settings, "the courier file does not say which version of the layout it uses").At(root.where).Hint("add the line: version: 1")
	} else if v.text != "1" {
		return fault.New(fault.Settings, "version %s of the courier file is not one this program knows", v.text).At(v.where).Hint("write version: 1, or update tidy-courier")
	}
	for _, ref := range []struct{ section, field, target string }{
		{"clients", "server", "servers"}, {"apis", "client", "clients"}, {"calls", "api", "apis"}, {"calls", "client", "clients"},
	} {
		if err := checkReferences(root, ref.section, ref.field, ref.target); err != nil {
			return err
		}
	}
	return checkRounds(root)
}

func checkMapping(n *node, s *Shape) error {
	if n.kind == nodeNull {
		return nil
	}
	if n.kind != nodeMap {
		return fault.New(fault.Settings, "a %s is a mapping of names to values", s.Name).At(n.where)
	}
	for _, e := range n.keys {
		f := s.field(e.name)
		if f == nil {
			return unknownKey(e, s)
		}
		if err := checkField(e, f); err != nil {
			return err
		}
	}
	return nil
}

func unknownKey(e entry, s *Shape) error {
	err := fault.New(fault.Settings, "%q is not a key of a %s", e.name, s.Name).At(e.where)
	if n := near.Name(e.name, s.names()); n != "" {
		return err.Hint("the nearest known key is %q", n)
	}
	return err.Hint("known keys: %s", strings.Join(s.names(), ", "))
}

var (
	statusPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[1-5](\d\d|xx)$`) })
	namePattern   = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`) })
)

func checkField(e entry, f *Field) error {
	v := e.value
	if v.kind == nodeNull && f.Kind != kindNamed && f.Kind != kindTexts && f.Kind != kindMapping {
		return fault.New(fault.Settings, "%q has no value", e.name).At(e.where).Hint("give it one (%s), or remove the line", f.Kind)
	}
	wrong := fault.New(fault.Settings, "%q must be a %s", e.name, f.Kind).At(v.where)
	switch f.Kind {
	case kindText, kindDate, kindNumber, kindBool:
		if v.kind != nodeScalar {
			return wrong
		}
		return checkScalar(e, f)
	case kindList:
		return checkList(v, wrong)
	case kindStatus:
		return checkStatus(v, wrong)
	case kindSecret:
		return checkSecret(e)
	case kindTexts:
		return checkTexts(v, wrong)
	case kindEither:
		return checkEither(e, f)
	case kindEithers:
		return checkEithers(v, f, wrong)
	case kindLength:
		return checkLength(e, wrong)
	case kindMapping:
		return checkMapping(v, f.Of)
	case kindNamed:
		return checkNamed(v, f, wrong)
	}
	return nil
}

func checkScalar(e entry, f *Field) error {
	v := e.value
	switch {
	case f.Kind == kindBool && !v.isBool:
		return fault.New(fault.Settings, "%q must be true or false, not %q", e.name, v.text).At(v.where)
	case f.Kind == kindNumber && !v.isNum:
		return fault.New(fault.Settings, "%q must be a number, not %q", e.name, v.text).At(v.where)
	case f.Kind == kindDate && !strings.Contains(v.text, "${"):
		if _, err := time.Parse(time.DateOnly, v.text); err != nil {
			return fault.New(fault.Settings, "%q must be a date such as 2027-02-01, not %q", e.name, v.text).At(v.where)
		}
	case f.Enum != nil && !strings.Contains(v.text, "${"):
		return checkWord(v.text, e.name, v.where, f.Enum)
	}
	return nil
}

func checkWord(word, field, where string, known []string) error {
	for _, k := range known {
		if k == word {
			return nil
		}
	}
	err := fault.New(fault.Settings, "%q is not a known %s", word, field).At(where)
	if n := near.Name(word, known); n != "" {
		return err.Hint("did you mean %s? known: %s", n, strings.Join(known, ", "))
	}
	return err.Hint("known: %s", strings.Join(known, ", "))
}

func checkList(v *node, wrong *fault.Error) error {
	if v.kind == nodeMap {
		return wrong
	}
	for _, item := range v.items {
		if item.kind != nodeScalar {
			return fault.New(fault.Settings, "an item of this list is not a text").At(item.where)
		}
	}
	return nil
}

func checkStatus(v *node, wrong *fault.Error) error {
	items := v.items
	if v.kind == nodeScalar {
		items = []*node{v}
	}
	if len(items) == 0 {
		return wrong
	}
	for _, item := range items {
		if item.kind != nodeScalar || !statusPattern().MatchString(item.text) {
			return fault.New(fault.Settings, "%q is not an HTTP status such as 200, or a class such as 2xx", item.text).At(item.where)
		}
	}
	return nil
}

func checkTexts(v *node, wrong *fault.Error) error {
	if v.kind == nodeNull {
		return nil
	}
	if v.kind != nodeMap {
		return wrong
	}
	for _, e := range v.keys {
		if e.value.kind == nodeMap || e.value.kind == nodeList {
			return fault.New(fault.Settings, "the value of %q must be a text", e.name).At(e.value.where)
		}
	}
	return nil
}

// checkEither checks a text, or the mapping it stands for.
func checkEither(e entry, f *Field) error {
	switch e.value.kind {
	case nodeMap:
		return checkMapping(e.value, f.Of)
	case nodeScalar:
		return checkField(e, &Field{Name: f.Name, Kind: kindText, Enum: f.Of.Fields[0].Enum})
	}
	return fault.New(fault.Settings, "%q must be a text, or a mapping with %s", e.name, strings.Join(f.Of.names(), ", ")).At(e.value.where)
}

func checkEithers(v *node, f *Field, wrong *fault.Error) error {
	if v.kind == nodeNull {
		return nil
	}
	if v.kind != nodeMap {
		return wrong
	}
	for _, e := range v.keys {
		if err := checkEither(e, f); err != nil {
			return err
		}
	}
	return nil
}

func checkLength(e entry, wrong *fault.Error) error {
	if e.value.kind != nodeScalar {
		return wrong
	}
	if strings.Contains(e.value.text, "${") {
		return nil
	}
	if d, err := time.ParseDuration(e.value.text); err != nil || d < 0 {
		return fault.New(fault.Settings, "%q must be a length of time, not %q", e.name, e.value.text).At(e.value.where).Hint("as in 800ms, 2s or 1m30s")
	}
	return nil
}

// checkRound checks a list of calls, or the mapping that says more.
func checkRound(v *node) error {
	if v.kind == nodeMap {
		return checkMapping(v, roundShape)
	}
	return checkList(v, fault.New(fault.Settings, "a round is a list of calls, or a mapping with %s", strings.Join(roundShape.names(), ", ")).At(v.where))
}

func checkNamed(v *node, f *Field, wrong *fault.Error) error {
	if v.kind == nodeNull {
		return nil
	}
	if v.kind != nodeMap {
		return wrong
	}
	for _, e := range v.keys {
		if !namePattern().MatchString(e.name) {
			return fault.New(fault.Settings, "%q is not a usable name: letters, digits, dots, dashes and underscores, no space", e.name).At(e.where)
		}
		var err error
		switch {
		case f.Of != nil:
			err = checkMapping(e.value, f.Of)
		case f.Name == "stages":
			err = checkTexts(e.value, fault.New(fault.Settings, "a stage is a mapping of names to values").At(e.value.where))
		default:
			err = checkRound(e.value)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func checkReferences(root *node, section, field, target string) error {
	for _, e := range root.get(section).entries() {
		v := e.value.get(field)
		if v == nil || strings.Contains(v.text, "${") {
			continue
		}
		if root.get(target).get(v.text) == nil && root.get(target).entry(v.text) == nil {
			return missing(v.text, field, v.where, root.get(target).names())
		}
	}
	return nil
}

func checkRounds(root *node) error {
	for _, e := range root.get("rounds").entries() {
		for _, list := range []*node{e.value, e.value.get("setup"), e.value.get("calls"), e.value.get("cleanup")} {
			if list == nil {
				continue
			}
			for _, item := range list.items {
				if root.get("calls").entry(item.text) == nil {
					return missing(item.text, "call", item.where, root.get("calls").names())
				}
			}
		}
	}
	for _, e := range root.get("calls").entries() {
		if v := e.value.get("as").get("client"); v != nil && !strings.Contains(v.text, "${") && root.get("clients").entry(v.text) == nil {
			return missing(v.text, "client", v.where, root.get("clients").names())
		}
	}
	return nil
}

func (n *node) entries() []entry {
	if n == nil {
		return nil
	}
	return n.keys
}

// missing is the error for a name that points nowhere.
func missing(name, what, where string, known []string) error {
	err := fault.New(fault.Settings, "there is no %s %q in this courier file", what, name).At(where)
	if n := near.Name(name, known); n != "" {
		return err.Hint("did you mean %q?", n)
	}
	if len(known) == 0 {
		return err.Hint("the file has none yet")
	}
	return err.Hint("there are: %s", strings.Join(known, ", "))
}
