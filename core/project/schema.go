package project

// Schema is the courier file's JSON Schema (draft 2020-12), made from the same
// table the strict reader uses.
func Schema() map[string]any {
	s := shapeSchema(fileShape)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Tidy Courier: courier file, version 1"
	s["required"] = []string{"version"}
	s["properties"].(map[string]any)["version"].(map[string]any)["const"] = 1
	return s
}

func shapeSchema(s *Shape) map[string]any {
	props := map[string]any{}
	for _, f := range s.Fields {
		v := fieldSchema(f)
		v["description"] = f.Doc
		props[f.Name] = v
	}
	return map[string]any{"type": []string{"object", "null"}, "additionalProperties": false, "properties": props}
}

func fieldSchema(f Field) map[string]any {
	scalar := map[string]any{"type": []string{"string", "number", "boolean"}}
	texts := map[string]any{"type": []string{"object", "null"}, "additionalProperties": scalar}
	list := map[string]any{"anyOf": []any{map[string]any{"type": "string"}, map[string]any{"type": "array", "items": scalar}}}
	switch f.Kind {
	case kindBool:
		return map[string]any{"type": "boolean"}
	case kindNumber:
		return map[string]any{"type": "number"}
	case kindDate:
		return map[string]any{"type": "string", "pattern": `^\d{4}-\d{2}-\d{2}$|\$\{`}
	case kindList:
		return list
	case kindStatus:
		one := map[string]any{"type": []string{"integer", "string"}, "pattern": "^[1-5](\\d\\d|xx)$"}
		return map[string]any{"anyOf": []any{one, map[string]any{"type": "array", "items": one, "minItems": 1}}}
	case kindSecret:
		return secretSchema()
	case kindTexts:
		return texts
	case kindLength:
		return map[string]any{"type": "string", "pattern": `^(\d+(\.\d+)?(ns|us|ms|s|m|h))+$|\$\{`}
	case kindEither:
		return eitherSchema(f, scalar)
	case kindEithers:
		return map[string]any{"type": []string{"object", "null"}, "additionalProperties": eitherSchema(f, scalar)}
	case kindMapping:
		return shapeSchema(f.Of)
	case kindNamed:
		of := list
		if f.Of != nil {
			of = shapeSchema(f.Of)
		} else if f.Name == "stages" {
			of = texts
		} else {
			of = map[string]any{"anyOf": []any{list, shapeSchema(roundShape)}}
		}
		return map[string]any{"type": []string{"object", "null"}, "propertyNames": map[string]any{"pattern": namePattern().String()}, "additionalProperties": of}
	case kindJSON:
		return map[string]any{}
	}
	if f.Enum != nil {
		return map[string]any{"anyOf": []any{map[string]any{"enum": f.Enum}, map[string]any{"type": "string", "pattern": `\$\{`}}}
	}
	return scalar
}

// eitherSchema is a text, or the mapping whose first key it stands for.
func eitherSchema(f Field, scalar map[string]any) map[string]any {
	if first := f.Of.Fields[0]; first.Enum != nil {
		scalar = fieldSchema(first)
	}
	return map[string]any{"anyOf": []any{scalar, shapeSchema(f.Of)}}
}

func secretSchema() map[string]any {
	one := func(name string, v map[string]any) map[string]any {
		return map[string]any{"type": "object", "additionalProperties": false, "required": []string{name}, "properties": map[string]any{name: v}}
	}
	text := map[string]any{"type": "string"}
	return map[string]any{"anyOf": []any{text, one("env", text), one("file", text),
		one("command", map[string]any{"type": "array", "items": text, "minItems": 1}), one("ask", map[string]any{"const": true})}}
}

// FieldDoc is one line of the layout's reference.
type FieldDoc struct{ Section, Name, Kind, Doc string }

// Reference lists every field, for docs/courier-file.md.
func Reference() []FieldDoc {
	var out []FieldDoc
	var walk func(section string, s *Shape)
	walk = func(section string, s *Shape) {
		for _, f := range s.Fields {
			kind := string(f.Kind)
			if f.Enum != nil {
				kind = ""
				for i, e := range f.Enum {
					if i > 0 {
						kind += ", "
					}
					kind += "`" + e + "`"
				}
			}
			out = append(out, FieldDoc{section, f.Name, kind, f.Doc})
		}
		for _, f := range s.Fields {
			if f.Of != nil {
				walk(f.Of.Name, f.Of)
			}
		}
	}
	walk(fileShape.Name, fileShape)
	walk(roundShape.Name, roundShape)
	seen := map[FieldDoc]bool{}
	unique := out[:0]
	for _, d := range out {
		if !seen[d] {
			seen[d] = true
			unique = append(unique, d)
		}
	}
	return unique
}
