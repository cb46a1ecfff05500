package flow

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"tidycourier/core/project"
)

// maxSchemaFaults is how many deviations of one body are told.
const maxSchemaFaults = 5

// noLoading keeps a schema from fetching others: what a body must be is in one
// file, and a test must not depend on the network.
type noLoading struct{}

func (noLoading) Load(url string) (any, error) {
	return nil, fmt.Errorf("%s is another file: a schema has to hold all it needs, under $defs", url)
}

// judgeSchema holds a body against a JSON Schema file (draft 2020-12).
func judgeSchema(file project.Setting, body []byte) []Mismatch {
	no := func(actual string) []Mismatch {
		return []Mismatch{{"the body", "as " + file.Value + " says", actual, file.Where}}
	}
	schema, err := compileSchema(file.Value)
	if err != nil {
		return no("not compared: " + err.Error())
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return no("not JSON")
	}
	err = schema.Validate(doc)
	if err == nil {
		return nil
	}
	var faults *jsonschema.ValidationError
	if !errors.As(err, &faults) {
		return no(err.Error())
	}
	var out []Mismatch
	for _, leaf := range leaves(faults.BasicOutput()) {
		place := "$" + strings.ReplaceAll(leaf.InstanceLocation, "/", ".")
		out = append(out, Mismatch{place, "as " + file.Value + " says at " + leaf.KeywordLocation, leaf.Error.String(), file.Where})
		if len(out) == maxSchemaFaults {
			break
		}
	}
	return out
}

func compileSchema(path string) (*jsonschema.Schema, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("the schema is not JSON: %w", err)
	}
	c := jsonschema.NewCompiler()
	c.UseLoader(noLoading{})
	if err := c.AddResource("body.json", doc); err != nil {
		return nil, err
	}
	return c.Compile("body.json")
}

// leaves are the deviations themselves, without the schemas around them.
func leaves(o *jsonschema.OutputUnit) []jsonschema.OutputUnit {
	var out []jsonschema.OutputUnit
	for _, e := range o.Errors {
		if len(e.Errors) > 0 {
			out = append(out, leaves(&e)...)
		} else if e.Error != nil {
			out = append(out, e)
		}
	}
	return out
}
