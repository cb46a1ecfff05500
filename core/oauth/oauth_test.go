package oauth

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// RFC 6749 2.3.1, with the credentials of its example.
func TestBasicExample(t *testing.T) {
	h, body, err := TokenRequest{Grant: GrantClientCredentials, Auth: ClientAuth{ClientSecretBasic, "s6BhdRkqt3", "7Fjfp0ZBr1KtDRbnfVdmIw"}}.Encode()
	require.NoError(t, err)
	assert.Equal(t, "Basic czZCaGRSa3F0Mzo3RmpmcDBaQnIxS3REUmJuZlZkbUl3", h.Get("Authorization"))
	assert.Equal(t, "grant_type=client_credentials", string(body))
	assert.Equal(t, "application/x-www-form-urlencoded", h.Get("Content-Type"))
}

func TestClientAuthPlacement(t *testing.T) {
	tests := []struct {
		auth   ClientAuth
		header string
		form   string
	}{
		{ClientAuth{ClientSecretBasic, "a:b", "p%q +"}, "Basic YSUzQWI6cCUyNXErJTJC", "grant_type=client_credentials"},
		{ClientAuth{ClientSecretPost, "id", "s&t"}, "", "client_id=id&client_secret=s%26t&grant_type=client_credentials"},
		{ClientAuth{NoAuth, "id", ""}, "", "client_id=id&grant_type=client_credentials"},
	}
	for _, tt := range tests {
		h, body, err := TokenRequest{Grant: GrantClientCredentials, Auth: tt.auth}.Encode()
		require.NoError(t, err)
		assert.Equal(t, tt.header, h.Get("Authorization"))
		assert.Equal(t, tt.form, string(body))
	}
	_, _, err := TokenRequest{Auth: ClientAuth{Method: "carrier_pigeon"}}.Encode()
	assert.Error(t, err)
}

// The token requests of RFC 6749 4.1.3, 4.3.2 and 6.
func TestTokenRequestsPerGrant(t *testing.T) {
	public := ClientAuth{NoAuth, "c", ""}
	tests := []struct {
		r    TokenRequest
		want string
	}{
		{TokenRequest{Grant: GrantCode, Auth: public, Code: "SplxlOBeZQQYbYS6WxSbIA", RedirectURI: "https://client.example.com/cb", CodeVerifier: "v", Scope: []string{"x"}},
			"client_id=c&code=SplxlOBeZQQYbYS6WxSbIA&code_verifier=v&grant_type=authorization_code&redirect_uri=https%3A%2F%2Fclient.example.com%2Fcb"},
		{TokenRequest{Grant: GrantPassword, Auth: public, Username: "johndoe", Password: "A3ddj3w", Scope: []string{"a", "b"}},
			"client_id=c&grant_type=password&password=A3ddj3w&scope=a+b&username=johndoe"},
		{TokenRequest{Grant: GrantRefresh, Auth: public, RefreshToken: "tGzv3JOkF0XG5Qx2TlKWIA"},
			"client_id=c&grant_type=refresh_token&refresh_token=tGzv3JOkF0XG5Qx2TlKWIA"},
		{TokenRequest{Grant: GrantClientCredentials, Auth: public, Scope: []string{"a"}, Extra: []Param{{"scope", "z"}, {"audience", "api"}}},
			"audience=api&client_id=c&grant_type=client_credentials&scope=z"},
	}
	for _, tt := range tests {
		_, body, err := tt.r.Encode()
		require.NoError(t, err)
		assert.Equal(t, tt.want, string(body))
	}
}

// RFC 6749 5.1.
func TestTokenResponseExample(t *testing.T) {
	r, err := ParseTokenResponse(200, "application/json", []byte(`{"access_token":"2YotnFZFEjr1zCsicMWpAA","token_type":"example","expires_in":3600,"refresh_token":"tGzv3JOkF0XG5Qx2TlKWIA","example_parameter":"example_value"}`))
	require.NoError(t, err)
	assert.Equal(t, "2YotnFZFEjr1zCsicMWpAA", r.AccessToken)
	assert.Equal(t, int64(3600), *r.ExpiresIn)
	assert.Equal(t, "tGzv3JOkF0XG5Qx2TlKWIA", r.RefreshToken)
	assert.Nil(t, r.Scope)
	assert.Empty(t, r.Oddities)
}

