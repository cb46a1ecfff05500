package oauth

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHeldRequests(t *testing.T) {
	h, body, err := HeldRequest{Auth: ClientAuth{Method: ClientSecretBasic, ID: "s6BhdRkqt3", Secret: "a b"}, Token: "45ghiukldjahdnhzdauz", Hint: HintRefresh}.Encode()
	require.NoError(t, err)
	assert.Equal(t, "token=45ghiukldjahdnhzdauz&token_type_hint=refresh_token", string(body), "RFC 7009 2.1")
	assert.Equal(t, "Basic czZCaGRSa3F0MzphK2I=", h.Get("Authorization"))
	_, body, err = HeldRequest{Auth: ClientAuth{Method: NoAuth, ID: "kiosk"}, Token: "x"}.Encode()
	require.NoError(t, err)
	assert.Equal(t, "client_id=kiosk&token=x", string(body))
	_, _, err = HeldRequest{Auth: ClientAuth{Method: "tls"}, Token: "x"}.Encode()
	assert.Error(t, err)
}

func TestIntrospectionAnswers(t *testing.T) {
	// RFC 7662 2.2
	i, err := ParseIntrospection(200, "application/json", []byte(`{"active":true,"client_id":"l238j323ds-23ij4","username":"jdoe","scope":"read write dolphin","sub":"Z5O3upPC88QrAjx00dis","exp":1419356238}`))
	require.NoError(t, err)
	assert.True(t, i.Active)
	assert.Equal(t, "jdoe", i.Members["username"])
	i, err = ParseIntrospection(200, "application/json", []byte(`{"active":false}`))
	require.NoError(t, err)
	assert.False(t, i.Active)
	for _, bad := range []struct {
		status int
		body   string
		says   string
	}{{200, `{"active":"true"}`, "no active member"}, {200, `<html>`, "HTML"}, {401, `{"error":"invalid_client"}`, "invalid_client"}, {500, `{}`, "status 500"}, {401, ``, "empty"}} {
		_, err := ParseIntrospection(bad.status, "application/json", []byte(bad.body))
		assert.ErrorContains(t, err, bad.says, bad.body)
	}
}

func TestRevocationAnswers(t *testing.T) {
	assert.NoError(t, ParseRevocation(200, "", nil))
	assert.NoError(t, ParseRevocation(200, "text/html", []byte("done")), "the content does not matter (RFC 7009 2.2)")
	assert.ErrorContains(t, ParseRevocation(400, "application/json", []byte(`{"error":"unsupported_token_type"}`)), "unsupported_token_type")
	assert.Error(t, ParseRevocation(503, "", nil))
	assert.ErrorContains(t, ParseRevocation(403, "application/json", []byte(`{"x":1}`)), "403")
}

func TestUserinfoAnswers(t *testing.T) {
	u, err := ParseUserinfo(200, "application/json", []byte(`{"sub":"248289761001"}`))
	require.NoError(t, err)
	assert.Equal(t, "248289761001", u.Claims["sub"])
	u, err = ParseUserinfo(200, "application/jwt; charset=utf-8", []byte("eyJ.x.y\n"))
	require.NoError(t, err)
	assert.Equal(t, "eyJ.x.y", u.JWT)
	_, err = ParseUserinfo(200, "text/html", []byte("<html>"))
	assert.Error(t, err)
}

func TestLogoutURL(t *testing.T) {
	u, err := LogoutRequest{Endpoint: "https://h/end?tenant=x", IDTokenHint: "a.b", ClientID: "desk", RedirectURI: "https://d/bye", State: "s"}.URL()
	require.NoError(t, err)
	assert.Equal(t, "https://h/end?client_id=desk&id_token_hint=a.b&post_logout_redirect_uri=https%3A%2F%2Fd%2Fbye&state=s&tenant=x", u)
	_, err = LogoutRequest{Endpoint: "nonsense"}.URL()
	assert.Error(t, err)
}
