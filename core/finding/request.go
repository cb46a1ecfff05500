package finding

import (
	"encoding/base64"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// requestRules are causes that show in the token request as it was sent: they
// hold it against the RFC and the settings, and need not a word of the answer.
var requestRules = []Rule{
	{
		ID: "authorization-endpoint-used-as-token-endpoint", Title: "The token request went to the authorization endpoint",
		Meaning:    "The two endpoints were exchanged, or are set to the same URL. The authorization endpoint shows pages to people; it issues no tokens.",
		Proof:      "The URL of the token request is the authorization endpoint of the metadata or the settings.",
		Remedy:     []string{"set token_endpoint to the token endpoint, or remove it and let discovery find it"},
		References: []string{"RFC 6749 3"},
		Judge: refused(func(e *Evidence, _ map[string]string, leg *run.Leg) *Match {
			if e.Metadata == nil || e.Metadata.AuthorizationEndpoint == "" {
				if !authorizePath().MatchString(strings.SplitN(leg.URL, "?", 2)[0]) {
					return nil
				}
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "token request sent to", Where: e.endpointPlace(leg), Value: leg.URL}}}
			}
			if !sameEndpoint(leg.URL, e.Metadata.AuthorizationEndpoint) {
				return nil
			}
			return certain(leg, run.Item{What: "token request sent to", Where: e.endpointPlace(leg), Value: leg.URL},
				run.Item{What: "authorization_endpoint", Where: "the settings or metadata", Value: e.Metadata.AuthorizationEndpoint})
		}),
	},
	{
		ID: "other-endpoint-called", Title: "The token request went to an endpoint that is for something else",
		Meaning:    "The URL is that of introspection, revocation, userinfo, the keys or the metadata.",
		Proof:      "The URL of the token request is one of the server's other endpoints, or a well-known document.",
		Remedy:     []string{"set token_endpoint to the token endpoint, or remove it and let discovery find it"},
		References: []string{"RFC 6749 3.2", "RFC 8414 2"},
		Judge:      refused(otherEndpoint),
	},
	{
		ID: "id-and-secret-swapped", Title: "The client id and the client secret are exchanged",
		Try:     Test{"tidy-courier show CLIENT", "shows the client id, and the fingerprint of the secret"},
		Meaning: "The longer, random text is usually the secret; here it stands as the id.", Proof: "The client id looks like a secret and the secret like an id.",
		Remedy:     []string{"exchange client_id and client_secret"},
		References: []string{"RFC 6749 2.3.1"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			if sent := sentClientID(leg, f); e.Registered != "" && sent == e.Registered || e.settingsID() != "" && e.Secret == e.settingsID() && sent != e.Secret {
				return certain(leg, run.Item{What: "sent as client_id", Where: legPlace(leg), Value: mask.Text(sent)}, run.Item{What: "sent as client_secret", Where: legPlace(leg), Value: "the client id of the settings"})
			}
			if e.Foreign && e.Client == nil {
				sent := sentClientID(leg, f)
				if !e.mayBeTheClient() || e.Secret == "" || !looksRandom(sent) || looksRandom(e.Secret) || uuidPattern().MatchString(sent) || len(e.Secret) >= len(sent) || strings.ContainsAny(e.Secret, " +/=&%") {
					return nil
				}
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "client_id", Where: legPlace(leg), Value: mask.Text(sent) + ", random text"}, {What: "client secret", Where: legPlace(leg), Value: mask.Text(e.Secret) + ", looks like a name"}}}
			}
			if e.Client == nil || e.Secret == "" || !looksRandom(e.Client.ClientID.Value) || looksRandom(e.Secret) || uuidPattern().MatchString(e.Client.ClientID.Value) || len(e.Secret) >= len(e.Client.ClientID.Value) {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "client_id", Where: e.Client.ClientID.Where, Value: mask.Text(e.Client.ClientID.Value) + ", random text"}, e.secretItem()}}
		}),
	},
	{
		ID: "client-id-conflict", Title: "Header and body name different clients",
		Meaning: "The Authorization header carries one client id and the body another.", Proof: "The two values differ.",
		Remedy:     []string{"remove client_id from parameters"},
		References: []string{"RFC 6749 2.3.1"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			id, _, ok := basicPair(leg)
			if _, o := e.refusal(); o != nil && (o.Code == oauth.ErrInvalidScope || o.Code == oauth.ErrUnsupportedGrantType) {
				return nil
			}
			if !ok || f["client_id"] == "" || f["client_id"] == id {
				return nil
			}
			return certain(leg, pair("in the header", legPlace(leg), id, "in the body", legPlace(leg), f["client_id"])...)
		}),
	},
	{
		ID: "double-client-authentication", Title: "The client authenticates twice: in the header and in the body",
		Meaning: "RFC 6749 allows one method in a request; many servers refuse two.", Proof: "An Authorization header and client_secret were both sent.",
		Remedy:     []string{"remove client_secret from parameters, or set token_endpoint_auth_method: client_secret_post"},
		References: []string{"RFC 6749 2.3"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			if _, _, ok := basicPair(leg); !ok || f["client_secret"] == "" || !e.mayBeTheClient() {
				return nil
			}
			return certain(leg, run.Item{What: "Authorization", Where: legPlace(leg), Value: "Basic, sent"}, run.Item{What: "client_secret", Where: legPlace(leg), Value: "sent in the body too"})
		}),
	},
	{
		ID: "empty-secret-sent", Title: "An empty client secret was sent",
		Meaning: "A public client sends no client_secret at all; an empty one is a wrong one.", Proof: "client_secret is in the body, and empty.",
		Remedy:     []string{"remove client_secret from parameters, and set token_endpoint_auth_method: none"},
		References: []string{"RFC 6749 2.3.1"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			v, sent := f["client_secret"]
			if id, secret, ok := basicPair(leg); ok && id != "" && !sent {
				v, sent = secret, true
			}
			if !sent || v != "" || !e.mayBeTheClient() {
				return nil
			}
			return certain(leg, run.Item{What: "client_secret", Where: legPlace(leg), Value: "sent, and empty"})
		}),
	},
	{
		ID: "missing-grant-type", Title: "The token request says no grant type",
		Meaning: "grant_type is required.", Proof: "It is not in the body, or empty.",
		Remedy:     []string{"remove grant_type from parameters"},
		References: []string{"RFC 6749 4.1.3"},
		Judge: refused(func(_ *Evidence, f map[string]string, leg *run.Leg) *Match {
			if f["grant_type"] != "" || leg.Method != "POST" || len(f) == 0 || strings.Contains(leg.URL, "grant_type=") {
				return nil
			}
			return certain(leg, run.Item{What: "grant_type", Where: legPlace(leg), Value: "not sent"})
		}),
	},
	{
		ID: "username-missing", Title: "The password grant lacks the account or its password",
		Meaning: "Both username and password are required.", Proof: "One of them is not in the body, or empty.",
		Remedy:     []string{"set username and password; look at parameters for one that empties them"},
		References: []string{"RFC 6749 4.3.2"},
		Judge: refused(func(_ *Evidence, f map[string]string, leg *run.Leg) *Match {
			if f["grant_type"] != oauth.GrantPassword || f["username"] != "" && f["password"] != "" {
				return nil
			}
			return certain(leg, run.Item{What: "username", Where: legPlace(leg), Value: orNone(f["username"])}, run.Item{What: "password", Where: legPlace(leg), Value: orNone(mask.Value("password", f["password"]))})
		}),
	},
	{
		ID: "refresh-token-missing", Title: "The refresh request lacks its refresh token",
		Meaning: "grant_type says refresh_token, and the parameter of that name is not there or empty: there was none to spend, or it was lost on its way.", Proof: "The parameter is not in the body.",
		Remedy:     []string{"sign in again, and keep the refresh token that comes: tidy-courier obtain CLIENT", "look at parameters for one that empties it"},
		References: []string{"RFC 6749 6"},
		Judge: refused(func(_ *Evidence, f map[string]string, leg *run.Leg) *Match {
			if f["grant_type"] != oauth.GrantRefresh || f["refresh_token"] != "" {
				return nil
			}
			return certain(leg, run.Item{What: "refresh_token", Where: legPlace(leg), Value: "not sent"})
		}),
	},
	{
		ID: "value-in-wrong-parameter", Title: "A value stands in the parameter of another",
		Try:     Test{"tidy-courier decode -", "paste the value: it tells what it is"},
		Meaning: "A token stands where a code is due, or a code where a refresh token is due.", Proof: "The form of the value, or that this project sent or received it as something else.",
		Remedy:     []string{"look at where the value comes from; obtain CLIENT without --code begins anew"},
		References: []string{"RFC 6749 4.1.3", "RFC 6749 6"},
		Judge:      refused(wrongParameter),
	},
	{
		ID: "value-double-encoded", Title: "A value was percent-encoded twice",
		Meaning: "The value in the settings has escapes in it, and is encoded once more when it is sent: the server then sees the escapes.", Proof: "A value holds percent escapes that make sense when decoded.",
		Remedy:     []string{"write the value plainly in the settings; encoding is done when it is sent"},
		References: []string{"RFC 6749 B"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			for _, name := range []string{"redirect_uri", "scope", "audience", "resource", "client_id", "username"} {
				v := f[name]
				if plain, err := url.QueryUnescape(v); err == nil && plain != v && escapePattern().MatchString(v) {
					return certain(leg, pair("as sent", legPlace(leg), v, name+", decoded", "", plain)...)
				}
			}
			return nil
		}),
	},
	{
		ID: "pkce-method-mismatch", Title: "The verifier was compared by another method than it was made for",
		Meaning: "The challenge equals the verifier, yet S256 was named (or the reverse): the server computes something else than what was sent.", Proof: "The challenge that was sent fits the verifier by the other method.",
		Remedy:     []string{"remove code_challenge and code_challenge_method from parameters"},
		References: []string{"RFC 7636 4.3"},
		Judge: refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
			v, p := f["code_verifier"], e.Person
			if v == "" || p == nil || p.Request == nil || p.Request.CodeChallenge == "" {
				return nil
			}
			challenge, method := sentChallenge(p.Request)
			other := map[string]string{oauth.PKCES256: oauth.PKCEPlain, oauth.PKCEPlain: oauth.PKCES256}[method]
			if oauth.Challenge(method, v) == challenge || oauth.Challenge(other, v) != challenge {
				return nil
			}
			return certain(leg, run.Item{What: "code_challenge_method sent", Where: e.authPlace(), Value: method}, run.Item{What: "the challenge fits", Where: legPlace(leg), Value: other})
		}),
	},
	{
		ID: "resource-and-scope-conflict", Title: "The resource and the scope do not go together",
		Try:     Test{"tidy-courier obtain CLIENT --scope ONE", "a scope of that resource alone"},
		Meaning: "Some servers take the target from the scope, and refuse a resource or audience that names another one beside it.", Proof: "Both were sent, and the server's words speak of the resource or of both.",
		Remedy:     []string{"send only one: the scope, or the resource"},
		References: []string{"RFC 8707 2.2"},
		Judge: func(e *Evidence) *Match {
			leg, o := e.refusal()
			if o == nil {
				return nil
			}
			f := form(leg)
			target := f["resource"]
			if target == "" {
				target = f["audience"]
			}
			if target == "" || f["scope"] == "" || o.Code == "invalid_target" || !said(o.Description, "resource", "audience") || !said(o.Description, "scope") {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "resource", Where: legPlace(leg), Value: target}, {What: "scope", Where: legPlace(leg), Value: f["scope"]}, e.answerItem(leg, o)}}
		},
	},
	{
		ID: "secret-not-url-encoded", Title: "The server may not decode the secret in the header",
		Try:        Test{"tidy-courier obtain CLIENT --auth-method client_secret_post", "in the body the encoding is beyond doubt"},
		Meaning:    "Basic form-urlencodes id and secret before base64, as RFC 6749 2.3.1 says. Some servers do not decode them, and then a secret with special characters never fits.",
		Proof:      "The secret has characters that are encoded, it went into the header, and it was refused.",
		Remedy:     []string{"send the credentials in the body: token_endpoint_auth_method: client_secret_post"},
		References: []string{"RFC 6749 2.3.1", "RFC 6749 B"},
		Judge: func(e *Evidence) *Match {
			leg, o := e.refusedWith(false, oauth.ErrInvalidClient)
			if leg == nil || e.Secret == "" || e.secretAtFault() || namesUnknownClient(o) || url.QueryEscape(e.Secret) == e.Secret {
				return nil
			}
			if _, _, ok := basicPair(leg); !ok {
				return nil
			}
			it := e.secretItem()
			it.Value += ", has characters that are encoded"
			m := &Match{Leg: leg.N, Certainty: run.Possible, Items: []run.Item{it, e.answerItem(leg, o)}}
			if e.Client != nil {
				m.Try = "tidy-courier obtain " + e.Client.Name + " --auth-method client_secret_post"
			}
			return m
		},
	},
}

