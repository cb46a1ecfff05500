package token

import "fmt"

// decodeJSON reads a JWS or JWE in JSON serialization, general or flattened
// (RFC 7515 7.2, RFC 7516 7.2). Of several signatures the first one's header
// is shown.
func decodeJSON(raw string, level int) (*Token, error) {
	m, err := readObject(raw)
	if err != nil {
		return nil, fmt.Errorf("this begins like JSON, and %w", err)
	}
	t := &Token{Raw: raw, JSON: true, Parties: 1}
	one := m.values
	text := func(from map[string]any, name string) string { s, _ := from[name].(string); return s }
	list := "signatures"
	_, encrypted := m.values["ciphertext"]
	_, signed := m.values["payload"]
	switch {
	case encrypted:
		t.Form, list = JWE, "recipients"
	case signed:
		t.Form = JWT
	default:
		return nil, fmt.Errorf("%w: the JSON object has neither payload nor ciphertext (RFC 7515 7.2, RFC 7516 7.2)", ErrGarbled)
	}
	if several, ok := m.values[list].([]any); ok {
		if len(several) == 0 || len(several) > MaxSignatures {
			return nil, fmt.Errorf("%w: it has %d %s; 1 to %d can be read", ErrGarbled, len(several), list, MaxSignatures)
		}
		t.Parties = len(several)
		if !encrypted {
			one, _ = several[0].(map[string]any)
		}
	}
	if protected := text(one, "protected"); protected != "" {
		if err := t.header(protected, nil); err != nil {
			return nil, err
		}
	}
	for _, name := range []string{"unprotected", "header"} {
		if open, ok := one[name].(map[string]any); ok {
			t.addHeader(open)
		}
	}
	if encrypted {
		return t, nil
	}
	t.Signed = text(one, "signature") != ""
	return t, t.content(text(m.values, "payload"), level, nil)
}

// addHeader adds unprotected parameters; a protected one wins.
func (t *Token) addHeader(open map[string]any) {
	if t.Header == nil {
		t.Header = map[string]any{}
	}
	for _, name := range sortedNames(open) {
		if _, there := t.Header[name]; !there {
			t.Header[name] = open[name]
			t.HeaderOrder = append(t.HeaderOrder, name)
		}
	}
}
