package flow

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/kaptinlin/jsonschema"

	"tidycourier/core/project"
)

// maxSchemaFaults is how many deviations of one body are told.
const maxSchemaFaults = 5

// judgeSchema holds a body against a JSON Schema file (draft 2020-12).
func judgeSchema(file project.Setting, body []byte) []Mismatch {
	no := func(actual string) []Mismatch {
		return []Mismatch{{"the body", "as " + file.Value + " says", actual, file.Where}}
	}
	schema, err := compileSchema(file.Value)
	if err != nil {
		return no("not compared: " + err.Error())
	}
	var doc any
	if err := json.Unmarshal(body, &doc); err != nil {
		return no("not JSON")
	}
	result := schema.Validate(doc)
	if result.IsValid() {
		return nil
	}
	var out []Mismatch
	for _, d := range deviations(result, doc) {
		out = append(out, Mismatch{"$" + strings.ReplaceAll(d.place, "/", "."), "as " + file.Value + " says at " + d.rule, d.text, file.Where})
		if len(out) == maxSchemaFaults {
			break
		}
	}
	if len(out) == 0 {
		return no("it does not fit")
	}
	return out
}

// compileSchema reads a schema. It fetches no others: what a body must be is in
// one file, and a test must not depend on the network.
func compileSchema(path string) (*jsonschema.Schema, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if !json.Valid(raw) {
		return nil, errors.New("the schema is not JSON")
	}
	c := jsonschema.NewCompiler()
	elsewhere := ""
	for scheme := range c.Loaders {
		c.RegisterLoader(scheme, func(url string) (io.ReadCloser, error) {
			elsewhere = url
			return nil, errors.New("not loaded")
		})
	}
	s, err := c.Compile(raw)
	if elsewhere != "" {
		return nil, fmt.Errorf("%s is another file: a schema has to hold all it needs, under $defs", elsewhere)
	}
	if err != nil {
		return nil, err
	}
	if open := s.UnresolvedReferenceURIs(); len(open) > 0 {
		return nil, fmt.Errorf("%s is not in it: a schema has to hold all it needs, under $defs", open[0])
	}
	return s, nil
}

// deviation is one place of a body that is not as the schema says.
type deviation struct{ place, rule, text string }

// around are keywords that only say that something within does not fit.
var around = []string{"properties", "patternProperties", "additionalProperties", "items", "prefixItems", "allOf", "anyOf", "oneOf", "$ref", "$dynamicRef", "then", "else", "dependentSchemas"}

// deviations are the deviations themselves, without the schemas around them, in
// the order of their places.
func deviations(r *jsonschema.EvaluationResult, doc any) []deviation {
	var out []deviation
	var walk func(r *jsonschema.EvaluationResult, place, rule string)
	walk = func(r *jsonschema.EvaluationResult, place, rule string) {
		place, rule = place+r.InstanceLocation, rule+r.EvaluationPath
		if !there(doc, place) {
			return // that it is missing is told elsewhere
		}
		before := len(out)
		for _, d := range r.Details {
			if !d.Valid {
				walk(d, place, rule)
			}
		}
		within := len(out) > before
		for keyword, e := range r.Errors {
			if !within || !slices.Contains(around, keyword) {
				out = append(out, deviation{place, rule + "/" + keyword, e.Error()})
			}
		}
	}
	walk(r, "", "")
	slices.SortFunc(out, func(a, b deviation) int {
		return cmp.Or(strings.Compare(a.place, b.place), strings.Compare(a.rule, b.rule))
	})
	return slices.Compact(out)
}

// there reports whether a document has something at a JSON Pointer (RFC 6901).
func there(doc any, pointer string) bool {
	for _, step := range strings.Split(pointer, "/")[1:] {
		step = strings.NewReplacer("~1", "/", "~0", "~").Replace(step)
		switch v := doc.(type) {
		case map[string]any:
			next, has := v[step]
			if !has {
				return false
			}
			doc = next
		case []any:
			i, err := strconv.Atoi(step)
			if err != nil || i < 0 || i >= len(v) {
				return false
			}
			doc = v[i]
		default:
			return false
		}
	}
	return true
}