// refused runs a judge over token requests that gave no token, whatever came.
func refused(judge func(e *Evidence, f map[string]string, leg *run.Leg) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg, _ := e.refusal()
		if leg == nil || e.AnswerOnly || leg.Kind != run.Token {
			return nil
		}
		return judge(e, form(leg), leg)
	}
}

// Paths that endpoints have at nearly every server; they only count where no
// metadata tells the addresses.
var (
	authorizePath = lazy(`(?i)/(authori[sz]e|authori[sz]ation|auth)/?$`)
	otherPath     = lazy(`(?i)/(introspect(ion)?|revoke|revocation|user_?info|jwks(\.json)?|certs|keys|logout|end_?session|login|signin)/?$`)
)

// mayBeTheClient reports that the refusal can be about the client's credentials:
// its code is about the client or the request's form, or there is none.
func (e *Evidence) mayBeTheClient() bool {
	leg, _ := e.refusedWith(true, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrInvalidRequest)
	return leg != nil
}

func sameEndpoint(a, b string) bool {
	return strings.TrimRight(a, "/") == strings.TrimRight(b, "/")
}

func otherEndpoint(e *Evidence, _ map[string]string, leg *run.Leg) *Match {
	if strings.Contains(leg.URL, "/.well-known/") {
		return certain(leg, run.Item{What: "token request sent to", Where: e.endpointPlace(leg), Value: leg.URL})
	}
	if e.Metadata == nil {
		if !otherPath().MatchString(strings.SplitN(leg.URL, "?", 2)[0]) {
			return nil
		}
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "token request sent to", Where: e.endpointPlace(leg), Value: leg.URL}}}
	}
	for _, name := range []string{"userinfo_endpoint", "introspection_endpoint", "revocation_endpoint", "jwks_uri", "registration_endpoint", "end_session_endpoint"} {
		if v := e.Metadata.Endpoint(name); v != "" && sameEndpoint(leg.URL, v) {
			return certain(leg, run.Item{What: "token request sent to", Where: e.endpointPlace(leg), Value: leg.URL}, run.Item{What: name, Where: "the settings or metadata", Value: v})
		}
	}
	return nil
}

