package corpus

import (
	"crypto/rand"
	"crypto/rsa"
	"net/url"
)

func newRSA() *rsa.PrivateKey {
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	return k
}

// callCases go wrong at the protected resource.
func callCases(l *lab) []kase {
	list := []kase{
		{"call-no-token", "no-token-sent", nil, true, func(c *run) { c.call("GET", c.l.me) }},
		{"call-unknown-token", "token-not-accepted", nil, true, func(c *run) { c.call("GET", c.l.me, "Authorization", "Bearer at-"+random()) }},
		{"call-no-prefix", "bearer-prefix-missing", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", c.tokens(c.l.public).member("access_token"))
		}},
		{"call-prefix-glued", "bearer-prefix-missing", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", "Bearer"+c.tokens(c.l.public).member("access_token"))
		}},
		{"call-prefix-doubled", "prefix-doubled", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", "Bearer Bearer "+c.tokens(c.l.public).member("access_token"))
		}},
		{"call-quoted", "token-garbled", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", `Bearer "`+c.tokens(c.l.public).member("access_token")+`"`)
		}},
		{"call-undefined", "token-garbled", nil, true, func(c *run) { c.call("GET", c.l.me, "Authorization", "Bearer undefined") }},
		{"call-truncated", "token-garbled", nil, true, func(c *run) {
			t := c.tokens(c.l.public).member("access_token")
			c.call("GET", c.l.me, "Authorization", "Bearer "+t[:len(t)-9]+",")
		}},
		{"call-other-header", "token-in-wrong-header", nil, true, func(c *run) {
			c.call("GET", c.l.me, "X-Auth-Token", c.tokens(c.l.public).member("access_token"))
		}},
		{"call-refresh-token", "refresh-token-used-as-access-token", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", "Bearer "+c.tokens(c.l.public).member("refresh_token"))
		}},
		{"call-id-token", "id-token-used-as-access-token", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", "Bearer "+c.tokens(c.l.public).member("id_token"))
		}},
		{"call-application-at-userinfo", "token-stands-for-no-user", nil, true, func(c *run) {
			c.call("GET", c.l.me, "Authorization", "Bearer "+c.machine(c.l.job).member("access_token"))
		}},
		{"call-after-revocation", "token-not-accepted", nil, true, func(c *run) {
			t := c.tokens(c.l.public).member("access_token")
			c.do("POST", c.l.revoke, pairs(), url.Values{"token": {t}, "client_id": {c.l.public.id}}.Encode())
			c.call("GET", c.l.me, "Authorization", "Bearer "+t)
		}},
	}
	if l.name == "real" {
		return append(list, kase{"call-dpop-as-bearer", "dpop-bound-token-sent-as-bearer", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			h, v := c.l.public.as(url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {c.l.public.redirect}, "code_verifier": {c.verifier}})
			h.Set("DPoP", newProofKey().proof("POST", c.l.token, "", nil))
			t := c.do("POST", c.l.token, h, v.Encode()).member("access_token")
			c.call("GET", c.l.me, "Authorization", "Bearer "+t)
		}}, kase{"call-dpop-no-proof", "dpop-proof-missing", nil, true, func(c *run) {
			code := c.signIn(c.l.public).Get("code")
			h, v := c.l.public.as(url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {c.l.public.redirect}, "code_verifier": {c.verifier}})
			h.Set("DPoP", newProofKey().proof("POST", c.l.token, "", nil))
			t := c.do("POST", c.l.token, h, v.Encode()).member("access_token")
			c.call("GET", c.l.me, "Authorization", "DPoP "+t)
		}})
	}
	api := l.base + "/api"
	person := func(c *run) string { return "Bearer " + c.tokens(c.l.public).member("access_token") }
	return append(list,
		kase{"call-two-headers", "two-authorization-headers", nil, false, func(c *run) {
			c.call("GET", c.l.me, "Authorization", "Bearer "+c.tokens(c.l.public).member("access_token"), "Authorization", "Basic ZGVzazo=")
		}},
		kase{"api-scope", "insufficient-scope", nil, false, func(c *run) {
			c.do("POST", api+"/notices", pairs("Authorization", person(c), "Content-Type", "application/json", "Harbour-Id", "skarvik", "Accept", "application/json"), `{"text":"x"}`)
		}},
		kase{"api-header", "required-header-missing", nil, false, func(c *run) { c.call("GET", api+"/stations", "Authorization", person(c)) }},
		kase{"api-xml", "xml-because-accept-missing", nil, false, func(c *run) {
			c.do("GET", api+"/stations", pairs("Authorization", person(c), "Harbour-Id", "skarvik"), "")
		}},
		kase{"api-forbidden", "forbidden-for-this-user", nil, false, func(c *run) {
			c.call("GET", api+"/stations", "Authorization", person(c), "Harbour-Id", "mirvag")
		}},
		kase{"api-not-found", "endpoint-not-found", nil, false, func(c *run) {
			c.call("GET", api+"/stations/nowhere", "Authorization", person(c), "Harbour-Id", "skarvik")
		}},
		kase{"api-method", "wrong-method", nil, false, func(c *run) {
			c.do("DELETE", api+"/stations", pairs("Authorization", person(c), "Harbour-Id", "skarvik"), "")
		}},
		kase{"api-query-token", "token-in-query-not-accepted", nil, false, func(c *run) {
			t := c.tokens(c.l.public).member("access_token")
			c.call("GET", api+"/stations?access_token="+t, "Harbour-Id", "skarvik")
		}},
		kase{"api-lower-case", "lower-case-scheme-refused", nil, false, func(c *run) {
			c.l = c.l.fork("refuse-lower-case-scheme")
			t := c.tokens(c.l.public).member("access_token")
			c.call("GET", c.l.base+"/api/stations", "Authorization", "bearer "+t, "Harbour-Id", "skarvik")
		}},
		kase{"api-cut-token", "token-garbled", nil, false, func(c *run) {
			t := c.tokens(c.l.public).member("access_token")
			c.call("GET", api+"/stations", "Authorization", "Bearer "+t[:len(t)/2], "Harbour-Id", "skarvik")
		}},
	)
}
