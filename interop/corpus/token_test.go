package corpus

import (
	"encoding/base64"
	"net/url"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

func job(l *lab) who        { return l.job }
func public(l *lab) who     { return l.public }
func basicWeb(l *lab) who   { return l.basic }
func postClient(l *lab) who { return l.post }

func with(w who, f func(w *who)) who { f(&w); return w }

// tokenCases go wrong at the token endpoint.
func tokenCases(l *lab) []kase {
	list := []kase{
		{"wrong-secret-basic", "wrong-secret", nil, true, func(c *run) { c.machine(with(c.l.job, func(w *who) { w.secret = "last-years-secret" })) }},
		{"wrong-secret-by-settings", "wrong-secret", job, true, func(c *run) { c.machine(with(c.l.job, func(w *who) { w.secret = "last-years-secret" })) }},
		{"wrong-secret-code", "wrong-secret", nil, true, func(c *run) {
			c.discover()
			code := c.signIn(c.l.basic).Get("code")
			c.redeem(with(c.l.basic, func(w *who) { w.secret = "harbour" }), code)
		}},
		{"unknown-client-by-settings", "unknown-client", job, true, func(c *run) {
			c.machine(with(c.l.job, func(w *who) { w.id = "nightly-forecast-2" }))
		}},
		{"unknown-client-public", "unknown-client", public, true, func(c *run) {
			c.do("POST", c.l.token, pairs(), url.Values{"grant_type": {"refresh_token"}, "refresh_token": {"r"}, "client_id": {"not-registered"}}.Encode())
		}},
		{"secret-newline", "secret-has-edge-whitespace", nil, true, func(c *run) { c.machine(with(c.l.job, func(w *who) { w.secret += "\n" })) }},
		{"secret-newline-settings", "secret-has-edge-whitespace", job, true, func(c *run) { c.machine(with(c.l.job, func(w *who) { w.secret += "\n" })) }},
		{"secret-quoted", "secret-looks-quoted", nil, true, func(c *run) { c.machine(with(c.l.job, func(w *who) { w.secret = `"` + w.secret + `"` })) }},
		{"secret-is-id", "secret-looks-like-its-identifier", job, true, func(c *run) { c.machine(with(c.l.job, func(w *who) { w.secret = w.id })) }},
		{"secret-is-uuid", "secret-looks-like-its-identifier", nil, true, func(c *run) {
			c.machine(with(c.l.job, func(w *who) { w.secret = "7d3e1b52-8f0a-4a57-9c2d-51b7f0e2a911" }))
		}},
		{"no-credentials", "confidential-client-without-secret", nil, true, func(c *run) {
			c.machine(with(c.l.job, func(w *who) { w.method = "none" }))
		}},
		{"no-credentials-code", "confidential-client-without-secret", basicWeb, true, func(c *run) {
			code := c.signIn(c.l.basic).Get("code")
			c.redeem(with(c.l.basic, func(w *who) { w.method = "none" }), code)
		}},
		{"double-authentication", "double-client-authentication", nil, true, func(c *run) {
			c.machine(c.l.job, "client_id", c.l.job.id, "client_secret", "another-one")
		}},
		{"client-id-conflict", "client-id-conflict", job, true, func(c *run) { c.machine(c.l.job, "client_id", "somebody-else") }},
		{"basic-plain", "basic-credentials-malformed", nil, true, func(c *run) {
			c.do("POST", c.l.token, pairs("Authorization", "Basic "+c.l.job.id+":"+c.l.job.secret), "grant_type=client_credentials&scope=gauges.read")
		}},
		{"basic-no-colon", "basic-credentials-malformed", nil, true, func(c *run) {
			c.do("POST", c.l.token, pairs("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(c.l.job.id))), "grant_type=client_credentials&scope=gauges.read")
		}},
		{"basic-as-bearer", "basic-credentials-malformed", nil, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}})
			h.Set("Authorization", strings.Replace(h.Get("Authorization"), "Basic", "Bearer", 1))
			c.do("POST", c.l.token, h, v.Encode())
		}},
		{"json-body", "wrong-content-type", nil, true, func(c *run) {
			h, _ := c.l.job.as(url.Values{})
			h.Set("Content-Type", "application/json")
			c.do("POST", c.l.token, h, `{"grant_type":"client_credentials","scope":"gauges.read"}`)
		}},
		{"form-as-text", "wrong-content-type", job, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}})
			h.Set("Content-Type", "text/plain")
			c.do("POST", c.l.token, h, v.Encode())
		}},
		{"params-in-query", "parameters-in-query-not-body", nil, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			c.do("POST", c.l.token+"?"+v.Encode(), h, "")
		}},
		{"empty-body", "request-body-empty", nil, true, func(c *run) {
			h, _ := c.l.job.as(url.Values{})
			h.Set("Content-Type", "application/x-www-form-urlencoded")
			c.do("POST", c.l.token, h, "")
		}},
		{"get-token", "wrong-method", nil, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}})
			c.do("GET", c.l.token+"?"+v.Encode(), h, "")
		}},
		{"missing-grant-type", "missing-grant-type", nil, true, func(c *run) { c.machine(c.l.job, "grant_type", "-") }},
		{"misspelt-grant-type", "unsupported-grant-type", nil, true, func(c *run) { c.machine(c.l.job, "grant_type", "client_credential") }},
		{"unsupported-grant", "unsupported-grant-type", job, true, func(c *run) {
			c.machine(c.l.job, "grant_type", "urn:ietf:params:oauth:grant-type:saml2-bearer", "assertion", "PHNhbWw-")
		}},
		{"duplicate-scope", "duplicate-parameter", nil, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			c.do("POST", c.l.token, h, v.Encode()+"&grant_type=client_credentials")
		}},
		{"id-secret-swapped", "id-and-secret-swapped", job, true, func(c *run) {
			c.machine(with(c.l.job, func(w *who) { w.id, w.secret = w.secret, w.id }))
		}},
		{"code-reused", "code-reused", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.redeem(c.l.public, code)
			c.redeem(c.l.public, code)
		}},
		{"code-reused-basic", "code-reused", basicWeb, true, func(c *run) {
			c.discover()
			code := c.signIn(c.l.basic).Get("code")
			c.redeem(c.l.basic, code)
			c.redeem(c.l.basic, code)
		}},
		{"code-truncated", "code-garbled", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.redeem(c.l.public, code[:len(code)-5])
		}},
		{"code-percent-encoded", "code-garbled", nil, true, func(c *run) {
			code := c.signIn(c.l.basic).Get("code")
			c.redeem(c.l.basic, "%2F"+code)
		}},
		{"code-with-trailing", "code-garbled", public, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.redeem(c.l.public, code+"&state="+c.state)
		}},
		{"code-missing", "code-missing", nil, true, func(c *run) {
			c.signIn(c.l.public)
			c.redeem(c.l.public, "x", "code", "-")
		}},
		{"redirect-mismatch", "redirect-uri-mismatch", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.redeem(c.l.public, code, "redirect_uri", strings.Replace(c.l.public.redirect, "127.0.0.1", "localhost", 1))
		}},
		{"redirect-slash", "redirect-uri-mismatch", basicWeb, true, func(c *run) {
			code := c.signIn(c.l.basic).Get("code")
			c.redeem(c.l.basic, code, "redirect_uri", c.l.basic.redirect+"/")
		}},
		{"verifier-mismatch", "pkce-verifier-mismatch", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.verifier = random()
			c.redeem(c.l.public, code)
		}},
		{"verifier-missing", "pkce-verifier-missing", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.redeem(c.l.public, code, "code_verifier", "-")
		}},
		{"verifier-without-challenge", "pkce-challenge-was-missing", nil, true, func(c *run) {
			code := c.signIn(c.l.basic, "code_challenge", "-", "code_challenge_method", "-").Get("code")
			c.redeem(c.l.basic, code)
		}},
		{"method-mismatch", "pkce-method-mismatch", nil, true, func(c *run) {
			v := random()
			code := c.signIn(c.l.basic, "code_challenge", v, "code_challenge_method", "S256").Get("code")
			c.verifier = v
			c.redeem(c.l.basic, code)
		}},
		{"code-other-client", "code-from-other-client", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.redeem(with(c.l.basic, func(w *who) { w.redirect = c.l.public.redirect }), code)
		}},
		{"code-expired", "code-expired", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			time.Sleep(62 * time.Second)
			c.redeem(c.l.public, code)
		}},
		{"code-missing-client", "client-id-missing", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.redeem(c.l.public, code, "client_id", "-")
		}},
		{"refresh-reused", "refresh-token-reused", nil, true, func(c *run) {
			t := c.tokens(c.l.public).member("refresh_token")
			c.refresh(c.l.public, t)
			c.refresh(c.l.public, t)
		}},
		{"refresh-unknown", "refresh-token-expired-or-revoked", nil, true, func(c *run) { c.refresh(c.l.public, "rt-"+random()) }},
		{"refresh-revoked", "refresh-token-expired-or-revoked", public, true, func(c *run) {
			t := c.tokens(c.l.public).member("refresh_token")
			c.do("POST", c.l.revoke, pairs(), url.Values{"token": {t}, "client_id": {c.l.public.id}}.Encode())
			c.refresh(c.l.public, t)
		}},
		{"refresh-other-client", "refresh-token-of-other-client", nil, true, func(c *run) {
			t := c.tokens(c.l.public).member("refresh_token")
			c.refresh(c.l.basic, t)
		}},
		{"refresh-wider-scope", "refresh-scope-widened", nil, true, func(c *run) {
			t := c.tokens(c.l.public).member("refresh_token")
			c.refresh(c.l.public, t, "scope", "openid gauges.read offline_access profile")
		}},
		{"access-as-refresh", "value-in-wrong-parameter", nil, true, func(c *run) {
			t := c.tokens(c.l.public).member("access_token")
			c.refresh(c.l.public, t)
		}},
		{"refresh-as-code", "value-in-wrong-parameter", nil, true, func(c *run) {
			t := c.tokens(c.l.public).member("refresh_token")
			c.redeem(c.l.public, t)
		}},
		{"code-as-refresh", "value-in-wrong-parameter", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			c.refresh(c.l.public, code)
		}},
		{"token-at-authorization", "authorization-endpoint-used-as-token-endpoint", nil, true, func(c *run) {
			c.discover()
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			c.do("POST", c.l.auth, h, v.Encode())
		}},
		{"token-at-userinfo", "other-endpoint-called", nil, true, func(c *run) {
			c.discover()
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			c.do("POST", c.l.me, h, v.Encode())
		}},
		{"token-at-introspection", "other-endpoint-called", nil, true, func(c *run) {
			c.discover()
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			c.do("POST", c.l.intro, h, v.Encode())
		}},
		{"token-not-found", "endpoint-not-found", nil, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			c.do("POST", c.l.base+"/oauth/v9/token", h, v.Encode())
		}},
		{"redirect-encoded-twice", "value-double-encoded", nil, true, func(c *run) {
			code := c.signIn(c.l.basic).Get("code")
			c.redeem(c.l.basic, code, "redirect_uri", url.QueryEscape(c.l.basic.redirect))
		}},
		{"connection-refused", "connection-refused", nil, true, func(c *run) {
			c.do("POST", "http://127.0.0.1:1/token", pairs(), "grant_type=client_credentials&client_id=x&client_secret=y")
		}},
	}
	if l.name == "real" {
		return append(list, realTokenCases(l)...)
	}
	return append(list, standInTokenCases(l)...)
}