// basicPair is the client id and secret of a Basic header, decoded.
func basicPair(leg *run.Leg) (id, secret string, ok bool) {
	return BasicCredentials(leg.Exchange.Request.Header.Get("Authorization"))
}

// BasicCredentials takes a Basic header apart (RFC 7617, and the form encoding
// of RFC 6749 2.3.1); false when it is none or malformed.
func BasicCredentials(header string) (id, secret string, ok bool) {
	scheme, rest, _ := strings.Cut(header, " ")
	raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(rest))
	if !strings.EqualFold(scheme, "Basic") || err != nil {
		return "", "", false
	}
	a, b, found := strings.Cut(string(raw), ":")
	return unescape(a), unescape(b), found
}

// looksRandom tells generated text from a name: long, and mixed of letters of
// both cases with digits.
func looksRandom(s string) bool {
	var lower, upper, digit bool
	for _, r := range s {
		lower, upper, digit = lower || r >= 'a' && r <= 'z', upper || r >= 'A' && r <= 'Z', digit || r >= '0' && r <= '9'
	}
	return len(s) >= 24 && lower && upper && digit
}

func wrongParameter(e *Evidence, f map[string]string, leg *run.Leg) *Match {
	for _, name := range []string{"code", "refresh_token"} {
		v := f[name]
		if v == "" {
			continue
		}
		if e.IssuedAs != nil {
			if was := e.IssuedAs(v); was != "" && was != name {
				return certain(leg, run.Item{What: name, Where: legPlace(leg), Value: mask.Text(v)}, run.Item{What: "it was issued as", Where: "earlier in the record", Value: was})
			}
		}
		if t := decoded(v); t != nil && name == "refresh_token" && notARefreshToken(t) != "" {
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: name, Where: legPlace(leg), Value: mask.Text(v) + ", has the form of " + notARefreshToken(t)}}}
		}
		if t, err := token.Decode(v); err == nil && t.Form == token.JWT && name == "code" {
			what := "a signed token"
			if slices.Contains(t.ClaimOrder, "nonce") || slices.Contains(t.ClaimOrder, "at_hash") {
				what = "an id token"
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: name, Where: legPlace(leg), Value: mask.Text(v) + ", has the form of " + what}}}
		}
		other := map[string]string{"code": "refresh_token", "refresh_token": "code"}[name]
		if e.Spent != nil {
			if before := e.Spent(other, mask.Fingerprint(v)); before != nil {
				return certain(leg, run.Item{What: name, Where: legPlace(leg), Value: mask.Text(v)}, run.Item{What: "sent before as", Where: before.place(), Value: other})
			}
		}
	}
	return nil
}

