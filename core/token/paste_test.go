package token

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPaste(t *testing.T) {
	const tok = signedExample
	wrapped := tok[:40] + "\n" + tok[40:90] + "\n" + tok[90:]
	tests := []struct {
		name, in string
		takenOff []string
	}{
		{"bare", tok, nil},
		{"white space around", "  " + tok + "\r\n", nil},
		{"scheme", "Bearer " + tok, []string{"Bearer"}},
		{"lower-case scheme, two spaces", "bearer  " + tok, []string{"bearer"}},
		{"doubled scheme", "Bearer Bearer " + tok, []string{"Bearer", "Bearer"}},
		{"header line", "Authorization: Bearer " + tok, []string{"Authorization:", "Bearer"}},
		{"another header", "X-Gauge-Token: " + tok, []string{"X-Gauge-Token:"}},
		{"an option", `-H 'Authorization: Bearer ` + tok + `'`, []string{"the option -H", "single quotes", "Authorization:", "Bearer"}},
		{"a long option with =", `--header="Authorization: Bearer ` + tok + `"`, []string{"the option --header", "double quotes", "Authorization:", "Bearer"}},
		{"an option whose line goes on", `-H "Authorization: Bearer ` + tok + `" \`, []string{"a backslash at the line's end", "the option -H", "double quotes", "Authorization:", "Bearer"}},
		{"double quotes", `"` + tok + `"`, []string{"double quotes"}},
		{"curly quotes", "“" + tok + "”", []string{"curly quotes"}},
		{"one quote", tok + `"`, []string{"a closing quote"}},
		{"a member's line", `  "access_token": "` + tok + `",`, []string{"a comma or semicolon behind it", "a piece of JSON around it"}},
		{"a token answer", `{"token_type":"Bearer","access_token":"` + tok + `","expires_in":60}`, []string{"the JSON token answer around it"}},
		{"a wrapped token answer", `{"data":{"access_token":"` + tok + `"}}`, []string{"the JSON token answer around it"}},
		{"a token answer that breaks off", `{"access_token":"` + tok + `","expires`, []string{"a piece of JSON around it"}},
		{"a trailing comma", tok + ",", []string{"a comma or semicolon behind it"}},
		{"the environment", "ACCESS_TOKEN=" + tok, []string{"ACCESS_TOKEN="}},
		{"a shell's export", "export TOKEN='" + tok + "'", []string{"export", "TOKEN=", "single quotes"}},
		{"percent-encoded", strings.ReplaceAll(tok, ".", "%2E"), []string{"percent-encoding"}},
		{"a redirect's fragment", "http://127.0.0.1:8651/landing#access_token=" + tok + "&token_type=Bearer", []string{"the parameters around it"}},
		{"form-encoded", "access_token=" + tok + "&expires_in=60", []string{"the parameters around it"}},
		{"broken over lines", wrapped, []string{"line breaks inside it"}},
		{"broken over indented lines", strings.ReplaceAll(wrapped, "\n", "\r\n    "), []string{"line breaks inside it"}},
		{"escaped line breaks", strings.ReplaceAll(wrapped, "\n", `\n`), []string{"line breaks inside it"}},
		{"a space inside", tok[:50] + " " + tok[50:], []string{"spaces inside it"}},
		{"zero-width characters", "\ufeff" + tok[:50] + "\u200b" + tok[50:], []string{"invisible characters around it", "invisible characters inside it"}},
		{"an ellipsis", tok + "…", []string{"an ellipsis at its end: it was shortened by whoever showed it"}},
		{"everything at once", `X-Token: "Bearer ` + wrapped + `",`, []string{"a comma or semicolon behind it", "X-Token:", "double quotes", "Bearer", "line breaks inside it"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			p := Paste(tt.in, "")
			assert.Equal(t, tok, p.Token)
			assert.Equal(t, tt.takenOff, p.TakenOff)
		})
	}
}

func TestPasteLeavesWhatIsAToken(t *testing.T) {
	for _, raw := range []string{"2YotnFZFEjr1zCsicMWpAA", "ot-abc_DEF.~+/=", "gAAAAABk==", "v4.local.abc", "a:b", `{"payload":"e30","protected":"eyJhbGciOiJub25lIn0","signature":""}`, ""} {
		p := Paste(raw, "")
		if raw == "a:b" { // reads as a header named a
			continue
		}
		assert.Equal(t, raw, p.Token)
		assert.Empty(t, p.TakenOff, raw)
	}
}

func TestPasteOfAnAnswerChoosesAndTells(t *testing.T) {
	answer := `{"access_token":"opaque-thing","id_token":"` + signedExample + `","refresh_token":"rt-1"}`
	p := Paste(answer, "")
	assert.Equal(t, []any{"opaque-thing", "access_token", []string{"id_token", "refresh_token"}}, []any{p.Token, p.Which, p.Others})
	p = Paste(answer, "id_token")
	assert.Equal(t, []any{signedExample, "id_token", []string{"access_token", "refresh_token"}}, []any{p.Token, p.Which, p.Others})
	p = Paste(`{"error":"invalid_grant"}`, "")
	assert.Contains(t, p.Token, "invalid_grant", "no token in it: it stays as it is")
}

func FuzzPaste(f *testing.F) {
	for _, s := range []string{"Bearer " + signedExample, `-H "Authorization: Bearer x"`, `{"access_token":"x"}`, "a=%41#access_token=b", "“x”", `\n`, "eyJ\u200b.\n.", "export A='b'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		p := Paste(s, "")
		if len(p.TakenOff) > 3*maxLayers {
			t.Fatalf("%d layers", len(p.TakenOff))
		}
		if len(p.Token) > len(s)*3+3 {
			t.Fatal("taking off must not add")
		}
		if Bare(s) && p.Token != s {
			t.Fatalf("a bare token became %q", p.Token)
		}
	})
}
