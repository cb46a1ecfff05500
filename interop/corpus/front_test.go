package corpus

import (
	"net/url"
	"strings"
)

// showPages goes on with a server that asks the person.
func (c *run) showPages() {
	if c.l.pages != nil {
		c.l = c.l.pages()
	}
}

// frontCases go wrong at the authorization endpoint, or on the way back.
func frontCases(l *lab) []kase {
	browse := func(w func(l *lab) who, edits ...string) func(c *run) {
		return func(c *run) { c.land(c.browse(c.authURL(w(c.l), edits...), false)) }
	}
	list := []kase{
		{"auth-unknown-client", "unknown-client", nil, true, browse(public, "client_id", "pilot-desc")},
		{"auth-unknown-client-settings", "unknown-client", public, true, browse(public, "client_id", "pilot-desc")},
		{"auth-redirect-mismatch", "redirect-uri-mismatch", nil, true, browse(basicWeb, "redirect_uri", "http://127.0.0.1:9999/elsewhere")},
		{"auth-redirect-localhost", "redirect-uri-mismatch", basicWeb, true, func(c *run) {
			c.browse(c.authURL(c.l.basic, "redirect_uri", strings.Replace(c.l.basic.redirect, "127.0.0.1", "localhost", 1)), false)
		}},
		{"auth-redirect-case", "redirect-uri-mismatch", basicWeb, true, func(c *run) {
			c.browse(c.authURL(c.l.basic, "redirect_uri", strings.Replace(c.l.basic.redirect, "callback", "Callback", 1)), false)
		}},
		{"auth-redirect-encoded-twice", "redirect-uri-double-encoded", nil, true, func(c *run) {
			c.browse(c.authURL(c.l.basic, "redirect_uri", url.QueryEscape(c.l.basic.redirect)), false)
		}},
		{"auth-no-response-type", "response-type-missing", nil, true, browse(public, "response_type", "-")},
		{"auth-response-type", "unsupported-response-type", nil, true, browse(basicWeb, "response_type", "code token")},
		{"auth-no-client-id", "client-id-missing", nil, true, browse(public, "client_id", "-")},
		{"auth-no-pkce", "pkce-required", nil, true, browse(public, "code_challenge", "-", "code_challenge_method", "-")},
		{"auth-challenge-short", "pkce-challenge-malformed", nil, true, browse(public, "code_challenge", "tooshort")},
		{"auth-method", "pkce-method-unsupported", nil, true, browse(public, "code_challenge_method", "S512")},
		{"auth-prompt-none", "login-required", nil, true, func(c *run) {
			c.showPages()
			c.land(c.browse(c.authURL(c.l.public, "prompt", "none"), false))
		}},
		{"auth-prompt-mixed", "wrong-prompt-combination", nil, true, browse(public, "prompt", "none login")},
		{"auth-fetched", "html-instead-of-redirect", nil, true, func(c *run) {
			c.showPages()
			c.do("GET", c.authURL(c.l.public), pairs("Accept", "application/json"), "")
		}},
		{"auth-at-token", "token-endpoint-used-as-authorization-endpoint", nil, true, func(c *run) {
			c.discover()
			_, query, _ := strings.Cut(c.authURL(c.l.public), "?")
			c.do("GET", c.l.token+"?"+query, browserHeader, "")
		}},
		{"auth-duplicate", "duplicate-parameter", nil, true, func(c *run) {
			c.land(c.browse(c.authURL(c.l.public)+"&scope=openid", false))
		}},
		{"state-changed", "state-mismatch", nil, true, func(c *run) {
			to := c.browse(c.authURL(c.l.public), false)
			u, _ := url.Parse(to)
			v := u.Query()
			v.Set("state", "another-tab")
			u.RawQuery = v.Encode()
			c.land(u.String())
		}},
	}
	if l.name == "real" {
		return append(list,
			kase{"auth-denied", "consent-denied", nil, true, func(c *run) { c.land(c.browse(c.authURL(c.l.public), true)) }},
			kase{"auth-denied-settings", "consent-denied", public, true, func(c *run) { c.land(c.browse(c.authURL(c.l.public), true)) }},
			kase{"auth-response-type-client", "unsupported-response-type", nil, true, browse(basicWeb, "response_type", "code id_token", "nonce", "-")},
			kase{"auth-resource", "resource-or-audience-unknown", nil, true, browse(public, "resource", "https://other.example/api")},
			kase{"auth-request-uri-used", "request-uri-unknown-or-used", nil, true, func(c *run) {
				h, v := c.l.basic.as(url.Values{"response_type": {"code"}, "client_id": {c.l.basic.id}, "redirect_uri": {c.l.basic.redirect}, "scope": {"openid"}, "code_challenge": {s256(random())}, "code_challenge_method": {"S256"}})
				a := c.do("POST", c.l.par, h, v.Encode())
				at := c.l.auth + "?" + url.Values{"client_id": {c.l.basic.id}, "request_uri": {a.member("request_uri")}}.Encode()
				c.land(c.browse(at, false))
				c.browse(at, false)
			}},
			kase{"auth-request-uri-unknown", "request-uri-unknown-or-used", basicWeb, true, func(c *run) {
				c.browse(c.l.auth+"?"+url.Values{"client_id": {c.l.basic.id}, "request_uri": {"urn:ietf:params:oauth:request_uri:gone"}}.Encode(), false)
			}},
			kase{"par-wrong-secret", "wrong-secret", basicWeb, true, func(c *run) {
				h, v := with(c.l.basic, func(w *who) { w.secret = "no" }).as(url.Values{"response_type": {"code"}, "redirect_uri": {c.l.basic.redirect}, "scope": {"openid"}})
				c.do("POST", c.l.par, h, v.Encode())
			}},
		)
	}
	return append(list,
		kase{"auth-invalid-scope", "invalid-scope-asked", nil, false, browse(public, "scope", "openid gauges.reed")},
		kase{"auth-scope-commas", "scope-wrongly-separated", nil, false, browse(public, "scope", "openid,gauges.read")},
		kase{"state-dropped", "state-missing", nil, false, func(c *run) {
			c.l = c.l.fork("state-dropped")
			c.land(c.browse(c.authURL(c.l.public), false))
		}},
		kase{"iss-mismatch", "iss-mismatch", nil, false, func(c *run) {
			c.l = c.l.fork("iss-mismatch")
			c.discover()
			c.land(c.browse(c.authURL(c.l.public), false))
		}},
	)
}