// notARefreshToken says what a signed token is, when it is another than a
// refresh token by its own words.
func notARefreshToken(t *token.Token) string {
	typ, _ := t.Header["typ"].(string)
	claim, _ := t.Claims["typ"].(string)
	use, _ := t.Claims["token_use"].(string)
	switch {
	case strings.EqualFold(typ, "at+jwt"), strings.EqualFold(claim, "Bearer"), strings.EqualFold(use, "access"):
		return "an access token"
	case strings.EqualFold(claim, "ID"), strings.EqualFold(use, "id"), slices.Contains(t.ClaimOrder, "nonce"), slices.Contains(t.ClaimOrder, "at_hash"):
		return "an id token"
	}
	return ""
}

// sentChallenge is the challenge as it was sent: a parameter of the courier
// file may have replaced ours.
func sentChallenge(r *oauth.AuthorizationRequest) (challenge, method string) {
	challenge, method = r.CodeChallenge, r.CodeChallengeMethod
	for _, x := range r.Extra {
		switch x.Name {
		case "code_challenge":
			challenge = x.Value
		case "code_challenge_method":
			method = x.Value
		}
	}
	return challenge, method
}

// sentParam is one parameter of the authorization request as it was sent.
func sentParam(r *oauth.AuthorizationRequest, name string) string {
	for _, p := range r.Params() {
		if p.Name == name {
			return p.Value
		}
	}
	return ""
}
