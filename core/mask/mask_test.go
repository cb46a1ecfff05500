package mask

import (
	"encoding/base64"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

const jwt = "eyJhbGciOiJub25lIn0.eyJpc3MiOiJqb2UifQ."

func TestSetReplacesEverySpelling(t *testing.T) {
	secret := `9Qx2+Lw7/Ti de~"41=%`
	var s Set
	s.Add(secret)
	for _, spelling := range []string{secret, url.QueryEscape(secret), url.PathEscape(secret), base64.StdEncoding.EncodeToString([]byte(secret)), `9Qx2+Lw7/Ti de~\"41=%`} {
		got := s.Replace("before " + spelling + " after")
		assert.Equal(t, "before "+Text(secret)+" after", got, spelling)
	}
}

func TestSetIsWholeAndHarmless(t *testing.T) {
	var s Set
	s.Add("abcd", "abcdefgh", "ab", "")
	s.AddPassword("tide-and-time")
	assert.Equal(t, Text("abcdefgh"), s.Replace("abcdefgh"), "the longer secret is replaced whole")
	assert.Equal(t, "ab", s.Replace("ab"), "two letters are not searched for")
	assert.Equal(t, Hidden, s.Replace("tide-and-time"), "a password has no fingerprint")
	var none *Set
	assert.Equal(t, "x", none.Replace("x"))
	s.Add("with-newline\n")
	assert.NotContains(t, s.Replace("sent with-newline here"), "with-newline")
}

func TestByName(t *testing.T) {
	tests := []struct{ name, got, want string }{
		{"bearer", Header("Authorization", "Bearer sesame", ""), "Bearer " + Text("sesame")},
		{"basic keeps the client id", Header("authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte("pilot:sesame")), ""), "Basic [pilot:" + Text("sesame") + "]"},
		{"no scheme", Header("Authorization", "sesame", ""), Text("sesame")},
		{"placed", Header("X-Gauge-Token", "sesame", "x-gauge-token"), Text("sesame")},
		{"cookie", Header("Set-Cookie", "a=b", ""), Text("a=b")},
		{"location", Header("Location", "http://h/cb?code=abc&state=s", ""), "http://h/cb?code=" + Text("abc") + "&state=s"},
		{"harmless", Header("Accept", "application/json", ""), "application/json"},
		{"form", Form("grant_type=password&password=x%26y&client_id=k"), "grant_type=password&password=" + Hidden + "&client_id=k"},
		{"fragment", URL("https://h/cb#access_token=abc"), "https://h/cb#access_token=" + Text("abc")},
		{"user part", URL("https://me:pw@h/x"), "https://" + Hidden + "@h/x"},
		{"empty stays empty", Form("client_secret="), "client_secret="},
		{"token in a page", Loose("<p>" + jwt + "</p>"), "<p>" + Text(jwt) + "</p>"},
		{"form as text", Body("text/plain", "access_token=abc&x=1"), "access_token=" + Text("abc") + "&x=1"},
		{"an API's code is data", Data("application/json", `{"code":"SKV"}`), `{"code":"SKV"}`},
		{"an API's token is not", Data("application/json", `{"access_token":"SKV"}`), `{"access_token":"` + Text("SKV") + `"}`},
	}
	for _, tt := range tests {
		assert.Equal(t, tt.want, tt.got, tt.name)
	}
}

func TestJSONKeepsEverythingElse(t *testing.T) {
	in := "{ \"a\" : 1.50, \"list\": [ {\"refresh_token\":\"r\\\"1\"}, \"" + jwt + "\" ],\n\"code\":\"c\", \"n\":null }"
	got, ok := JSON(in)
	assert.True(t, ok)
	assert.Equal(t, "{ \"a\" : 1.50, \"list\": [ {\"refresh_token\":\""+Text(`r"1`)+"\"}, \""+Text(jwt)+"\" ],\n\"code\":\""+Text("c")+"\", \"n\":null }", got)
	same, ok := JSON("{broken")
	assert.False(t, ok)
	assert.Equal(t, "{broken", same)
}

// Every name that is masked must be seen by the quick look that spares a parse.
func TestHintsCoverEveryName(t *testing.T) {
	for _, list := range []map[string]bool{carriers, passwords, ambiguous} {
		for name := range list {
			assert.True(t, suspicious(name), name)
		}
	}
	got, _ := JSON(`{"\u0063ode":"needle"}`)
	assert.NotContains(t, got, "needle", "an escaped name is the same name")
}

func FuzzBody(f *testing.F) {
	f.Add("application/json", `{"access_token":"needle-5512","x":["\\"]}`)
	f.Add("application/x-www-form-urlencoded", "client_secret=needle-5512&%zz=1")
	f.Fuzz(func(t *testing.T, mediaType, body string) {
		var s Set
		s.Add("needle-5512")
		if got := s.Replace(Body(mediaType, body)); strings.Contains(got, "needle-5512") {
			t.Errorf("a known secret came through: %q", got)
		}
	})
}
