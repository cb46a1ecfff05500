package token

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func claims(t *testing.T, header, body string) *Token {
	t.Helper()
	return mustDecode(t, b64(header)+"."+b64(body)+".c2ln")
}

func TestFourQuestions(t *testing.T) {
	tests := []struct {
		name, header, body  string
		kind                Kind
		person              any // true, false or nil
		about, may, whyKind string
	}{
		{"RFC 9068, an application", `{"alg":"RS256","typ":"at+jwt"}`, `{"iss":"i","sub":"job","client_id":"job","aud":"api","scope":"a","roles":["R"]}`, AccessToken, false, "job, an application", "a · roles R", "at+jwt"},
		{"RFC 9068, a person", `{"alg":"RS256","typ":"application/at+jwt"}`, `{"sub":"pilot","client_id":"desk","scope":"a b","auth_time":1}`, AccessToken, true, "pilot, a person", "a b", "at+jwt"},
		{"an id token", `{"alg":"RS256"}`, `{"sub":"7f","aud":"desk","nonce":"n","email":"pia@tides.example"}`, IDToken, true, "7f (pia@tides.example), a person", "", "nonce"},
		{"an id token by its audience", `{"alg":"RS256","typ":"JWT"}`, `{"sub":"7f","aud":"desk","azp":"desk"}`, IDToken, true, "7f, a person", "", "audience"},
		{"delegated, widespread names", `{"alg":"RS256"}`, `{"sub":"x","aud":"api","scp":"Read","upn":"pia@tides.example","appid":"desk"}`, AccessToken, true, "x (pia@tides.example), a person", "Read", "scope"},
		{"application, widespread names", `{"alg":"RS256"}`, `{"sub":"x","aud":"api","roles":["Read.All"],"appid":"job"}`, AccessToken, false, "x, an application by the look of it", "roles Read.All", "roles"},
		{"nothing to tell by", `{"alg":"RS256"}`, `{"sub":"x","aud":"api"}`, UnknownKind, nil, "x", "", ""},
		{"an actor", `{"alg":"RS256"}`, `{"sub":"pilot","scope":"a","auth_time":1,"act":{"sub":"clerk"}}`, AccessToken, true, "pilot, a person, with clerk acting", "a", "scope"},
		{"a client assertion", `{"alg":"RS256"}`, `{"iss":"job","sub":"job","aud":"https://h/token","jti":"1"}`, ClientAssertion, nil, "job", "", "same"},
		{"a logout token", `{"alg":"RS256"}`, `{"sub":"x","events":{}}`, LogoutToken, nil, "x", "", "events"},
		{"a proof", `{"alg":"ES256","typ":"dpop+jwt"}`, `{"htm":"GET","htu":"https://h"}`, ProofToken, nil, "", "", "dpop+jwt"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			r := claims(t, tt.header, tt.body).Read()
			assert.Equal(t, tt.kind, r.Kind)
			assert.Contains(t, r.KindWhy, tt.whyKind)
			assert.Equal(t, tt.about, r.About.Text)
			assert.Equal(t, tt.may, r.May.Text)
			if tt.person == nil {
				assert.Nil(t, r.Person)
			} else if assert.NotNil(t, r.Person) {
				assert.Equal(t, tt.person, *r.Person)
			}
		})
	}
	assert.Equal(t, Reading{}, mustDecode(t, "opaque").Read())
	r := claims(t, `{"alg":"RS256"}`, `{}`).Read()
	assert.Contains(t, r.For.Why+r.From.Why+r.About.Why, "no aud", "what is missing is said")
}

func TestOddities(t *testing.T) {
	tests := []struct {
		name, header, body string
		want               []string
	}{
		{"healthy", `{"alg":"RS256","kid":"k"}`, `{"iss":"i","aud":["a"],"exp":1774962000,"iat":1774958400,"amr":["pwd"],"address":{"x":1}}`, nil},
		{"exp as a text", `{"alg":"RS256","kid":"k"}`, `{"exp":"1774962000"}`, []string{"exp claim-wrong-type"}},
		{"aud as an object", `{"alg":"RS256","kid":"k"}`, `{"aud":{"x":1},"sub":7,"scope":["a",1]}`, []string{"aud claim-wrong-type", "sub claim-wrong-type", "scope claim-wrong-type"}},
		{"milliseconds", `{"alg":"RS256","kid":"k"}`, `{"exp":1774962000000,"iat":-4}`, []string{"exp time-in-milliseconds", "iat claim-wrong-type"}},
		{"a year long", `{"alg":"RS256","kid":"k"}`, `{"exp":1806494400,"iat":1774958400}`, []string{"exp lifetime-long"}},
		{"a day is fine", `{"alg":"RS256","kid":"k"}`, `{"exp":1775044800,"iat":1774958400}`, nil},
		{"ends before it begins", `{"alg":"RS256","kid":"k"}`, `{"exp":1774958400,"nbf":1774962000}`, []string{"exp times-out-of-order"}},
		{"repeated", `{"alg":"RS256","kid":"k","kid":"k2"}`, `{"sub":"a","sub":"b","cnf":{"jkt":"x","jkt":"y"}}`, []string{"header kid claim-repeated", "sub claim-repeated", "cnf.jkt claim-repeated"}},
		{"no kid", `{"alg":"RS256"}`, `{}`, []string{"kid header-kid-missing"}},
		{"no kid with a secret", `{"alg":"HS256"}`, `{}`, nil},
		{"not signed", `{"alg":"none"}`, `{}`, []string{"alg algorithm-none"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			var got []string
			for _, o := range claims(t, tt.header, tt.body).Oddities() {
				got = append(got, o.Claim+" "+o.ID)
				assert.NotEmpty(t, o.Detail)
			}
			assert.Equal(t, tt.want, got)
		})
	}
}

