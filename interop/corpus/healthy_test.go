package corpus

import (
	"net/url"
)

// healthyCases are runs on which nothing may fire.
func healthyCases(l *lab) []kase {
	bearer := func(a answer) string { return "Bearer " + a.member("access_token") }
	list := []kase{
		{"ok-code", "", nil, true, func(c *run) { c.tokens(c.l.public) }},
		{"ok-code-settings", "", public, true, func(c *run) { c.tokens(c.l.public) }},
		{"ok-code-discovery", "", nil, true, func(c *run) { c.discover(); c.tokens(c.l.public) }},
		{"ok-code-basic", "", basicWeb, true, func(c *run) { c.discover(); c.tokens(c.l.basic) }},
		{"ok-code-without-pkce", "", nil, true, func(c *run) {
			code := c.signIn(c.l.basic, "code_challenge", "-", "code_challenge_method", "-").Get("code")
			c.redeem(c.l.basic, code, "code_verifier", "-")
		}},
		{"ok-code-no-offline", "", nil, true, func(c *run) { c.tokens(c.l.public, "scope", "openid", "prompt", "-") }},
		{"ok-code-plain", "", nil, true, func(c *run) {
			v := random()
			code := c.signIn(c.l.basic, "code_challenge", v, "code_challenge_method", "plain").Get("code")
			c.verifier = v
			c.redeem(c.l.basic, code)
		}},
		{"ok-refresh", "", nil, true, func(c *run) { c.refresh(c.l.public, c.tokens(c.l.public).member("refresh_token")) }},
		{"ok-refresh-twice", "", public, true, func(c *run) {
			a := c.refresh(c.l.public, c.tokens(c.l.public).member("refresh_token"))
			c.refresh(c.l.public, a.member("refresh_token"))
		}},
		{"ok-refresh-narrower", "", nil, true, func(c *run) {
			c.refresh(c.l.public, c.tokens(c.l.public).member("refresh_token"), "scope", "openid")
		}},
		{"ok-machine", "", nil, true, func(c *run) { c.machine(c.l.job) }},
		{"ok-machine-settings", "", job, true, func(c *run) { c.machine(c.l.job) }},
		{"ok-machine-discovery", "", job, true, func(c *run) { c.discover(); c.machine(c.l.job) }},
		{"ok-userinfo", "", nil, true, func(c *run) { c.call("GET", c.l.me, "Authorization", bearer(c.tokens(c.l.public))) }},
		{"ok-lower-case", "", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", "bearer "+c.tokens(c.l.public).member("access_token"))
		}},
		{"ok-refused-then-sent", "", nil, true, func(c *run) {
			a := c.tokens(c.l.public)
			c.call("GET", c.l.me)
			c.call("GET", c.l.me, "Authorization", bearer(a))
		}},
		{"ok-introspection", "", nil, true, func(c *run) {
			a := c.tokens(c.l.basic)
			h, v := c.l.basic.as(url.Values{"token": {a.member("access_token")}})
			c.do("POST", c.l.intro, h, v.Encode())
		}},
		{"ok-revocation", "", nil, true, func(c *run) {
			a := c.tokens(c.l.public)
			c.do("POST", c.l.revoke, pairs(), url.Values{"token": {a.member("refresh_token")}, "client_id": {c.l.public.id}}.Encode())
		}},
		{"ok-keys", "", nil, true, func(c *run) { c.discover(); c.do("GET", c.l.jwks, nil, ""); c.tokens(c.l.public) }},
		{"ok-only-others", "", nil, true, func(c *run) { c.noise(120) }},
		{"ok-only-landing", "", nil, true, func(c *run) { c.signIn(c.l.public) }},
		{"ok-among-others", "", nil, true, func(c *run) { c.noise(150); c.tokens(c.l.public); c.noise(150) }},
		{"ok-second-attempt", "", nil, true, func(c *run) {
			c.machine(with(c.l.job, func(w *who) { w.secret = "old" }))
			c.machine(c.l.job)
		}},
		{"ok-silent-then-asked", "", public, true, func(c *run) {
			c.land(c.browse(c.authURL(c.l.public, "prompt", "none"), false))
			c.tokens(c.l.public)
		}},
		{"ok-form-post", "", nil, true, func(c *run) { c.browse(c.authURL(c.l.basic, "response_mode", "form_post"), false) }},
	}
	if l.name == "real" {
		return append(list,
			kase{"ok-resource", "", nil, true, func(c *run) { c.machine(c.l.job, "resource", "https://gauges.tides.example") }},
			kase{"ok-assertion", "", nil, true, func(c *run) { c.discover(); c.asserted(c.assertion(nil)) }},
			kase{"ok-pushed", "", basicWeb, true, func(c *run) {
				c.verifier = random()
				h, v := c.l.basic.as(url.Values{"response_type": {"code"}, "client_id": {c.l.basic.id}, "redirect_uri": {c.l.basic.redirect}, "scope": {"openid"}, "code_challenge": {s256(c.verifier)}, "code_challenge_method": {"S256"}})
				a := c.do("POST", c.l.par, h, v.Encode())
				code := c.land(c.browse(c.l.auth+"?"+url.Values{"client_id": {c.l.basic.id}, "request_uri": {a.member("request_uri")}}.Encode(), false)).Get("code")
				c.redeem(c.l.basic, code)
			}},
			kase{"ok-dpop", "", nil, true, func(c *run) {
				key := newProofKey()
				code := c.signIn(c.l.public).Get("code")
				h, v := c.l.public.as(url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {c.l.public.redirect}, "code_verifier": {c.verifier}})
				h.Set("DPoP", key.proof("POST", c.l.token, "", nil))
				t := c.do("POST", c.l.token, h, v.Encode()).member("access_token")
				c.call("GET", c.l.me, "Authorization", "DPoP "+t, "DPoP", key.proof("GET", c.l.me, t, nil))
			}},
			kase{"ok-two-headers", "", nil, true, func(c *run) { // the server takes the first
				c.call("GET", c.l.me, "Authorization", bearer(c.tokens(c.l.public)), "Authorization", "Basic ZGVzazo=")
			}},
			kase{"ok-redirect-left-out", "", nil, true, func(c *run) {
				code := c.signIn(c.l.basic).Get("code")
				c.redeem(c.l.basic, code, "redirect_uri", "-")
			}},
			kase{"ok-unknown-scope-ignored", "", nil, true, func(c *run) { c.machine(c.l.job, "scope", "gauges.writ") }},
			kase{"ok-both-places", "", nil, true, func(c *run) { c.machine(c.l.job, "client_id", c.l.job.id) }},
		)
	}
	api := l.base + "/api"
	return append(list,
		kase{"ok-password", "", nil, false, func(c *run) {
			c.do("POST", c.l.token, pairs(), url.Values{"grant_type": {"password"}, "client_id": {"kiosk"}, "username": {"keeper"}, "password": {"lamp-oil-31"}, "scope": {"gauges.read offline_access"}}.Encode())
		}},
		kase{"ok-machine-post", "", postClient, false, func(c *run) { c.machine(c.l.post) }},
		kase{"ok-api", "", nil, false, func(c *run) {
			c.call("GET", api+"/stations", "Authorization", bearer(c.tokens(c.l.public)), "Harbour-Id", "skarvik")
		}},
		kase{"ok-api-machine", "", job, false, func(c *run) {
			c.call("GET", api+"/stations", "Authorization", bearer(c.machine(c.l.job)), "Harbour-Id", "skarvik")
		}},
		kase{"ok-api-refreshed", "", nil, false, func(c *run) {
			a := c.refresh(c.l.public, c.tokens(c.l.public).member("refresh_token"))
			c.call("GET", api+"/harbours", "Authorization", bearer(a))
		}},
	)
}
