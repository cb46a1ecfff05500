package show

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/flow"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

func jwtOf(header, claims string) string {
	enc := base64.RawURLEncoding.EncodeToString
	return enc([]byte(header)) + "." + enc([]byte(claims)) + ".c2ln"
}

func TestTheFourQuestionsComeFirst(t *testing.T) {
	p, b := pen(90)
	p.Token(look(t, jwtOf(`{"alg":"RS256","typ":"at+jwt"}`, `{"iss":"https://h","sub":"job","client_id":"job","aud":"api","scope":"a b"}`)))
	out := b.String()
	for _, want := range []string{`kind +access token +typ is at\+jwt`, `for +api +aud`, `about +job, an application +sub is the client itself`, `may +a b +scope`, `from +https://h +iss; to the client job`} {
		assert.Regexp(t, want, out)
	}
	assert.Less(t, strings.Index(out, "an application"), strings.Index(out, "claims"))
	p, b = pen(90)
	p.Token(look(t, jwtOf(`{"alg":"RS256"}`, `{}`)))
	assert.Regexp(t, `for +▲ it has no aud`, b.String(), "what is missing is said too")
}

func TestTimeline(t *testing.T) {
	at := func(seconds int64) string { return fmt.Sprint(1774958400 + seconds) } // the pen's now is 1774958400
	tests := []struct{ name, claims, want string }{
		{"in the middle", `{"iat":` + at(-900) + `,"exp":` + at(900) + `}`, `├━+●─+┤`},
		{"over", `{"iat":` + at(-1800) + `,"exp":` + at(-900) + `}`, `├━+┤·+●`},
		{"not begun", `{"nbf":` + at(900) + `,"exp":` + at(1800) + `}`, `●·+├─+┤`},
		{"usable later", `{"iat":` + at(-100) + `,"nbf":` + at(900) + `,"exp":` + at(1900) + `}`, `├━*●─+┼─+┤`},
	}
	for _, tt := range tests {
		for _, width := range []int{80, 100, 140} {
			p, b := pen(width)
			p.Token(look(t, jwtOf(`{"alg":"RS256"}`, tt.claims)))
			assert.Regexp(t, tt.want, b.String(), tt.name)
			assert.Contains(t, b.String(), "now")
			for _, l := range strings.Split(b.String(), "\n") {
				assert.LessOrEqual(t, len([]rune(l)), width, l)
			}
		}
	}
	for _, none := range []string{`{"iat":1}`, `{"exp":1}`, `{"iat":5,"exp":5}`, `{"iat":9,"exp":5}`} {
		p, b := pen(100)
		p.Token(look(t, jwtOf(`{"alg":"RS256"}`, none)))
		assert.NotContains(t, b.String(), "●", none)
	}
}

func TestVerificationIsDrawnPartByPart(t *testing.T) {
	a := look(t, sampleToken)
	a.Verification = &token.Verification{Signature: token.Check{Outcome: token.Fail, Reason: "no key is called k1"}, Time: token.Check{Outcome: token.Pass, Reason: "it ends later"},
		Issuer: token.Check{Outcome: token.Skipped, Reason: "nobody said"}, Audience: token.Check{Outcome: token.Pass, Reason: "fits"}, Keys: "https://h/keys"}
	p, b := pen(100)
	p.Token(a)
	assert.Contains(t, b.String(), "✘ not to be trusted")
	assert.Regexp(t, `(?s)✘ signature +no key.*✔ time.*· issuer.*✔ audience`, b.String())
	v := NewDecodeView(a, nil)
	assert.True(t, v.Signature.Checked)
	assert.False(t, *v.Signature.Valid)
	a.Verification.Signature.Outcome = token.Pass
	p, b = pen(100)
	p.Token(a)
	assert.Contains(t, b.String(), "✔ verified")
}

func TestOtherFormsAreNamed(t *testing.T) {
	nested := jwtOf(`{"alg":"RS256","cty":"JWT"}`, sampleToken)
	a := look(t, nested)
	a.Inside = a.Token.Inner
	p, b := pen(100)
	p.Token(a)
	assert.Contains(t, b.String(), "inside it: JWT")
	assert.Contains(t, b.String(), "pilot")
	assert.Equal(t, "pilot", NewDecodeView(a, nil).Inside.Claims["sub"])
	for raw, says := range map[string]string{
		"eyJhbGciOiJIUzI1NiJ9..c2ln":                                          "detached",
		jwtOf(`{"alg":"EdDSA"}`, "plain words"):                               "plain words",
		jwtOf(`{"alg":"EdDSA"}`, "\xff\xfe\x00"):                              "binary: 3 bytes",
		`{"payload":"e30","protected":"eyJhbGciOiJub25lIn0","signature":"x"}`: "JSON serialization",
	} {
		p, b := pen(100)
		p.Token(look(t, raw))
		assert.Contains(t, b.String(), says)
	}
	a = look(t, sampleToken)
	a.Pasted = token.Pasted{TakenOff: []string{"Bearer"}, Which: "access_token", Others: []string{"id_token"}}
	p, b = pen(100)
	p.Token(a)
	assert.Regexp(t, `taken off +Bearer`, b.String())
	assert.Contains(t, b.String(), "also holds id_token")
}