func realTokenCases(l *lab) []kase {
	return []kase{
		{"wrong-secret-post", "wrong-secret", postClient, true, func(c *run) {
			code := c.signIn(c.l.post).Get("code")
			c.redeem(with(c.l.post, func(w *who) { w.secret = "rope and tar" }), code)
		}},
		{"secret-raw-in-body", "value-not-form-encoded", postClient, true, func(c *run) {
			code := c.signIn(c.l.post).Get("code")
			v := url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {c.l.post.redirect}, "code_verifier": {c.verifier}, "client_id": {c.l.post.id}}
			c.do("POST", c.l.token, pairs(), v.Encode()+"&client_secret="+c.l.post.secret)
		}},
		{"secret-raw-in-header", "value-not-form-encoded", basicWeb, true, func(c *run) {
			code := c.signIn(c.l.basic).Get("code")
			v := url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {c.l.basic.redirect}, "code_verifier": {c.verifier}}
			c.do("POST", c.l.token, pairs("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(c.l.basic.id+":"+c.l.basic.secret))), v.Encode())
		}},
		{"grant-not-allowed", "grant-not-allowed-for-client", nil, true, func(c *run) { c.machine(c.l.basic) }},
		{"grant-not-allowed-refresh", "grant-not-allowed-for-client", job, true, func(c *run) { c.refresh(c.l.job, "r-"+random()) }},
		{"resource-unknown", "resource-or-audience-unknown", nil, true, func(c *run) { c.machine(c.l.job, "resource", "https://other.example/api") }},
		{"assertion-no-type", "assertion-type-missing", nil, true, func(c *run) { c.asserted(c.assertion(nil), "client_assertion_type", "-") }},
		{"assertion-malformed", "assertion-malformed", nil, true, func(c *run) { c.asserted("not.a-jwt") }},
		{"assertion-expired", "assertion-expired", nil, true, func(c *run) {
			c.asserted(c.assertion(map[string]any{"iat": time.Now().Unix() - 900, "exp": time.Now().Unix() - 600}))
		}},
		{"assertion-future", "assertion-from-the-future", nil, true, func(c *run) {
			c.asserted(c.assertion(map[string]any{"nbf": time.Now().Unix() + 600, "iat": time.Now().Unix() + 600, "exp": time.Now().Unix() + 900}))
		}},
		{"assertion-audience", "assertion-audience-wrong", nil, true, func(c *run) {
			c.discover()
			c.asserted(c.assertion(map[string]any{"aud": "https://other.example/token"}))
		}},
		{"assertion-issuer", "assertion-issuer-wrong", nil, true, func(c *run) { c.asserted(c.assertion(map[string]any{"iss": "somebody"})) }},
		{"assertion-no-sub", "assertion-claim-missing", nil, true, func(c *run) { c.asserted(c.assertion(map[string]any{"sub": nil})) }},
		{"assertion-no-exp", "assertion-claim-missing", nil, true, func(c *run) { c.asserted(c.assertion(map[string]any{"exp": nil})) }},
		{"assertion-key", "assertion-key-unknown", nil, true, func(c *run) {
			now := time.Now().Unix()
			key := newRSA()
			c.asserted(sign(jose.RS256, jose.JSONWebKey{Key: key, KeyID: "signer-9"}, map[string]any{"iss": "signer", "sub": "signer", "aud": c.l.token, "iat": now, "exp": now + 60, "jti": random()}, nil))
		}},
		{"assertion-hmac", "assertion-algorithm-unexpected", nil, true, func(c *run) {
			now := time.Now().Unix()
			c.discover()
			c.asserted(sign(jose.HS512, []byte(strings.Repeat("k", 64)), map[string]any{"iss": "signer", "sub": "signer", "aud": c.l.token, "iat": now, "exp": now + 60, "jti": random()}, nil))
		}},
		{"assertion-replayed", "assertion-replayed", nil, true, func(c *run) {
			a := c.assertion(nil)
			c.asserted(a)
			c.asserted(a)
		}},
		{"dpop-wrong-method", "dpop-proof-wrong-target", nil, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			h.Set("DPoP", newProofKey().proof("GET", c.l.token, "", nil))
			c.do("POST", c.l.token, h, v.Encode())
		}},
		{"dpop-wrong-address", "dpop-proof-wrong-target", job, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			h.Set("DPoP", newProofKey().proof("POST", c.l.base+"/oauth/token", "", nil))
			c.do("POST", c.l.token, h, v.Encode())
		}},
		{"dpop-replayed", "dpop-proof-replayed", nil, true, func(c *run) {
			h, v := c.l.job.as(url.Values{"grant_type": {"client_credentials"}, "scope": {"gauges.read"}})
			h.Set("DPoP", newProofKey().proof("POST", c.l.token, "", nil))
			c.do("POST", c.l.token, h, v.Encode())
			c.do("POST", c.l.token, h, v.Encode())
		}},
		{"device-pending", "authorization-pending", nil, true, func(c *run) {
			a := c.do("POST", c.l.device, pairs(), "client_id=gadget&scope=openid")
			c.do("POST", c.l.token, pairs(), url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}, "client_id": {"gadget"}, "device_code": {a.member("device_code")}}.Encode())
		}},
	}
}

