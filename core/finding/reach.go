package finding

import (
	"fmt"
	"net/url"

	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// reachRules are the causes that keep an answer from coming at all. What
// happened on the network is the proof.
var reachRules = []Rule{
	{
		ID: string(wire.NameNotResolved), Title: "The host name has no address",
		Meaning: "No name server knows this name, so no connection was tried.",
		Proof:   "The look-up of the name failed before anything was sent.",
		Remedy:  []string{"check the spelling of the host", "check whether the name is only known inside a VPN or a company network", "check the stage: another stage may have another host"},
		Judge:   failed(wire.NameNotResolved),
	},
	{
		ID: string(wire.ConnectionRefused), Title: "Nothing listens at this address",
		Meaning: "The machine is there and says that no program takes connections on this port.",
		Proof:   "The connection was refused by the operating system of the other side.",
		Remedy:  []string{"check host and port", "start the server, when it is your own", "check the stage: another stage may have another port"},
		Judge:   failed(wire.ConnectionRefused),
	},
	{
		ID: string(wire.ConnectionReset), Title: "The server closed the connection before it had answered",
		Meaning: "The request reached something that hung up: a crashing server, a proxy, or a firewall that did not like it.",
		Proof:   "The connection was closed or reset in the middle.",
		Remedy:  []string{"try again once: a restart or a load balancer may be behind it", "check whether http was used where https is due", "look into the server's or proxy's log at this time"},
		Judge:   failed(wire.ConnectionReset),
	},
	{
		ID: string(wire.TimeoutConnecting), Title: "No connection within the time allowed",
		Meaning: "Packets to this address vanish: a firewall, a missing VPN, or a machine that is down.",
		Proof:   "The connection was neither accepted nor refused in time.",
		Remedy:  []string{"check whether a VPN or a proxy is needed", "check host and port", "give it more time with --timeout 60s"},
		Judge:   failed(wire.TimeoutConnecting),
	},
	{
		ID: string(wire.TimeoutWaiting), Title: "The server took the request and did not answer in time",
		Meaning: "The connection stands and the request was sent; the server or something behind it is slow or stuck.",
		Proof:   "The time ran out after the request was sent.",
		Remedy:  []string{"try again, with more time: --timeout 60s", "ask the provider whether the endpoint is slow; whether the request took effect there is not known"},
		Judge:   failed(wire.TimeoutWaiting),
	},
	{
		ID: string(wire.TLSUnknownAuth), Title: "The server's certificate comes from an authority this machine does not trust",
		Meaning: "Either the provider uses an authority of its own, or something between here and there opens the connection (a company proxy), or it is not the server you think.",
		Proof:   "The certificate chain ends at no trusted authority.",
		Remedy:  []string{"get the authority's certificate from the provider and give it with --cacert FILE", "check the host name: a test server often has a certificate of its own"},
		Judge:   failed(wire.TLSUnknownAuth), References: []string{"RFC 6749 10.4", "RFC 5280 6"},
	},
	{
		ID: string(wire.TLSExpired), Title: "The server's certificate is not valid at this time",
		Meaning: "It has expired or is not yet valid, by this machine's clock.",
		Proof:   "The clock lies outside the certificate's validity.",
		Remedy:  []string{"check this machine's clock", "tell the provider"},
		Judge:   failed(wire.TLSExpired), References: []string{"RFC 5280 4.1.2.5"},
	},
	{
		ID: string(wire.TLSNameMismatch), Title: "The server's certificate is for another name",
		Meaning: "The host that was asked for is not among the names the certificate covers.",
		Proof:   "The names in the certificate do not include the host.",
		Remedy:  []string{"use the host name the provider documents, not an address or an alias", "check the stage's host"},
		Judge:   failed(wire.TLSNameMismatch), References: []string{"RFC 6125 6"},
	},
	{
		ID: string(wire.TLSProtocol), Title: "The two sides share no TLS version or cipher",
		Meaning: "The server speaks only versions of TLS that are no longer safe (this program needs 1.2 or later), or asks for a client certificate.",
		Proof:   "The handshake ended with an alert.",
		Remedy:  []string{"ask the provider for an endpoint with TLS 1.2 or later, or whether a client certificate is needed"},
		Judge:   failed(wire.TLSProtocol), References: []string{"RFC 8996"},
	},
	{
		ID: string(wire.TLSOnPlainPort), Title: "https was used where the server speaks plain http",
		Meaning: "The port answers, but not with TLS.",
		Proof:   "The first bytes of the answer are no TLS record.",
		Remedy:  []string{"check the port: https usually has 443 or 8443", "for a server of your own on loopback, write http://"},
		Judge:   failed(wire.TLSOnPlainPort),
	},
	{
		ID: string(wire.PlainOnTLSPort), Title: "Plain http was used where the server speaks TLS",
		Meaning: "The port answers with TLS, and the URL begins with http://.",
		Proof:   "The answer is a TLS alert, or says that https is due.",
		Remedy:  []string{"write https:// in the URL"},
		Judge:   plainOnTLS,
	},
	{
		ID: string(wire.ProxyRefused), Title: "The proxy could not be reached or refused",
		Meaning: "The environment names a proxy (HTTP_PROXY, HTTPS_PROXY), and the connection failed there.",
		Proof:   "The failure is in the connection to the proxy.",
		Remedy:  []string{"check HTTPS_PROXY and HTTP_PROXY", "put the host into NO_PROXY when it needs no proxy"},
		Judge:   failed(wire.ProxyRefused),
	},
	{
		ID: string(wire.ProxyNeedsLogin), Title: "The proxy wants a login",
		Meaning: "The proxy answered 407.",
		Proof:   "The proxy's own answer.",
		Remedy:  []string{"put user and password into HTTPS_PROXY, or ask for an exception"},
		Judge:   failed(wire.ProxyNeedsLogin), References: []string{"RFC 7235 3.2"},
	},
	{
		ID: string(wire.AnswerTooLarge), Title: "The answer is larger than this program accepts",
		Meaning: "No token answer or API page is that large; it was cut off, and what came before is kept.",
		Proof:   "More bytes came than the limit.",
		Remedy:  []string{"check whether the URL is a download rather than an API"},
		Judge:   failed(wire.AnswerTooLarge),
	},
	{
		ID: "cross-origin-refused", Title: "The browser kept the answer from the page that asked",
		Meaning:    "A page may read answers of another origin only when they allow it (Access-Control-Allow-Origin). Many token endpoints and APIs allow none, since their clients are programs. The request was sent, and may have taken effect: a code is spent.",
		Proof:      "The request carries the Origin of another site, and the record has no answer to it, as browsers write it; or the preflight request before it was not allowed.",
		Remedy:     []string{"have the provider allow the page's origin for this client", "let a server of your own make this request, and the page ask that one"},
		References: []string{"Fetch Standard 3.3", "RFC 9700 2.6"},
		Try:        Test{"tidy-courier obtain CLIENT", "outside a browser nothing is kept back: when it works here, the server is well"},
		Judge:      crossOrigin,
	},
}

// failed fires on a leg that ended in that way.
func failed(kind wire.FailureKind) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		for i := range e.Legs {
			leg := &e.Legs[i]
			if leg.Exchange == nil || leg.Exchange.Failure == nil || leg.Exchange.Failure.Kind != kind {
				continue
			}
			u, _ := url.Parse(leg.URL)
			host := leg.URL
			if u != nil {
				host = u.Host
			}
			items := []run.Item{{What: "host", Where: e.endpointPlace(leg), Value: host},
				{What: "what happened", Where: fmt.Sprintf("leg %d", leg.N), Value: leg.Exchange.Failure.Detail}}
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: items}
		}
		return nil
	}
}

