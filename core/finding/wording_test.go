package finding

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Servers say the same in very different words, codes and forms. Each row is one
// way of saying it; the rules must hear the cause in all of them.

type wording struct {
	status int
	typ    string // "" for JSON
	body   string
	want   string
}

func judgeWordings(t *testing.T, base func() *Evidence, list []wording, more ...edit) {
	t.Helper()
	for _, w := range list {
		typ := w.typ
		if typ == "" {
			typ = "application/json"
		}
		found := ids(judged(base, append([]edit{foreign, answer(w.status, typ, w.body)}, more...)...))
		if assert.NotEmpty(t, found, "%d %s", w.status, w.body) {
			assert.Equal(t, w.want, found[0], "%d %s: %v", w.status, w.body, found)
		}
	}
}

func oauthError(code, text string) string {
	return fmt.Sprintf(`{"error":%q,"error_description":%q}`, code, text)
}

func TestWordingsOfTheClient(t *testing.T) {
	judgeWordings(t, healthyToken, []wording{
		{401, "", oauthError("invalid_client", "Invalid client or Invalid client credentials"), "wrong-secret"},
		{401, "", oauthError("unauthorized_client", "Invalid client or Invalid client credentials"), "wrong-secret"},
		{401, "", oauthError("invalid_client", "Client authentication failed (e.g., unknown client, no client authentication included, or unsupported authentication method)."), "wrong-secret"},
		{401, "", oauthError("invalid_client", "Client authentication failed (e.g., unknown client, no client authentication included, or unsupported authentication method). The requested OAuth 2.0 Client does not exist."), "unknown-client"},
		{401, "", oauthError("access_denied", "Unauthorized"), "wrong-secret"},
		{400, "", `{"error":"invalid_client"}`, "wrong-secret"},
		{401, "", `{"errorCode":"invalid_client","errorSummary":"The client secret supplied for a confidential client is invalid.","errorCauses":[]}`, "wrong-secret"},
		{401, "", `{"errorCode":"invalid_client","errorSummary":"Invalid value for 'client_id' parameter.","errorCauses":[]}`, "unknown-client"},
		{401, "", oauthError("invalid_client", "A7000215: Invalid client secret provided. Ensure the secret being sent in the request is the client secret value, not the client secret ID, for a secret added to app '5f0c'. Trace ID: 1 Timestamp: 2026-01-01 10:00:00Z"), "wrong-secret"},
		{400, "", oauthError("unauthorized_client", "A700016: Application with identifier 'job' was not found in the directory 'Tides'. This can happen if the application has not been installed by the administrator."), "unknown-client"},
		{401, "", oauthError("invalid_client", "A7000222: The provided client secret keys for app 'x' are expired. Visit the portal to create new keys."), "secret-expired"},
		{401, "", oauthError("invalid_client", "The OAuth client was not found."), "unknown-client"},
		{401, "", oauthError("invalid_client", "Unauthorized"), "wrong-secret"},
		{200, "", oauthError("incorrect_client_credentials", "The client_id and/or client_secret passed are incorrect."), "error-with-status-200"},
		{401, "", `{"message":"Bad credentials"}`, "wrong-secret"},
		{401, "text/html", "<html><head><title>401 Unauthorized</title></head><body><h1>Unauthorized</h1></body></html>", "wrong-secret"},
		{401, "text/plain", "", "wrong-secret"},
		{401, "", `{"timestamp":"2026-01-01","status":401,"error":"Unauthorized","path":"/oauth/token"}`, "wrong-secret"},
		{400, "", oauthError("invalid_client", "invalid client_secret"), "wrong-secret"},
		{401, "", oauthError("invalid_client", "Client not found: job"), "unknown-client"},
		{401, "", oauthError("invalid_client", "Client authentication failed (e.g., unknown client, no client authentication included, or unsupported authentication method). not_found"), "unknown-client"},
		{400, "", oauthError("unauthorized_client", "The client is not authorized to use the 'client_credentials' grant type"), "grant-not-allowed-for-client"},
		{400, "", oauthError("unauthorized_client", "Client not enabled to retrieve service account"), "grant-not-allowed-for-client"},
		{403, "", oauthError("unauthorized_client", "Grant type 'client_credentials' not allowed for the client."), "grant-not-allowed-for-client"},
		{400, "", `{"error":"unauthorized_client"}`, "grant-not-allowed-for-client"},
		{400, "", `{"error":"unsupported_grant_type"}`, "unsupported-grant-type"},
		{400, "", oauthError("invalid_request", "The grant type client_credentials is not supported"), "unsupported-grant-type"},
		{400, "", oauthError("invalid_scope", "Invalid scopes: gauges.read"), "invalid-scope-asked"},
		{400, "", `{"error":"invalid_scope"}`, "invalid-scope-asked"},
		{400, "", oauthError("invalid_scope", "The requested scope is invalid, unknown, or malformed. The OAuth 2.0 Client is not allowed to request scope 'gauges.read'."), "invalid-scope-asked"},
		{400, "", oauthError("invalid_request", "scope gauges.read is not registered for this client"), "invalid-scope-asked"},
		{403, "", oauthError("access_denied", "Client has not been granted scopes: gauges.read"), "invalid-scope-asked"},
		{503, "text/html", aPage, "server-error-temporary"},
		{500, "", `{"error":"server_error"}`, "server-error-temporary"},
		{500, "", oauthError("invalid_client", "bad secret"), "wrong-secret"},
		{429, "", oauthError("too_many_attempts", "slow down"), "rate-limited"},
		{401, "", oauthError("invalid_client", "The OAuth 2.0 Client supports client authentication method 'client_secret_post', but method 'client_secret_basic' was requested."), "auth-in-wrong-place"},
		{400, "", oauthError("invalid_request", "client credentials must be sent in the request body"), "auth-in-wrong-place"},
	})
	judgeWordings(t, healthyToken, []wording{
		{403, "", oauthError("access_denied", "Service not found: https://wrong.example/api"), "resource-or-audience-unknown"},
		{400, "", `{"error":"invalid_target"}`, "resource-or-audience-unknown"},
		{400, "", oauthError("invalid_request", "the audience https://wrong.example/api is unknown"), "resource-or-audience-unknown"},
		{400, "", oauthError("invalid_resource", "The resource principal named https://wrong.example/api was not found in the tenant"), "resource-or-audience-unknown"},
	}, body("grant_type=client_credentials&client_id=job&audience=https%3A%2F%2Fwrong.example%2Fapi"))
	judgeWordings(t, healthyToken, []wording{
		{401, "", oauthError("invalid_client", "no client authentication included"), "confidential-client-without-secret"},
		{401, "", oauthError("invalid_client", "A7000218: The request body must contain the following parameter: 'client_assertion' or 'client_secret'."), "confidential-client-without-secret"},
		{400, "", oauthError("invalid_request", "client_secret is missing."), "confidential-client-without-secret"},
		{401, "", `{"error":"invalid_client"}`, "confidential-client-without-secret"},
		{401, "text/plain", "", "confidential-client-without-secret"},
	}, request("Authorization", ""))
	judgeWordings(t, healthyToken, []wording{
		{400, "", oauthError("invalid_request", "The required parameter 'scope' is missing"), "scope-missing"},
		{400, "", oauthError("invalid_scope", "a scope must be specified"), "scope-missing"},
	}, body("grant_type=client_credentials&client_id=job"))
}