func standInTokenCases(l *lab) []kase {
	fault := func(id, cause string, w func(l *lab) who, faults []string, record func(c *run)) kase {
		return kase{id, cause, w, false, func(c *run) {
			c.l = c.l.fork(faults...)
			record(c)
		}}
	}
	kiosk := who{"kiosk", "", "none", "", "password"}
	pass := func(c *run, edits ...string) answer {
		v := url.Values{"grant_type": {"password"}, "client_id": {kiosk.id}, "username": {"keeper"}, "password": {"lamp-oil-31"}, "scope": {"gauges.read offline_access"}}
		return c.do("POST", c.l.token, pairs(), params(v, edits).Encode())
	}
	machine := func(c *run) { c.machine(c.l.job) }
	return []kase{
		{"wrong-secret-post", "wrong-secret", postClient, false, func(c *run) { c.machine(with(c.l.post, func(w *who) { w.secret = "ropes" })) }},
		{"secret-raw-in-body", "value-not-form-encoded", nil, false, func(c *run) {
			c.do("POST", c.l.token, pairs(), "grant_type=client_credentials&scope=gauges.read&client_id="+c.l.post.id+"&client_secret="+c.l.post.secret)
		}},
		{"secret-expired", "secret-expired", nil, false, func(c *run) {
			c.machine(who{"expired-app", "ex-03Old*Anchor", "client_secret_basic", "", "client_credentials"})
		}},
		{"grant-not-allowed", "grant-not-allowed-for-client", nil, false, func(c *run) {
			c.machine(who{"archive", "ar-71Dusty~Shelf", "client_secret_basic", "", "client_credentials"})
		}},
		{"wrong-password", "wrong-user-password", nil, false, func(c *run) { pass(c, "password", "lamp-oil") }},
		{"username-missing", "username-missing", nil, false, func(c *run) { pass(c, "username", "-") }},
		{"password-missing", "username-missing", nil, false, func(c *run) { pass(c, "password", "-") }},
		{"invalid-scope", "invalid-scope-asked", nil, false, func(c *run) { c.machine(c.l.job, "scope", "gauges.writ") }},
		{"scope-commas", "scope-wrongly-separated", nil, false, func(c *run) { c.machine(c.l.job, "scope", "gauges.read,notices.write") }},
		{"redirect-missing", "redirect-uri-missing", nil, false, func(c *run) {
			code := c.signIn(c.l.basic).Get("code")
			c.redeem(c.l.basic, code, "redirect_uri", "-")
		}},
		fault("strict-method", "auth-in-wrong-place", job, []string{"strict-auth-method"}, func(c *run) { c.machine(with(c.l.job, func(w *who) { w.method = "client_secret_post" })) }),
		fault("token-html", "html-instead-of-json", nil, []string{"token-html"}, machine),
		fault("token-form", "answer-not-json", nil, []string{"token-form"}, machine),
		fault("no-expires-in", "expires-in-missing", nil, []string{"no-expires-in"}, machine),
		fault("no-token-type", "token-type-missing", nil, []string{"no-token-type"}, machine),
		fault("expires-in-text", "expires-in-not-a-number", nil, []string{"expires-in-text"}, machine),
		fault("scope-narrowed", "scope-narrowed", nil, []string{"scope-narrowed"}, machine),
		fault("no-refresh-token", "no-refresh-token-given", nil, []string{"no-refresh-token"}, func(c *run) { c.tokens(c.l.public) }),
		fault("error-with-200", "error-with-status-200", nil, []string{"error-with-200"}, machine),
		fault("token-redirect", "token-endpoint-redirects", nil, []string{"token-redirect"}, machine),
		fault("server-error", "server-error-temporary", nil, []string{"server-error"}, machine),
		fault("unavailable", "server-error-temporary", job, []string{"unavailable"}, machine),
		fault("rate-limit", "rate-limited", nil, []string{"rate-limit"}, machine),
		fault("truncated", "answer-not-json", job, []string{"truncated"}, machine),
		fault("reset", "connection-reset", nil, []string{"reset"}, machine),
	}
}
