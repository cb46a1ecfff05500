package finding

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

func (e *Evidence) secretItem() run.Item {
	it := run.Item{What: "client secret", Where: "not set", Value: shown(e.Secret)}
	if e.Client != nil && e.Client.Secret != nil {
		it.Where = e.Client.Secret.Where
		it.Value += " from " + e.Client.Secret.Source()
	}
	return it
}

func (e *Evidence) answerItem(leg *run.Leg, o *oauth.Error) run.Item {
	value := fmt.Sprint(leg.Status())
	if leg.Exchange != nil {
		if raw := rawReply(leg.Exchange.Response); raw != nil {
			value += " " + said1(raw)
		} else if o != nil && o.Code != "" {
			value += " " + o.Error()
		}
	}
	return run.Item{What: "the server said", Where: fmt.Sprintf("leg %d", leg.N), Value: value}
}

// said1 is a server's error in one line of at most 200 characters.
func said1(o *oauth.Error) string {
	text := o.Description
	if o.Code != "" {
		text = o.Error()
	}
	if r := []rune(text); len(r) > 200 {
		text = string(r[:200]) + "…"
	}
	return text
}

// soon is how far ahead the end of a secret is worth a word.
const soon = 14 * 24 * time.Hour

// aboutTheClient is a refusal whose code or words do not speak of something
// else: the ground for rules that look at the secret itself.
func (e *Evidence) aboutTheClient() (*run.Leg, *oauth.Error) {
	leg, o := e.refusedWith(true, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrAccessDenied, oauth.ErrInvalidRequest)
	if leg == nil || e.Secret == "" || o.Code == oauth.ErrInvalidRequest && !aboutCredentials(o) {
		return nil, nil
	}
	return leg, o
}

// aboutCredentials reports that a server which finds the request malformed
// speaks of the client's credentials.
func aboutCredentials(o *oauth.Error) bool {
	return said(o.Description, "client secret", "credential", "authorization header", "client authentication", "basic auth")
}

// credentials is what the token request carried for the client.
func credentials(leg *run.Leg) (basic, post bool) {
	f := form(leg)
	_, post = f["client_secret"]
	return leg.Exchange.Request.Header.Get("Authorization") != "", post
}

func secretMissing(e *Evidence) *Match {
	leg, o := e.refusedWith(true, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrInvalidRequest)
	if leg == nil || e.AnswerOnly {
		return nil
	}
	f := form(leg)
	if basic, post := credentials(leg); basic || post || f["client_assertion"] != "" || f["client_assertion_type"] != "" || f["grant_type"] == "" {
		return nil
	}
	if o.Code != oauth.ErrInvalidClient && !said(o.Description, "secret", "client authentication", "authenticat") && !(o.Code == "" && leg.Status() == 401 && f["grant_type"] != oauth.GrantPassword) {
		return nil
	}
	if namesUnknownClient(o) {
		return nil
	}
	c := run.Likely
	if o.Code == oauth.ErrInvalidClient && said(o.Description, "secret", "credential", "no client authentication", "authentication is required", "authentication required", "must authenticate", "missing client authentication") {
		c = run.Certain
	}
	if e.HeadersLeftOut && c == run.Likely {
		c = run.Possible
	}
	items := []run.Item{{What: "client credentials sent", Where: fmt.Sprintf("leg %d", leg.N), Value: "client_id alone"}, e.answerItem(leg, o)}
	if e.Client != nil && e.Client.AuthMethod.Value == oauth.NoAuth {
		items = append([]run.Item{{What: "token_endpoint_auth_method", Where: e.Client.AuthMethod.Where, Value: oauth.NoAuth}}, items...)
	}
	return &Match{Leg: leg.N, Certainty: c, Items: items}
}

var unknownWords = []string{"client id is invalid", "invalid client id", "client_id is not valid", "client_id is invalid", "invalid value for client_id", "doesnt exist", "could not be found", "couldnt be found", "unable to retrieve", "unable to find", "could not retrieve", "could not find", "failed to find", "failed to retrieve", "unregistered", "unknown client", "client unknown", "not found", "no such client", "does not exist", "not registered", "unrecognized client", "unrecognised client", "client is unknown", "cannot find"}

