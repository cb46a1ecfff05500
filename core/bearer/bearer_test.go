package bearer

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChallenges(t *testing.T) {
	tests := []struct {
		name, header string
		want         []Challenge
		broken       bool
	}{
		{"RFC 6750 3", `Bearer realm="example", error="invalid_token", error_description="The access token expired"`,
			[]Challenge{{"Bearer", "", map[string]string{"realm": "example", "error": "invalid_token", "error_description": "The access token expired"}}}, false},
		{"RFC 7235 4.1", `Newauth realm="apps", type=1, title="Login to \"apps\"", Basic realm="simple"`,
			[]Challenge{{"Newauth", "", map[string]string{"realm": "apps", "type": "1", "title": `Login to "apps"`}}, {"Basic", "", map[string]string{"realm": "simple"}}}, false},
		{"bare", "Bearer", []Challenge{{"Bearer", "", map[string]string{}}}, false},
		{"token68", "Negotiate YII==, Bearer", []Challenge{{"Negotiate", "YII==", map[string]string{}}, {"Bearer", "", map[string]string{}}}, false},
		{"spaces around equals", `Bearer scope = "a b" , ERROR=x`, []Challenge{{"Bearer", "", map[string]string{"scope": "a b", "error": "x"}}}, false},
		{"doubled parameter keeps the first", `Bearer error="a", error="b"`, []Challenge{{"Bearer", "", map[string]string{"error": "a"}}}, false},
		{"empty", " , ", nil, false},
		{"unclosed quote", `Bearer error="x`, []Challenge{{"Bearer", "", map[string]string{}}}, true},
		{"no scheme", `"x"`, nil, true},
	}
	for _, tt := range tests {
		got, err := ParseChallenges([]string{tt.header})
		assert.Equal(t, tt.broken, err != nil, tt.name)
		assert.Equal(t, tt.want, got, tt.name)
	}
	_, err := ParseChallenges([]string{strings.Repeat("Bearer, ", 100)})
	assert.ErrorIs(t, err, ErrChallengeTooLong)
	_, err = ParseChallenges([]string{strings.Repeat("x", MaxChallengeBytes+1)})
	assert.ErrorIs(t, err, ErrChallengeTooLong)
}

func FuzzChallenges(f *testing.F) {
	f.Add(`Bearer realm="example", error="invalid_token"`)
	f.Add(`Newauth realm="apps", type=1, title="Login to \"apps\"", Basic realm="simple"`)
	f.Add("Negotiate YII==")
	f.Fuzz(func(t *testing.T, header string) {
		list, _ := ParseChallenges([]string{header})
		for _, c := range list {
			if c.Scheme == "" {
				t.Fatalf("a challenge without a scheme from %q", header)
			}
		}
	})
}

func TestPlacement(t *testing.T) {
	h := http.Header{}
	require.NoError(t, Placement{}.Put(h, "abc"))
	assert.Equal(t, "Bearer abc", h.Get("Authorization"))
	assert.ErrorContains(t, Placement{}.Put(h, "abc"), "Authorization", "two would be sent")
	require.NoError(t, Placement{Header: "X-Gauge-Token"}.Put(h, "abc"))
	assert.Equal(t, "abc", h.Get("X-Gauge-Token"))
}

func TestJoin(t *testing.T) {
	tests := []struct {
		base, path string
		query      []Pair
		want       string
	}{
		{"https://h/api", "/stations", nil, "https://h/api/stations"},
		{"https://h/api/", "stations", nil, "https://h/api/stations"},
		{"https://h/api", "", nil, "https://h/api"},
		{"https://h", "/", nil, "https://h/"},
		{"", "https://h", nil, "https://h"},
		{"https://h", `/a b/"c"[1]/d%2Fe/100%/ø`, nil, "https://h/a%20b/%22c%22%5B1%5D/d%2Fe/100%25/%C3%B8"},
		{"https://h", "/x?y=1 2&z=[3]#f", nil, "https://h/x?y=1%202&z=%5B3%5D"},
		{"https://h", "/x?y=1", []Pair{{"a b", "c&d=e+f"}, {"since", "2026-01-02T03:04:05Z"}}, "https://h/x?y=1&a%20b=c%26d%3De%2Bf&since=2026-01-02T03%3A04%3A05Z"},
		{"https://h", "/Orders('42')/items;v=2", nil, "https://h/Orders('42')/items;v=2"},
		{"https://base", "http://other/x", nil, "http://other/x"},
	}
	for _, tt := range tests {
		got, err := Join(tt.base, tt.path, tt.query)
		require.NoError(t, err, tt.path)
		assert.Equal(t, tt.want, got)
		u, err := url.Parse(got)
		require.NoError(t, err)
		for _, q := range tt.query {
			assert.Equal(t, q.Value, u.Query().Get(q.Name), "arrives as data")
		}
	}
	for _, bad := range []string{"/x", "http:///x", "http://a b/x"} {
		_, err := Join("", bad, nil)
		assert.Error(t, err, bad)
	}
}