func TestComparisonShowsWhatChanged(t *testing.T) {
	before := token.Held{Access: jwtOf(`{"alg":"RS256"}`, `{"sub":"pilot","exp":1000,"scope":"a b"}`), Refresh: "r1", Scope: []string{"a", "b"}, ExpiresAt: time.Unix(1000, 0)}
	after := token.Held{Access: jwtOf(`{"alg":"RS256"}`, `{"sub":"keeper","exp":2680,"scope":"b c","new":1}`), Refresh: "r1", Scope: []string{"b", "c"}, ExpiresAt: time.Unix(2680, 0)}
	for _, width := range []int{80, 140} {
		p, b := pen(width)
		p.Comparison("before", "after", token.Compare(before, after), false)
		out := b.String()
		assert.Regexp(t, `≠ sub +pilot +keeper`, out)
		assert.Regexp(t, `\+ new +absent +1`, out)
		assert.Contains(t, out, "28 min later")
		assert.Contains(t, out, "the same: refresh token")
		assert.NotContains(t, out, "eyJ")
	}
	p, b := pen(120)
	p.Comparison("a", "b", token.Compare(before, before), false)
	assert.Contains(t, b.String(), "no difference")
	p, b = pen(120)
	p.Comparison("a", "b", token.Compare(after, before), true)
	assert.Regexp(t, `  refresh token +\w{8} +\w{8}`, b.String(), "with all, also what is the same")
	assert.Contains(t, b.String(), "28 min earlier")
	assert.Contains(t, b.String(), "lost c; won a")
}

func TestLinesAreJSON(t *testing.T) {
	raw := jwtOf(`{"alg":"RS256","kid":"k\"1"}`, `{"iss":"h","aud":["a","b"],"scope":"x y","exp":1774958400,"deep":{"b":[1,null,true],"a":"\u001b[2J\u202e"},"n":1.50}`)
	tok, err := token.Decode(raw)
	require.NoError(t, err)
	line := AppendLine(nil, LineOfToken{N: 7, Token: tok, TakenOff: []string{"Bearer"}, Findings: []run.Finding{{ID: "x"}}})
	assert.True(t, strings.HasSuffix(string(line), "}\n"))
	assert.Equal(t, 1, strings.Count(string(line), "\n"))
	assert.NotContains(t, string(line), "\u202e", "nothing that a terminal would act on")
	var got, want map[string]any
	require.NoError(t, json.Unmarshal(line, &got), string(line))
	rest, err := json.Marshal(NewDecodeView(&flow.Answered{Token: tok, Inside: tok}, []run.Finding{{ID: "x"}}))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(rest, &want))
	for _, name := range []string{"form", "header", "claims", "times", "scope", "audience", "fingerprint", "signature", "findings"} {
		assert.Equal(t, want[name], got[name], "the same as decode --json: %s", name)
	}
	assert.Equal(t, 7.0, got["line"])
	assert.JSONEq(t, `{"line":3,"error":{"kind":"usage","message":"no \"token\""}}`, string(AppendLine(nil, LineOfToken{N: 3, Err: errors.New(`no "token"`)})))
	v := &token.Verification{Signature: token.Check{Outcome: token.Fail, Reason: "r"}, Time: token.Check{Outcome: token.Fail}}
	line = AppendLine(nil, LineOfToken{N: 1, Token: tok, Verification: v})
	assert.Contains(t, string(line), `"failed":["signature","time"]`)
	assert.Contains(t, string(line), `"checked":true,"valid":false,"reason":"r"`)
	opaque, _ := token.Decode("opaque")
	assert.Contains(t, string(AppendLine(nil, LineOfToken{N: 1, Token: opaque})), `"claims":null`)
}

func TestPouchDrawsLives(t *testing.T) {
	now := time.Unix(1774958400, 0)
	n := int64(1800)
	entry := func(client string, ago time.Duration) PouchEntry {
		s := &pouch.Set{AccessToken: client, ExpiresIn: &n, ObtainedAt: now.Add(-ago), Grant: "password"}
		s.Settle()
		return NewPouchEntry(pouch.Entry{Key: pouch.Key{Client: client}, Summary: s.Summary()}, now)
	}
	endless := NewPouchEntry(pouch.Entry{Key: pouch.Key{Client: "endless"}, Summary: (&pouch.Set{AccessToken: "x"}).Summary()}, now)
	p, b := pen(120)
	p.Pouch([]PouchEntry{entry("fresh", 0), entry("half", 15*time.Minute), entry("soon", 30*time.Minute-5*time.Second), entry("over", time.Hour), endless})
	out := strings.Split(b.String(), "\n")
	assert.Contains(t, out[0], strings.Repeat("━", 16))
	assert.Contains(t, out[1], strings.Repeat("━", 8)+strings.Repeat("─", 8))
	assert.Contains(t, out[2], "╸"+strings.Repeat("─", 15))
	assert.Contains(t, out[2], "▲ expiring")
	assert.Contains(t, out[3], strings.Repeat("─", 16))
	assert.Contains(t, out[3], "ended ")
	assert.Contains(t, out[4], "no end known")
}

func TestWhatTheServerSays(t *testing.T) {
	set := &pouch.Set{AccessToken: "a", RefreshToken: "r", Scope: []string{"x", "y"}}
	p, b := pen(100)
	p.Introspection(&flow.Introspected{Which: "access", Set: set, Answer: &oauth.Introspection{Active: true, Members: map[string]any{"active": true, "zz": "odd", "sub": "pilot", "scope": "x"}}})
	assert.Regexp(t, `(?s)✔ active.*sub.*scope.*zz`, b.String())
	assert.Contains(t, b.String(), "lost y")
	p, b = pen(100)
	p.Introspection(&flow.Introspected{Which: "refresh", Set: set, Answer: &oauth.Introspection{}})
	assert.Contains(t, b.String(), "▲ not active")
	p, b = pen(100)
	p.Userinfo(&flow.UserinfoResult{Claims: map[string]any{"sub": "pilot", "name": "Pia"}, Expected: "pilot"})
	assert.Contains(t, b.String(), "✔ the one who signed in")
}