func TestWordingsOfTheCode(t *testing.T) {
	judgeWordings(t, healthyCode, []wording{
		{400, "", oauthError("invalid_grant", "The authorization code has already been used."), "code-reused"},
		{400, "", oauthError("invalid_grant", "The provided authorization grant (e.g., authorization code, resource owner credentials) or refresh token is invalid, expired, revoked, does not match the redirection URI used in the authorization request, or was issued to another client. The authorization code has already been used."), "code-reused"},
		{400, "", oauthError("invalid_grant", "A54005: OAuth2 Authorization code was already redeemed, please retry with a new valid code or use an existing refresh token."), "code-reused"},
		{400, "", oauthError("invalid_grant", "Code is already consumed"), "code-reused"},
		{400, "", oauthError("invalid_grant", "A70008: The provided authorization code has expired. Send a new interactive authorization request for this user and resource."), "code-expired"},
		{400, "", oauthError("invalid_grant", "Code is expired"), "code-expired"},
		{400, "", oauthError("invalid_grant", "The authorization code lifetime has passed: expired 40 s ago"), "code-expired"},
		{400, "", oauthError("invalid_grant", "Incorrect redirect_uri"), "redirect-uri-mismatch"},
		{400, "", oauthError("redirect_uri_mismatch", "Bad Request"), "redirect-uri-mismatch"},
		{400, "", oauthError("invalid_grant", "The 'redirect_uri' from this request does not match the one from the authorize request."), "redirect-uri-mismatch"},
		{403, "", oauthError("invalid_grant", "The redirect URI is wrong. You sent http://127.0.0.1:8651/landing, and we expected https://h/cb"), "redirect-uri-mismatch"},
		{400, "", oauthError("invalid_request", "redirect uri mismatch"), "redirect-uri-mismatch"},
		{400, "", oauthError("invalid_grant", "PKCE verification failed: Code mismatch"), "pkce-verifier-mismatch"},
		{403, "", oauthError("invalid_grant", "Failed to verify code verifier"), "pkce-verifier-mismatch"},
		{400, "", oauthError("invalid_grant", "A501481: The Code_Verifier does not match the code_challenge supplied in the authorization request."), "pkce-verifier-mismatch"},
		{400, "", oauthError("invalid_grant", "invalid code_verifier"), "pkce-verifier-mismatch"},
		{400, "", oauthError("invalid_grant", "The authorization code was issued to a different client"), "code-from-other-client"},
		{400, "", oauthError("invalid_grant", "Auth code does not belong to this client: it belongs to portal"), "code-from-other-client"},
		{400, "", oauthError("invalid_grant", "Code not valid"), "code-garbled"},
		{400, "", oauthError("invalid_grant", "not_found"), "code-garbled"},
		{400, "", oauthError("invalid_grant", "Malformed auth code."), "code-garbled"},
		{403, "", oauthError("invalid_grant", "Invalid authorization code"), "code-garbled"},
		{400, "", oauthError("invalid_grant", "authorization code not found"), "code-garbled"},
		{401, "", oauthError("invalid_client", "client authentication failed"), "wrong-secret"},
	}, func(e *Evidence) { e.Person = nil })
	judgeWordings(t, healthyCode, []wording{
		{400, "", oauthError("invalid_grant", "PKCE code verifier not specified"), "pkce-verifier-missing"},
		{400, "", oauthError("invalid_request", "Missing code_verifier"), "pkce-verifier-missing"},
		{400, "", oauthError("invalid_grant", "A code_verifier is required for this code"), "pkce-verifier-missing"},
	}, func(e *Evidence) { e.Person = nil }, body("grant_type=authorization_code&client_id=job&code=abc-1234&redirect_uri=x"))
}