// namesUnknownClient reports whether the server's words say that the client
// itself is not known, rather than what it asks for.
func namesUnknownClient(o *oauth.Error) bool {
	if o.Code == oauth.ErrInvalidClient && curt(o) && said(o.Description, "not found", "unknown", "does not exist", "no such") {
		return true
	}
	return said(o.Description, unknownWords...) && said(o.Description, "client", "application") && !said(o.Description, "grant type", "redirect", "scope", "for this", "for that", "secret", "signing key", "kid", "jwk", "signature", "public key")
}

// secretAtFault reports that a rule about the secret itself already proves the cause.
func (e *Evidence) secretAtFault() bool {
	return edgeWhitespace(e) != nil || quoted(e) != nil || secretExpired(e) != nil || secretIsID(e) != nil || wrongPlace(e) != nil
}

func unknownClient(e *Evidence) *Match {
	leg, o := e.refusedWith(true, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrInvalidRequest)
	if leg == nil || e.secretAtFault() {
		return nil
	}
	f := form(leg)
	sent := sentClientID(leg, f)
	if set := e.settingsID(); set != "" && sent != "" && sent != set && o.Code != oauth.ErrInvalidRequest {
		return certain(leg, append(pair("in the settings", e.Client.ClientID.Where, set, "as sent", legPlace(leg), sent), e.answerItem(leg, o))...)
	}
	if e.Person != nil && sent != "" && e.Person.Code() != "" && e.Person.Request.ClientID == sent || f["client_assertion"] != "" && o.Code == "" {
		return nil // the server has just given this client a code
	}
	named := namesUnknownClient(o)
	silent := o.Code == "" && leg.Status() == 401 && !said(o.Description, "user", "password")
	if !named && o.Code != oauth.ErrInvalidClient && !silent && !(o.Code == oauth.ErrUnauthorizedClient && secretWords(o)) || said(o.Description, "secret") && !named {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Possible, Items: []run.Item{e.clientIDItem(leg), e.answerItem(leg, o)}}
	if named {
		m.Certainty = run.Likely
	}
	return m
}

func (e *Evidence) clientIDItem(leg *run.Leg) run.Item {
	it := run.Item{What: "client_id", Where: fmt.Sprintf("leg %d", leg.N), Value: form(leg)["client_id"]}
	if e.Client != nil && e.Client.ClientID.Value != "" {
		it = run.Item{What: "client_id", Where: e.Client.ClientID.Where, Value: e.Client.ClientID.Value}
	}
	return it
}

// settingsID is the client id of the settings, when the request was recorded
// elsewhere and may carry another.
func (e *Evidence) settingsID() string {
	if !e.Foreign || e.Client == nil {
		return ""
	}
	return e.Client.ClientID.Value
}

func secretWords(o *oauth.Error) bool {
	return said(strings.ReplaceAll(o.Description, oauth.GrantClientCredentials, ""), "secret", "credential", "password mismatch")
}