func TestTokenResponseOddities(t *testing.T) {
	tests := []struct {
		members string
		seconds int64 // -1: none
		odd     []string
	}{
		{`"token_type":"Bearer"`, -1, []string{OddExpiresMissing}},
		{`"token_type":"Bearer","expires_in":"1800"`, 1800, []string{OddExpiresNotNumber}},
		{`"token_type":"Bearer","expires_in":"soon"`, -1, []string{OddExpiresNotNumber}},
		{`"token_type":"Bearer","expires_in":-1`, -1, []string{OddExpiresNotNumber}},
		{`"token_type":"Bearer","expires_in":1e300`, -1, []string{OddExpiresNotNumber}},
		{`"token_type":"Bearer","expires_in":true`, -1, []string{OddExpiresNotNumber}},
		{`"expires_in":60`, 60, []string{OddTypeMissing}},
	}
	for _, tt := range tests {
		r, err := ParseTokenResponse(200, "application/json", []byte(`{"access_token":"a",`+tt.members+`}`))
		require.NoError(t, err, tt.members)
		assert.Equal(t, tt.odd, r.Oddities, tt.members)
		if tt.seconds < 0 {
			assert.Nil(t, r.ExpiresIn, tt.members)
			continue
		}
		assert.Equal(t, tt.seconds, *r.ExpiresIn, tt.members)
	}
}

func TestTokenResponseFailures(t *testing.T) {
	tests := []struct {
		status     int
		mediaType  string
		body, want string // error code, or kind of malformed answer
	}{
		{400, "application/json", `{"error":"invalid_request"}`, "invalid_request"},
		{200, "application/json", `{"error":"invalid_client","error_description":"no"}`, "invalid_client"},
		{200, "text/html", `<!doctype html>`, HTMLAnswer},
		{200, "application/json", `<html>`, HTMLAnswer},
		{401, "", ``, EmptyAnswer},
		{200, "application/json", `{"access_token":"abc`, NotJSON},
		{200, "text/plain", `access_token=a&token_type=b`, NotJSON},
		{200, "application/json", `{"token":"x"}`, NoAccessToken},
		{400, "application/json", `{"message":"no"}`, NoErrorCode},
		{200, "application/json", `[]`, NotJSON},
		{200, "application/json", `null`, NotJSON},
	}
	for _, tt := range tests {
		_, err := ParseTokenResponse(tt.status, tt.mediaType, []byte(tt.body))
		var refused *Error
		var malformed *Malformed
		switch {
		case errors.As(err, &refused):
			assert.Equal(t, tt.want, refused.Code, tt.body)
		case errors.As(err, &malformed):
			assert.Equal(t, tt.want, malformed.Kind, tt.body)
		default:
			t.Errorf("%q gave %v", tt.body, err)
		}
	}
}

// RFC 7636 appendix B.
func TestPKCEExample(t *testing.T) {
	verifier := "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	assert.Equal(t, "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM", Challenge(PKCES256, verifier))
	assert.Equal(t, verifier, Challenge(PKCEPlain, verifier))
	assert.NoError(t, CheckVerifier(verifier))
	assert.Error(t, CheckVerifier("short"))
	assert.Error(t, CheckVerifier(strings.Repeat("a", 42)+"+"))
	v, err := RandomText(bytes.NewReader(make([]byte, 32)), 32)
	require.NoError(t, err)
	assert.Len(t, v, 43)
	_, err = RandomText(bytes.NewReader(nil), 32)
	assert.Error(t, err)
}

// RFC 8414 3.1 and OpenID Connect Discovery 4.1.
func TestWellKnown(t *testing.T) {
	tests := []struct{ issuer, want string }{
		{"https://example.com", "https://example.com/.well-known/oauth-authorization-server https://example.com/.well-known/openid-configuration"},
		{"https://example.com/issuer1", "https://example.com/.well-known/oauth-authorization-server/issuer1 https://example.com/issuer1/.well-known/openid-configuration https://example.com/.well-known/openid-configuration/issuer1"},
		{"https://example.com/", "https://example.com/.well-known/oauth-authorization-server https://example.com/.well-known/openid-configuration"},
		{"https://example.com/x/.well-known/openid-configuration", "https://example.com/x/.well-known/openid-configuration"},
	}
	for _, tt := range tests {
		got, err := WellKnown(tt.issuer)
		require.NoError(t, err)
		assert.Equal(t, tt.want, strings.Join(got, " "))
	}
	for _, bad := range []string{"", "example.com", "ftp://example.com", "http://[::1"} {
		_, err := WellKnown(bad)
		assert.Error(t, err, bad)
	}
}

