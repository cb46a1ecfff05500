package token

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadObject(t *testing.T) {
	m, err := readObject(` {"b":1.50e+2,"a":[true,null,{"x":"\u00f8\ud83d\ude00\n\/"},[]],"b":"again","c":{"d":1,"d":2},"e":{}} `)
	require.NoError(t, err)
	assert.Equal(t, []string{"b", "a", "c", "e"}, m.order)
	assert.Equal(t, []string{"b", "c.d"}, m.repeated)
	assert.Equal(t, "again", m.values["b"], "the last one counts, as most readers do")
	assert.Equal(t, []any{true, nil, map[string]any{"x": "ø😀\n/"}, []any{}}, m.values["a"])
	assert.Equal(t, json.Number("2"), m.values["c"].(map[string]any)["d"])
}

func TestReadObjectRefuses(t *testing.T) {
	deep := func(n int) string { return `{"a":` + strings.Repeat("[", n) + strings.Repeat("]", n) + "}" }
	many := func(n int) string { return `{"a":[` + strings.TrimSuffix(strings.Repeat("1,", n), ",") + `]}` }
	for text, says := range map[string]string{
		``: "not a JSON object", `[]`: "not a JSON object", `"x"`: "not a JSON object", `{"a":1} x`: "something follows",
		`{"a":1`: "breaks off", `{"a"`: "breaks off", `{"a":"x`: "breaks off", `{"a":"x\`: "breaks off", `{a:1}`: "out of place", `{"a":01}`: "out of place",
		`{"a":1.}`: "out of place", `{"a":-}`: "out of place", `{"a":1e}`: "out of place", `{"a":tru}`: "out of place", `{"a":1,}`: "out of place",
		"{\"a\":\"\n\"}": "control character", `{"a":"\x"}`: "no escape", `{"a":"\u12"}`: "four hex digits", "{\"a\":\"\xff\"}": "UTF-8",
		"\xfe\xff\x00{\x00}": "not a JSON object", // UTF-16 (RFC 8725 2.6)
		deep(MaxDepth + 1):   "deeper", many(MaxMembers + 1): "more than",
	} {
		_, err := readObject(text)
		assert.ErrorContains(t, err, says, "%.60q", text)
	}
	for _, fine := range []string{deep(MaxDepth - 1), many(MaxMembers - 1), `{}`, `{"":""}`, `{"a":-0.0E-10}`} {
		_, err := readObject(fine)
		assert.NoError(t, err, "%.60q", fine)
	}
}

// FuzzReadObject holds the reader against the standard library's.
func FuzzReadObject(f *testing.F) {
	for _, s := range []string{`{"a":1}`, `{"a":{"b":[1,"\u00e4",true,null,-1.5e3]},"a":2}`, `{`, `{"\ud800":"\udc00"}`, "{\"a\":\"\u2028\"}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		m, err := readObject(text)
		var want map[string]any
		dec := json.NewDecoder(strings.NewReader(text))
		dec.UseNumber()
		bad := dec.Decode(&want)
		valid := bad == nil && want != nil && json.Valid([]byte(text))
		switch {
		case err == nil && !valid:
			t.Fatalf("accepted %q", text)
		case err != nil && valid && utf8.ValidString(text) && !strings.Contains(err.Error(), "deeper") && !strings.Contains(err.Error(), "more than"):
			t.Fatalf("refused %q: %v", text, err)
		case err != nil:
			return
		}
		if len(m.repeated) > 0 {
			return // the standard reader merges objects of the same name
		}
		a, _ := json.Marshal(m.values)
		b, _ := json.Marshal(want)
		if !bytes.Equal(a, b) {
			t.Fatalf("%s\n%s", a, b)
		}
	})
}

func FuzzKeys(f *testing.F) {
	for _, s := range []string{hmacKey, ecKey, `{"keys":[` + rsaKey + `]}`, "-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----", "secret\n", "c2VjcmV0"} {
		f.Add([]byte(s))
	}
	tok, err := Decode(signedExample)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, raw []byte) {
		keys, err := ParseKey(raw)
		if err != nil {
			return
		}
		if len(keys.Keys)+len(keys.Skipped) > MaxKeys+8 {
			t.Fatal("too many keys")
		}
		NewVerifier(keys).Verify(tok, Expect{})
	})
}

// FuzzVerify: nothing but the signer's own token passes.
func FuzzVerify(f *testing.F) {
	good := fmt.Sprintf("%s.%s.%s", "eyJhbGciOiJFUzI1NiJ9", joeClaims, ecSig)
	f.Add(good)
	f.Add(signedExample)
	f.Add(unsecuredExample)
	f.Add(`{"payload":"` + joeClaims + `","protected":"eyJhbGciOiJFUzI1NiJ9","signature":"` + ecSig + `"}`)
	keys, err := ParseKey([]byte(ecKey))
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, raw string) {
		tok, err := Decode(raw)
		if err != nil {
			return
		}
		if NewVerifier(keys).Verify(tok, Expect{}).Signature.Outcome == Pass && tok.Text("iss") != "joe" {
			t.Fatalf("%q passes", raw)
		}
	})
}