func wrongSecret(e *Evidence) *Match {
	leg, o := e.refusedWith(true, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrAccessDenied)
	if leg == nil || e.secretAtFault() || e.AnswerOnly && o.Code != oauth.ErrInvalidClient {
		return nil
	}
	if o.Code == oauth.ErrAccessDenied && (leg.Status() != 401 || said(o.Description, "scope", "audience", "resource", "user", "consent", "policy", "grant")) {
		return nil
	}
	basic, post := credentials(leg)
	if !basic && !post && !e.AnswerOnly && !e.HeadersLeftOut || namesUnknownClient(o) {
		return nil
	}
	if e.Foreign && e.Registered != "" && e.Secret != "" && e.Registered != e.Secret && e.settingsID() == sentClientID(leg, form(leg)) {
		return certain(leg, append(pair("in the settings", e.Client.Secret.Where, mask.Text(e.Registered), "as sent", legPlace(leg), mask.Text(e.Secret)), e.answerItem(leg, o))...)
	}
	if o.Code == "" {
		g := form(leg)["grant_type"]
		if leg.Status() != 401 && g != oauth.GrantClientCredentials || said(o.Description, "user", "password") {
			return nil
		}
		m := &Match{Leg: leg.N, Certainty: run.Possible, Items: []run.Item{e.secretItem(), e.clientIDItem(leg), e.answerItem(leg, o)}}
		if leg.Status() == 401 && g != oauth.GrantPassword {
			m.Certainty = run.Likely
		}
		return m
	}
	if o.Code == oauth.ErrUnauthorizedClient && !secretWords(o) {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.secretItem(), e.clientIDItem(leg), e.answerItem(leg, o)}}
	if e.Client != nil && e.Client.Name != "" && e.Client.Secret != nil {
		m.Remedy = []string{"compare the fingerprint above with that of the secret you were given: printf %s \"$SECRET\" | sha256sum, first 8 digits",
			"make a new secret at the provider, and put it into " + e.Client.Secret.Source()}
	}
	return m
}

func wrongPlace(e *Evidence) *Match {
	leg, o := e.refusedWith(false, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrInvalidRequest)
	if leg == nil {
		return nil
	}
	basic, post := credentials(leg)
	if basic == post || e.AnswerOnly || o.Code == oauth.ErrInvalidRequest && basicMalformed(e, nil, leg) != nil {
		return nil
	}
	used, other := oauth.ClientSecretBasic, oauth.ClientSecretPost
	if post {
		used, other = other, used
	}
	items := []run.Item{{What: "credentials sent as", Where: fmt.Sprintf("leg %d", leg.N), Value: used}}
	if e.Client != nil && e.Client.AuthMethod.Where != "" {
		items[0].Where = e.Client.AuthMethod.Where
	}
	remedy := []string{"set token_endpoint_auth_method: " + other}
	if e.Metadata != nil && len(e.Metadata.TokenEndpointAuthMethods) > 0 && !oauth.Offers(e.Metadata.TokenEndpointAuthMethods, used) &&
		oauth.Offers(e.Metadata.TokenEndpointAuthMethods, other) {
		items = append(items, run.Item{What: "the metadata offers", Where: "token_endpoint_auth_methods_supported", Value: strings.Join(e.Metadata.TokenEndpointAuthMethods, " ")})
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: append(items, e.answerItem(leg, o)), Remedy: remedy}
	}
	if set := e.settingsID(); set != "" && e.Client.AuthMethod.Value == other && sentClientID(leg, form(leg)) == set && (e.Registered == "" || e.Registered == e.Secret) {
		return certain(leg, append(pair("in the settings", e.Client.AuthMethod.Where, other, "as sent", legPlace(leg), used), e.answerItem(leg, o))...)
	}
	wantsBody := said(o.Description, "client_secret_post", "request body", "in the body", "form parameter")
	wantsHeader := said(o.Description, "client_secret_basic", "authorization header", "http basic", "basic auth")
	if basic && wantsBody || post && wantsHeader {
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: append(items, e.answerItem(leg, o)), Remedy: remedy}
	}
	return nil
}

func grantNotAllowed(e *Evidence) *Match {
	leg, o := e.refusedWith(false, oauth.ErrUnauthorizedClient, oauth.ErrInvalidRequest, oauth.ErrInvalidClient)
	if leg == nil || secretWords(o) || namesUnknownClient(o) {
		return nil
	}
	// other codes than the RFC's own count only with words about the grant
	if o.Code != oauth.ErrUnauthorizedClient && !(said(o.Description, "grant") && said(o.Description, "not allowed", "not permitted", "not authorized", "not registered", "not enabled", "unauthorized")) {
		return nil
	}
	c := run.Likely // some servers give this code for a wrong secret too
	if said(o.Description, "grant") {
		c = run.Certain
	}
	it := run.Item{What: "grant_type", Where: fmt.Sprintf("leg %d", leg.N), Value: form(leg)["grant_type"]}
	if e.Client != nil && e.Client.Grant.Where != "" {
		it.Where = e.Client.Grant.Where
	}
	return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{it, e.answerItem(leg, o)}}
}