// RFC 8414 3.2, shortened.
func TestMetadataExample(t *testing.T) {
	m, err := ParseMetadata([]byte(`{"issuer":"https://server.example.com","authorization_endpoint":"https://server.example.com/authorize",
		"token_endpoint":"https://server.example.com/token","token_endpoint_auth_methods_supported":["client_secret_basic","private_key_jwt"],
		"scopes_supported":["openid","profile"],"response_types_supported":["code","code token"],"ui_locales_supported":["en-US"]}`))
	require.NoError(t, err)
	assert.Equal(t, "https://server.example.com/token", m.TokenEndpoint)
	assert.Equal(t, []string{"authorization_code", "implicit"}, m.Grants(), "absent means these two (RFC 8414 2)")
	assert.Contains(t, m.Raw, "ui_locales_supported")
	over := m.Overlay(map[string]string{"token_endpoint": "https://other.example/t"})
	assert.Equal(t, "https://other.example/t", over.TokenEndpoint)
	assert.Equal(t, "https://server.example.com/token", m.TokenEndpoint, "the original stays")
	_, err = ParseMetadata([]byte(`{"issuer":5}`))
	assert.Error(t, err)
	_, err = ParseMetadata([]byte(`<html>`))
	assert.Error(t, err)
	same, slash := SameIssuer("https://a", "https://a/")
	assert.False(t, same)
	assert.True(t, slash)
}

func TestChooseAuthMethod(t *testing.T) {
	offers := func(list ...string) *Metadata { return &Metadata{TokenEndpointAuthMethods: list} }
	tests := []struct {
		secret bool
		m      *Metadata
		want   string
	}{
		{false, nil, NoAuth}, {true, nil, ClientSecretBasic}, {true, offers("client_secret_post"), ClientSecretPost},
		{true, offers("client_secret_post", "client_secret_basic"), ClientSecretBasic}, {true, offers("private_key_jwt"), ClientSecretBasic},
	}
	for _, tt := range tests {
		got, reason := ChooseAuthMethod(tt.secret, tt.m)
		assert.Equal(t, tt.want, got)
		assert.NotEmpty(t, reason)
	}
}

// RFC 6749 4.1.1.
func TestAuthorizationRequestExample(t *testing.T) {
	r := AuthorizationRequest{Endpoint: "https://server.example.com/authorize?tenant=t", ResponseType: "code", ClientID: "s6BhdRkqt3", State: "xyz",
		RedirectURI: "https://client.example.com/cb", Scope: []string{"a", "b"}, Extra: []Param{{"state", "other"}}}
	got, err := r.URL()
	require.NoError(t, err)
	assert.Equal(t, "https://server.example.com/authorize?tenant=t&response_type=code&client_id=s6BhdRkqt3&redirect_uri=https%3A%2F%2Fclient.example.com%2Fcb&scope=a%20b&state=other", got)
	r.Endpoint = "https://server.example.com/authorize#x"
	_, err = r.URL()
	assert.Error(t, err)
}

func TestReadPasted(t *testing.T) {
	tests := []struct{ pasted, code, via, state, failure string }{
		{"https://client.example.com/cb?code=SplxlOBeZQQYbYS6WxSbIA&state=xyz\n", "SplxlOBeZQQYbYS6WxSbIA", "query", "xyz", ""},
		{"https://client.example.com/cb#code=a%2Fb&state=x", "a/b", "fragment", "x", ""},
		{"?code=abc&state=x", "abc", "query", "x", ""},
		{"SplxlOBeZQQYbYS6WxSbIA", "SplxlOBeZQQYbYS6WxSbIA", "code", "", ""},
		{"https://client.example.com/cb?error=access_denied&state=xyz", "", "query", "xyz", "access_denied"},
		{"https://client.example.com/cb", "", "query", "", ""},
	}
	for _, tt := range tests {
		r, said, err := ReadPasted(tt.pasted)
		require.NoError(t, err, tt.pasted)
		assert.Equal(t, []string{tt.code, tt.via, tt.state}, []string{r.Code, r.Via, r.State}, tt.pasted)
		assert.NotEmpty(t, said)
		if tt.failure != "" {
			assert.Equal(t, tt.failure, r.Err.Code)
		}
	}
	for _, bad := range []string{"", "  ", "two words", "http://a/%zz?code=%zz", "code=%zz", "abc&def"} {
		_, _, err := ReadPasted(bad)
		assert.Error(t, err, bad)
	}
}

func TestScopeDifference(t *testing.T) {
	missing, added := ScopeDifference([]string{"a", "b"}, []string{"b", "c"})
	assert.Equal(t, []string{"a"}, missing)
	assert.Equal(t, []string{"c"}, added)
}

func FuzzTokenResponse(f *testing.F) {
	f.Add(200, "application/json", []byte(`{"access_token":"a","expires_in":"9"}`))
	f.Fuzz(func(t *testing.T, status int, mediaType string, body []byte) {
		r, err := ParseTokenResponse(status, mediaType, body)
		if (r == nil) == (err == nil) {
			t.Fatalf("neither an answer nor an error, or both: %v %v", r, err)
		}
	})
}

func FuzzPasted(f *testing.F) {
	f.Add("https://client.example.com/cb?code=a&state=b#c")
	f.Fuzz(func(t *testing.T, text string) {
		r, _, err := ReadPasted(text)
		if err == nil && r.Values == nil {
			t.Fatal("no values")
		}

	})
}