func TestWordingsOfRefreshAndPassword(t *testing.T) {
	judgeWordings(t, refreshing, []wording{
		{400, "", oauthError("invalid_grant", "Token is not active"), "refresh-token-expired-or-revoked"},
		{400, "", oauthError("invalid_grant", "Session not active"), "refresh-token-expired-or-revoked"},
		{403, "", oauthError("invalid_grant", "Unknown or invalid refresh token."), "refresh-token-expired-or-revoked"},
		{400, "", oauthError("invalid_grant", "The refresh token is invalid or expired."), "refresh-token-expired-or-revoked"},
		{400, "", oauthError("invalid_grant", "Token has been expired or revoked."), "refresh-token-expired-or-revoked"},
		{400, "", `{"error":"invalid_grant"}`, "refresh-token-expired-or-revoked"},
		{401, "", `{"error":"invalid_grant"}`, "refresh-token-expired-or-revoked"},
		{400, "", oauthError("invalid_grant", "Maximum allowed refresh token reuse exceeded"), "refresh-token-reused"},
		{400, "", oauthError("invalid_grant", "refresh token already used"), "refresh-token-reused"},
		{400, "", oauthError("invalid_grant", "The refresh token was rotated, this one has already been redeemed"), "refresh-token-reused"},
		{400, "", oauthError("invalid_grant", "Token client and authorized client don't match: it was issued to another client"), "refresh-token-of-other-client"},
		{401, "", oauthError("invalid_client", "wrong secret"), "wrong-secret"},
	})
	judgeWordings(t, withPass, []wording{
		{401, "", oauthError("invalid_grant", "Invalid user credentials"), "wrong-user-password"},
		{400, "", oauthError("invalid_grant", "A50126: Error validating credentials due to invalid username or password."), "wrong-user-password"},
		{403, "", oauthError("invalid_grant", "Wrong email or password."), "wrong-user-password"},
		{400, "", `{"error":"invalid_grant"}`, "wrong-user-password"},
		{401, "", `{"message":"username or password is incorrect"}`, "wrong-user-password"},
		{400, "", oauthError("invalid_grant", "Account is not fully set up"), "user-needs-interaction"},
		{403, "", oauthError("mfa_required", "Multifactor authentication required"), "user-needs-interaction"},
		{400, "", oauthError("invalid_grant", "A50076: Due to a configuration change made by your administrator, you must use multi-factor authentication to access this."), "user-needs-interaction"},
		{400, "", oauthError("interaction_required", "the user must sign in interactively"), "user-needs-interaction"},
		{400, "", oauthError("unauthorized_client", "Client not allowed for direct access grants"), "grant-not-allowed-for-client"},
	})
}

