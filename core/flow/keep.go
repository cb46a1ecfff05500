package flow

import (
	"fmt"
	"strings"

	"tidycourier/core/fault"
	"tidycourier/core/project"
)

// Option is one record to choose from.
type Option struct{ Value, Label string }

// Chooser lets a person choose one of several; it returns the index.
type Chooser func(name string, options []Option) (int, error)

// keepValues takes what the call keeps out of its answer, and remembers it per
// project and stage.
func (s *Session) keepValues(p *CallPlan, res *CallResult) error {
	if p.Saved == nil || len(p.Saved.Keep) == 0 || res.Leg.Status() >= 300 {
		return nil
	}
	res.Kept = map[string]string{}
	for _, k := range p.Saved.Keep {
		v, err := s.choose(k, res.Leg.Exchange.Response.Body)
		if err != nil {
			return err
		}
		res.Kept[k.Name] = v
	}
	pouch, err := s.e.Store.Pouch()
	if err != nil {
		return err
	}
	return pouch.Keep(s.e.Project.Key(), s.e.Project.Stage(), res.Kept)
}

// choose finds one value: the first that the path finds, or that of the record
// that was picked.
func (s *Session) choose(k project.Keep, body []byte) (string, error) {
	no := func(format string, args ...any) error {
		return fault.New(fault.Expectation, "nothing to keep as ${%s}: %s", k.Name, fmt.Sprintf(format, args...)).At(k.Where)
	}
	found, err := Pick(body, k.From)
	if err != nil {
		return "", no("%s", err.Error())
	}
	if len(found) == 0 {
		return "", no("%s matches nothing in the answer", k.From)
	}
	options := make([]Option, len(found))
	for i, record := range found {
		if options[i], err = optionOf(k, record); err != nil {
			return "", no("%s", err.Error())
		}
	}
	switch k.Pick {
	case "only":
		if len(found) > 1 {
			return "", no("there are %d, and only one was expected: %s", len(found), values(options))
		}
	case "newest":
		i, err := newest(found, k.Newest)
		if err != nil {
			return "", no("%s", err.Error())
		}
		return options[i].Value, nil
	case "ask":
		return s.askFor(k, options)
	}
	return options[0].Value, nil
}

// askFor lets a person choose; --set answers before, and one record needs no
// choice.
func (s *Session) askFor(k project.Keep, options []Option) (string, error) {
	if v, given := s.e.Project.Given(k.Name); given {
		for _, o := range options {
			if o.Value == v {
				return v, nil
			}
		}
		return "", fault.New(fault.Settings, "%q is not one of what the answer offers as ${%s}: %s", v, k.Name, values(options)).At("--set")
	}
	if len(options) == 1 {
		return options[0].Value, nil
	}
	if s.e.Choose == nil {
		return "", fault.New(fault.Settings, "there are %d to choose ${%s} from, and no terminal to ask at: %s", len(options), k.Name, values(options)).At(k.Where).
			Hint("choose with --set %s=VALUE, or write pick: first, only or { newest: MEMBER }", k.Name)
	}
	i, err := s.e.Choose(k.Name, options)
	if err != nil {
		return "", err
	}
	return options[i].Value, nil
}

func values(options []Option) string {
	var out []string
	for _, o := range options[:min(len(options), 8)] {
		out = append(out, o.Value)
	}
	if len(options) > 8 {
		out = append(out, "…")
	}
	return strings.Join(out, ", ")
}

func optionOf(k project.Keep, record any) (Option, error) {
	if k.Value == "" {
		return Option{Value: Text(record)}, nil
	}
	m, ok := record.(map[string]any)
	if !ok {
		return Option{}, fmt.Errorf("%s finds %s, which is no record with a member %q", k.From, Text(record), k.Value)
	}
	v, there := m[k.Value]
	if !there {
		return Option{}, fmt.Errorf("a record has no member %q: %s", k.Value, Text(record))
	}
	o := Option{Value: Text(v)}
	if label, there := m[k.Label]; there {
		o.Label = Text(label)
	}
	return o, nil
}

// newest is the record whose member is the latest time or the highest number.
func newest(records []any, member string) (int, error) {
	best, top := -1, ""
	for i, record := range records {
		m, _ := record.(map[string]any)
		v, there := m[member]
		if !there {
			continue
		}
		text := Text(v)
		if best >= 0 {
			c, comparable := order(text, top)
			if !comparable {
				return 0, fmt.Errorf("%q and %q under %q cannot be compared: times in RFC 3339 or numbers can", text, top, member)
			}
			if c <= 0 {
				continue
			}
		}
		best, top = i, text
	}
	if best < 0 {
		return 0, fmt.Errorf("no record has the member %q", member)
	}
	return best, nil
}