func unsupportedGrant(e *Evidence) *Match {
	leg, o := e.refusedWith(true, oauth.ErrUnsupportedGrantType, oauth.ErrInvalidRequest, oauth.ErrInvalidGrant, oauth.ErrUnauthorizedClient)
	if leg == nil {
		return nil
	}
	if o.Code != oauth.ErrUnsupportedGrantType {
		g := form(leg)["grant_type"]
		words := said(o.Description, "grant type", "granttype") && said(o.Description, "unsupported", "not supported", "unknown", "unrecognized", "invalid")
		if g == "" || !words && slices.Contains(knownGrants, g) || words && o.Code == oauth.ErrUnauthorizedClient {
			return nil
		}
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "grant_type", Where: legPlace(leg), Value: g}, e.answerItem(leg, o)}}
	}
	m := &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "grant_type", Where: fmt.Sprintf("leg %d", leg.N), Value: form(leg)["grant_type"]}, e.answerItem(leg, o)}}
	if e.Metadata != nil && len(e.Metadata.GrantTypesSupported) > 0 {
		m.Items = append(m.Items, run.Item{What: "the metadata offers", Where: "grant_types_supported", Value: strings.Join(e.Metadata.GrantTypesSupported, " ")})
	}
	return m
}

// knownGrants are the grant types that have a standard behind them (RFC 6749,
// 7522, 7523, 8628, 8693, OpenID CIBA).
var knownGrants = []string{oauth.GrantCode, oauth.GrantClientCredentials, oauth.GrantPassword, oauth.GrantRefresh, grantJWTBearer,
	"urn:ietf:params:oauth:grant-type:saml2-bearer", "urn:ietf:params:oauth:grant-type:device_code", "urn:ietf:params:oauth:grant-type:token-exchange", "urn:openid:params:grant-type:ciba"}

func invalidScope(e *Evidence) *Match {
	leg, o := e.refusedWith(false, oauth.ErrInvalidScope, oauth.ErrInvalidRequest, oauth.ErrAccessDenied, oauth.ErrUnauthorizedClient)
	if leg == nil || form(leg)["grant_type"] == oauth.GrantRefresh {
		return nil
	}
	if o.Code != oauth.ErrInvalidScope {
		if form(leg)["scope"] == "" || !said(o.Description, "scope") || said(o.Description, "audience", "resource") {
			return nil
		}
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: e.scopeItems(leg, e.answerItem(leg, o))}
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Items: e.scopeItems(leg, e.answerItem(leg, o))}
}

// scopeAtAuthorization is the same refusal, through the browser.
var scopeAtAuthorization = refusedScope(func(e *Evidence, leg *run.Leg) *Match {
	if slices.ContainsFunc(e.AskedScope, func(s string) bool { return strings.ContainsAny(s, ",+;") }) {
		return nil
	}
	return certain(leg, e.scopeItems(leg, answerOf(e, leg))...)
})

// scopeItems pairs the asked scope with what the metadata offers.
func (e *Evidence) scopeItems(leg *run.Leg, answer run.Item) []run.Item {
	it := run.Item{What: "scope asked", Where: fmt.Sprintf("leg %d", leg.N), Value: strings.Join(e.AskedScope, " ")}
	if e.Client != nil && e.Client.Scope.Where != "" {
		it.Where = e.Client.Scope.Where
	}
	items := []run.Item{it, answer}
	if e.Metadata != nil && len(e.Metadata.ScopesSupported) > 0 {
		if unknown, _ := oauth.ScopeDifference(e.AskedScope, e.Metadata.ScopesSupported); len(unknown) > 0 {
			items = append(items, run.Item{What: "not in scopes_supported", Where: "metadata", Value: strings.Join(unknown, " ")})
		}
	}
	return items
}