func TestFormsBesidesTheUsual(t *testing.T) {
	detached := mustDecode(t, b64(`{"alg":"HS256"}`)+"..c2ln")
	assert.True(t, detached.Detached)
	assert.Equal(t, Skipped, NewVerifier(keysOf(t, hmacKey)).Verify(detached, Expect{}).Signature.Outcome)
	nested := mustDecode(t, b64(`{"alg":"HS256","cty":"JWT"}`)+"."+b64(signedExample)+".c2ln")
	assert.Equal(t, "joe", nested.Inner.Text("iss"))
	raw := signedExample
	for range MaxNesting + 1 {
		raw = b64(`{"alg":"HS256","cty":"JWT"}`) + "." + b64(raw) + ".c2ln"
	}
	_, err := Decode(raw)
	assert.ErrorContains(t, err, "deep")
	_, err = Decode(`{"payload":"e30","signatures":[` + strings.TrimSuffix(strings.Repeat(`{"protected":"e30"},`, MaxSignatures+1), ",") + `]}`)
	assert.ErrorContains(t, err, "17 signatures")
	for _, bad := range []string{`{"x":1}`, `{"payload":"***"}`, `{`, `{"payload":"e30","protected":"***"}`} {
		_, err := Decode(bad)
		assert.Error(t, err, bad)
	}
}

func TestCompare(t *testing.T) {
	a := Held{Access: claims(t, `{"alg":"RS256","kid":"k1"}`, `{"iss":"i","exp":1000,"scope":"a b","sub":"x","gone":1}`).Raw, Refresh: "r1", Scope: []string{"a", "b"}, ExpiresAt: time.Unix(1000, 0)}
	b := Held{Access: claims(t, `{"alg":"RS256","kid":"k2"}`, `{"iss":"i","exp":2680,"scope":"b c","sub":"x","new":[1]}`).Raw, Refresh: "r1", Scope: []string{"b", "c"}, ExpiresAt: time.Unix(2680, 0)}
	c := Compare(a, b)
	assert.False(t, c.Equal)
	got := map[string]Row{}
	for _, r := range c.Rows {
		got[r.Group+"/"+r.Name] = r
		assert.NotContains(t, r.Before+r.After, "eyJ", "tokens appear by fingerprint")
	}
	assert.Equal(t, Same, got["token set/refresh token"].Change)
	assert.Equal(t, 1680.0, *got["token set/ends"].Later)
	assert.Equal(t, 1680.0, *got["access token/exp"].Later)
	assert.Equal(t, []any{[]string{"a"}, []string{"c"}, Changed}, []any{got["access token/scope"].Lost, got["access token/scope"].Won, got["access token/scope"].Change})
	assert.Equal(t, Changed, got["access token header/kid"].Change)
	assert.Equal(t, []Change{Removed, Added, Same}, []Change{got["access token/gone"].Change, got["access token/new"].Change, got["access token/iss"].Change})
	assert.True(t, Compare(a, a).Equal)
	same := a
	same.Scope = []string{"b", "a"}
	assert.True(t, Compare(a, same).Equal, "scope is a set")
	assert.False(t, Compare(a, Held{Access: "opaque"}).Equal)
}

func TestLinesKeepTheirOrder(t *testing.T) {
	const n = 5000
	var in strings.Builder
	for i := range n {
		fmt.Fprintf(&in, "line %d %s\n", i+1, strings.Repeat("x", i%97))
	}
	in.WriteString(strings.Repeat("y", MaxLine+chunkSize+5) + "\nlast")
	work := func(dst []byte, n int, line string, bad error) []byte {
		if bad != nil {
			return fmt.Appendf(dst, "%d: %v\n", n, bad)
		}
		if n%50 == 0 {
			time.Sleep(time.Microsecond) // let others overtake
		}
		return fmt.Appendf(dst, "%d: %.10s\n", n, line)
	}
	var out bytes.Buffer
	require.NoError(t, Lines(context.Background(), strings.NewReader(in.String()), &out, work))
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, n+2)
	for i := range n {
		require.True(t, strings.HasPrefix(lines[i], fmt.Sprintf("%d: line %d", i+1, i+1)[:8]), lines[i])
	}
	assert.Contains(t, lines[n], ErrTooLong.Error(), "reported in its place")
	assert.Equal(t, fmt.Sprintf("%d: last", n+2), lines[n+1])

	broken := errors.New("the disk is full")
	assert.ErrorIs(t, Lines(context.Background(), strings.NewReader(in.String()), brokenWriter{broken}, work), broken)
	assert.ErrorContains(t, Lines(context.Background(), io.MultiReader(strings.NewReader("a\n"), iotest.ErrReader(errors.New("gone"))), io.Discard, work), "line 2: gone")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	assert.ErrorIs(t, Lines(ctx, strings.NewReader(in.String()), io.Discard, work), context.Canceled)
}

type brokenWriter struct{ err error }

func (w brokenWriter) Write([]byte) (int, error) { return 0, w.err }

func TestLinesAnswersAPausingSource(t *testing.T) {
	r, w := io.Pipe()
	outR, outW := io.Pipe()
	go func() {
		_ = Lines(context.Background(), r, outW, func(dst []byte, n int, line string, _ error) []byte { return fmt.Appendf(dst, "%d %s\n", n, line) })
		_ = outW.Close()
	}()
	buf := make([]byte, 64)
	for i := range 3 {
		_, err := fmt.Fprintf(w, "tide\n")
		require.NoError(t, err)
		n, err := outR.Read(buf)
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("%d tide\n", i+1), string(buf[:n]))
	}
	_ = w.Close()
}