func TestWordingsOfThePage(t *testing.T) {
	for _, w := range []wording{
		{400, "text/html", "<html><body><h1>We are sorry...</h1><p>Invalid parameter: redirect_uri</p></body></html>", "redirect-uri-mismatch"},
		{400, "text/html", "<html><body><h1>Error 400: redirect_uri_mismatch</h1>You can't sign in to this app</body></html>", "redirect-uri-mismatch"},
		{400, "application/json", `{"error":"invalid_request","error_description":"The 'redirect_uri' parameter does not match any of the registered redirect urls."}`, "redirect-uri-mismatch"},
		{403, "text/html", "<html><body>Callback URL mismatch. The provided redirect_uri is not in the list of allowed callback URLs.</body></html>", "redirect-uri-mismatch"},
		{400, "text/html", "<html><body><p>We are sorry... Client not found.</p></body></html>", "unknown-client"},
		{401, "text/html", "<html><body>Error 401: invalid_client. The OAuth client was not found.</body></html>", "unknown-client"},
		{400, "application/json", `{"error":"invalid_client","error_description":"client is invalid"}`, "unknown-client"},
		{400, "text/plain", "Invalid client_id \"job\".", "unknown-client"},
		{400, "text/html", "<html><body>Unknown client</body></html>", "unknown-client"},
		{400, "text/plain", "unable to retrieve client by id", "unknown-client"},
		{400, "application/json", `{"error":"unauthorized_client","error_description":"no such client"}`, "unknown-client"},
		{400, "text/html", "<html><body><h1>Bad Request</h1>The requested redirect URL is not registered with the client</body></html>", "redirect-uri-mismatch"},
		{400, "text/html", "<html><body>Unregistered redirect_uri (\"http://127.0.0.1:8651/landing\").</body></html>", "redirect-uri-mismatch"},
		{400, "application/json", `{"error":"invalid_client","error_description":"The client_id 'job' does not exist"}`, "unknown-client"},
		{500, "text/html", "<html><body>Internal Server Error</body></html>", "server-error-temporary"},
		{400, "application/json", `{"error":"invalid_scope"}`, "invalid-scope-asked"},
		{503, "text/html", "<html><body>down</body></html>", "server-error-temporary"},
	} {
		found := ids(judged(healthyCode, page(w.status, w.typ, w.body)))
		if assert.NotEmpty(t, found, w.body) {
			assert.Equal(t, w.want, found[0], "%d %s: %v", w.status, w.body, found)
		}
	}
}

func TestWordingsOfTheAPI(t *testing.T) {
	judgeWordings(t, healthyCall, []wording{
		{401, "", `{"error":"invalid_token","error_description":"The access token expired"}`, "token-expired"},
		{401, "", `{"message":"Jwt is expired"}`, "token-expired"},
		{401, "", `{"error":{"code":"InvalidAuthenticationToken","message":"Access token has expired or is not yet valid."}}`, "token-not-accepted"},
		{401, "", `{"error":{"code":"InvalidAuthenticationToken","message":"Access token validation failure. Invalid audience."}}`, "audience-not-the-api"},
		{401, "", `{"error":"invalid_token","error_description":"Signature verification failed"}`, "signature-invalid"},
		{401, "", `{"error":"invalid_token"}`, "token-not-accepted"},
		{401, "text/plain", "", "token-not-accepted"},
		{403, "", `{"error":"insufficient_scope"}`, "insufficient-scope"},
		{403, "", `{"message":"the token lacks the scope notices.write"}`, "insufficient-scope"},
		{403, "", `{"error":"Forbidden","message":"Missing required role Gauges.Write"}`, "role-missing-for-call"},
		{403, "", `{"message":"Forbidden"}`, "forbidden-for-this-user"},
		{403, "text/html", "<html><title>403 Forbidden</title></html>", "forbidden-for-this-user"},
		{400, "", `{"message":"Missing required header X-Tenant-Id"}`, "required-header-missing"},
		{429, "", `{"message":"rate exceeded"}`, "rate-limited"},
		{502, "text/html", aPage, "server-error-temporary"},
	}, func(e *Evidence) { e.API = nil })
}