// plainOnTLS also knows the answers of servers that say it in plain words.
func plainOnTLS(e *Evidence) *Match {
	if m := failed(wire.PlainOnTLSPort)(e); m != nil {
		return m
	}
	for i := range e.Legs {
		leg := &e.Legs[i]
		if leg.Status() == 400 && len(leg.URL) > 5 && leg.URL[:5] == "http:" &&
			said(string(leg.Exchange.Response.Body), "http request to an https server", "plain http request was sent to https port", "speaking plain http to an ssl") {
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "URL", Where: e.endpointPlace(leg), Value: leg.URL},
				{What: "the server said", Where: fmt.Sprintf("leg %d", leg.N), Value: firstLine(leg.Exchange.Response.Body)}}}
		}
	}
	return nil
}

// endpointPlace is where the leg's URL comes from: a setting, or the metadata.
func (e *Evidence) endpointPlace(leg *run.Leg) string {
	name := map[run.Kind]string{run.Token: "token_endpoint", run.Authorization: "authorization_endpoint", run.Userinfo: "userinfo_endpoint", run.Keys: "jwks_uri"}[leg.Kind]
	switch {
	case leg.Kind == run.Call && e.API != nil && e.API.BaseURL.Where != "":
		return e.API.BaseURL.Where
	case leg.Kind == run.Discovery && e.Client != nil && e.Client.Server != nil:
		return where(e.Client.Server.Issuer.Where)
	case name != "" && e.Client != nil && e.Client.Server != nil:
		if s, given := e.Client.Server.Endpoints[name]; given {
			return s.Where
		}
		return "the server's metadata"
	}
	return "the URL given"
}

// crossOrigin is a request of a page to another origin whose answer a browser
// did not record.
func crossOrigin(e *Evidence) *Match {
	for i := range e.Legs {
		l := &e.Legs[i]
		if l.Exchange == nil || l.Exchange.Response != nil || l.Exchange.Failure == nil || l.Exchange.Failure.Kind != wire.UnspecifiedFailure {
			continue
		}
		from := l.Exchange.Request.Header.Get("Origin")
		page, err1 := url.Parse(from)
		to, err2 := url.Parse(l.URL)
		if from == "" || err1 != nil || err2 != nil || wire.SameOrigin(page, to) {
			continue
		}
		return &Match{Leg: l.N, Certainty: run.Likely, Items: []run.Item{{What: "Origin", Where: legPlace(l), Value: from}, {What: "asked", Where: legPlace(l), Value: to.Scheme + "://" + to.Host},
			{What: "the record says", Where: legPlace(l), Value: l.Exchange.Failure.Detail}}}
	}
	return nil
}
