package finding

import (
	"encoding/base64"
	"mime"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// sentRules are causes in how the token request was put on the wire: its
// method, type, encoding and header. They need not a word of the answer.
var sentRules = []Rule{
	{
		ID: "wrong-content-type", Title: "The token request is not sent as a form",
		Meaning:    "The token endpoint reads application/x-www-form-urlencoded. A JSON body, or another type in the header, leaves it without any parameter.",
		Proof:      "Content-Type and the first bytes of the body as they were sent.",
		Remedy:     []string{"send the parameters as a form: Content-Type: application/x-www-form-urlencoded, name=value&name=value"},
		References: []string{"RFC 6749 4.1.3", "RFC 6749 B"},
		Judge:      refused(wrongType),
	},
	{
		ID: "parameters-in-query-not-body", Title: "The parameters stand in the address, not in the body",
		Meaning:    "The token endpoint takes its parameters from the body. In the address they are not read, and end up in logs.",
		Proof:      "grant_type or the credential is in the query, and not in the body.",
		Remedy:     []string{"move the parameters into the body, as a form"},
		References: []string{"RFC 6749 2.3.1", "RFC 6749 3.2"},
		Judge: refused(func(_ *Evidence, f map[string]string, leg *run.Leg) *Match {
			if leg.Method == "GET" {
				return nil
			}
			u, err := url.Parse(leg.URL)
			if err != nil {
				return nil
			}
			var names []string
			for _, n := range []string{"grant_type", "code", "refresh_token", "client_secret", "username", "client_id", "scope", "redirect_uri"} {
				if u.Query().Has(n) && f[n] == "" {
					names = append(names, n)
				}
			}
			if !u.Query().Has("grant_type") || f["grant_type"] != "" {
				return nil
			}
			return certain(leg, run.Item{What: "in the address", Where: legPlace(leg), Value: strings.Join(names, ", ")}, run.Item{What: "in the body", Where: legPlace(leg), Value: bodyOrNone(leg)})
		}),
	},
	{
		ID: "request-body-empty", Title: "The token request has no body",
		Meaning:    "Nothing was sent but the header. A body that was read or closed before it was sent, or a library that drops it on a redirect, is the usual reason.",
		Proof:      "The body has no byte, and the address no parameter.",
		Remedy:     []string{"send the parameters in the body: grant_type and those of the grant"},
		References: []string{"RFC 6749 3.2"},
		Judge: refused(func(_ *Evidence, f map[string]string, leg *run.Leg) *Match {
			if leg.Method == "GET" || len(strings.TrimSpace(string(leg.Exchange.Request.Body))) > 0 || strings.Contains(leg.URL, "grant_type=") {
				return nil
			}
			return certain(leg, run.Item{What: "the body", Where: legPlace(leg), Value: "empty"})
		}),
	},
	{
		ID: "basic-credentials-malformed", Title: "The Authorization header is not well-formed Basic",
		Meaning:    "Basic is the base64 of id, colon, secret. Here it is not base64, has no colon, or another scheme stands before it.",
		Proof:      "The header as it was sent.",
		Remedy:     []string{"make it from id, colon and secret, both form-urlencoded: Basic base64(id:secret)"},
		References: []string{"RFC 7617 2", "RFC 6749 2.3.1"},
		Judge:      refused(basicMalformed),
	},
	{
		ID: "value-not-form-encoded", Title: "A value was put into the form without encoding it",
		Meaning:    "In a form + is a space, & begins the next parameter and % begins an escape. A secret or code with one of them arrives as another.",
		Proof:      "The raw bytes of the body.",
		Remedy:     []string{"percent-encode every value of the form: + as %2B, & as %26, % as %25, / as %2F"},
		References: []string{"RFC 6749 B"},
		Judge:      refused(notEncoded),
	},
	{
		ID: "duplicate-parameter", Title: "A parameter was sent twice",
		Meaning: "Parameters must not repeat; servers refuse the request, or take one of the two.", Proof: "The name stands twice in the request as it was sent.",
		Remedy:     []string{"send it once; look for a default that is added to what the settings say"},
		References: []string{"RFC 6749 3.1", "RFC 6749 3.2"},
		Judge:      either(refused(repeated), repeatedAtAuthorization),
	},
	{
		ID: "client-id-missing", Title: "The request names no client",
		Meaning: "Neither the header nor the body has a client id.", Proof: "client_id is not in the body, and there is no Authorization header.",
		Remedy:     []string{"set client_id: on the client"},
		References: []string{"RFC 6749 2.3.1", "RFC 6749 3.2.1"},
		Judge:      either(refused(noClientID), noClientIDAtAuthorization),
	},
	{
		ID: "public-client-with-secret", Title: "A public client sends a secret",
		Try:     Test{"tidy-courier obtain CLIENT --auth-method none", "when it works, the client is registered as public"},
		Meaning: "A client registered without a secret must send none; a server that has none to compare with refuses it.", Proof: "A secret was sent, and the server's words or the settings say that the client is public.",
		Remedy:     []string{"set token_endpoint_auth_method: none, and remove client_secret"},
		References: []string{"RFC 6749 2.1"},
		Judge: func(e *Evidence) *Match {
			leg, o := e.refusedWith(true, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrInvalidRequest)
			if leg == nil || e.AnswerOnly {
				return nil
			}
			basic, post := credentials(leg)
			if !basic && !post || form(leg)["client_secret"] == "" && !basic {
				return nil
			}
			public := e.Client != nil && e.Foreign && (e.Client.AuthMethod.Value == oauth.NoAuth || e.Client.AuthMethod.Value == "" && e.Client.Secret == nil && e.Client.ClientID.Value != "")
			words := said(o.Description, "public client", "client is public", "must not be sent", "must not be used", "no secret", "should not include", "cant be presented", "not allowed to present", "does not have a secret")
			if !public && !words {
				return nil
			}
			m := &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "client secret", Where: legPlace(leg), Value: "sent"}, e.answerItem(leg, o)}}
			if public {
				m.Certainty = run.Certain
				m.Items = append([]run.Item{{What: "the settings", Where: where(e.Client.Where), Value: "a client without secret"}}, m.Items...)
			}
			return m
		},
	},
}

func bodyOrNone(leg *run.Leg) string {
	var names []string
	for n := range form(leg) {
		names = append(names, n)
	}
	slices.Sort(names)
	return orNone(strings.Join(names, ", "))
}

func wrongType(_ *Evidence, f map[string]string, leg *run.Leg) *Match {
	body := strings.TrimSpace(string(leg.Exchange.Request.Body))
	if body == "" || leg.Method == "GET" {
		return nil
	}
	header := leg.Exchange.Request.Header.Get("Content-Type")
	mt, _, err := mime.ParseMediaType(header)
	if err != nil {
		mt = strings.ToLower(strings.TrimSpace(header))
	}
	shape := ""
	switch {
	case body[0] == '{' || body[0] == '[':
		shape = "JSON"
	case strings.HasPrefix(body, "--") && strings.Contains(body, "form-data"):
		shape = "multipart"
	case body[0] == '<':
		shape = "XML"
	}
	if shape == "" && mt == "application/x-www-form-urlencoded" {
		return nil
	}
	if shape == "" && header == "" && len(leg.Exchange.Request.Header) == 0 {
		return nil // a record without headers
	}
	if shape == "" {
		shape = "a form"
	}
	if header == "" {
		header = "not sent"
	}
	return certain(leg, run.Item{What: "Content-Type", Where: legPlace(leg), Value: header}, run.Item{What: "the body is", Where: legPlace(leg), Value: shape})
}

// basicMalformed holds the Authorization header of a token request against RFC
// 7617: what stands in it, when it is not id, colon, secret.
func basicMalformed(_ *Evidence, _ map[string]string, leg *run.Leg) *Match {
	list := leg.Exchange.Request.Header.Values("Authorization")
	if len(list) == 0 {
		return nil
	}
	scheme, rest, found := strings.Cut(list[0], " ")
	what := ""
	switch {
	case !found && decodes(scheme):
		what = "the word Basic is missing"
	case !found:
		what = "a scheme without credentials"
	case strings.EqualFold(scheme, "Bearer") && decodes(rest):
		what = "the scheme is Bearer, and what follows is the base64 of id and secret"
	case strings.EqualFold(scheme, "Bearer"):
		what = "the scheme is Bearer; the token endpoint wants the client's own credentials"
	case !strings.EqualFold(scheme, "Basic"):
		return nil
	case decodes(strings.TrimSpace(rest)):
		return nil
	case strings.Contains(rest, ":"):
		what = "id and secret stand there plainly, not in base64"
	default:
		what = "what follows Basic is not base64"
		for _, enc := range []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding, base64.RawURLEncoding} {
			if raw, err := enc.DecodeString(strings.TrimSpace(rest)); err == nil {
				what = "there is no colon between id and secret"
				if strings.Contains(string(raw), ":") {
					what = "it is base64 of another alphabet, or without its padding"
				}
			}
		}
	}
	return certain(leg, run.Item{What: "Authorization", Where: legPlace(leg), Value: mask.Header("Authorization", list[0], "")}, run.Item{What: "what is wrong", Where: legPlace(leg), Value: what})
}

// decodes reports whether a text is the standard base64 of something with a colon.
func decodes(s string) bool {
	raw, err := base64.StdEncoding.DecodeString(s)
	return err == nil && strings.Contains(string(raw), ":")
}

// credentialNames are the form parameters whose value can hold anything.
var credentialNames = []string{"client_secret", "code", "refresh_token", "password", "client_assertion", "assertion", "code_verifier", "redirect_uri"}

// notEncoded looks at the raw bytes of the form for characters that are never
// there when values are encoded.
func notEncoded(e *Evidence, _ map[string]string, leg *run.Leg) *Match {
	body := string(leg.Exchange.Request.Body)
	if head := strings.TrimSpace(body); head == "" || head[0] == '{' || head[0] == '<' || strings.HasPrefix(head, "--") {
		return nil
	}
	var orphan []string
	for i, part := range strings.Split(body, "&") {
		name, value, found := strings.Cut(part, "=")
		if i > 0 && !found && part != "" {
			orphan = append(orphan, "a piece without a name stands behind &")
		}
		if !slices.Contains(credentialNames, name) {
			continue
		}
		if e.Registered != "" && name == "client_secret" && unescape(value) != e.Registered && value == e.Registered {
			return rawMatch(leg, name, "the secret of the settings stands there as it is, and reads differently once decoded")
		}
		switch {
		case badEscape(value):
			return rawMatch(leg, name, "has a % that begins no escape")
		case name == "redirect_uri" || name == "code_verifier":
		case strings.Contains(value, " "):
			return rawMatch(leg, name, "has a plain space")
		case strings.Contains(value, "+") && (name == "code" || name == "refresh_token" || strings.HasSuffix(name, "assertion") || e.Registered == value && name == "client_secret"):
			return rawMatch(leg, name, "has a plain +, which is read as a space")
		}
	}
	if len(orphan) > 0 {
		return rawMatch(leg, "the form", orphan[0])
	}
	if strings.HasPrefix(leg.Exchange.Request.Header.Get("Authorization"), "Basic ") {
		return basicNotEncoded(e, leg)
	}
	return nil
}

// basicNotEncoded is a secret that went into the header as it is, though it has
// characters that the form encoding changes.
func basicNotEncoded(e *Evidence, leg *run.Leg) *Match {
	raw, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(leg.Exchange.Request.Header.Get("Authorization"), "Basic "))
	if err != nil {
		return nil
	}
	_, secret, _ := strings.Cut(string(raw), ":")
	if !e.Foreign || !badEscape(secret) && (unescape(secret) == secret || url.QueryEscape(unescape(secret)) == secret) {
		return nil
	}
	if !badEscape(secret) && !strings.Contains(secret, "+") && url.QueryEscape(secret) == secret {
		return nil
	}
	if _, o := e.refusedWith(true, oauth.ErrInvalidClient, oauth.ErrUnauthorizedClient, oauth.ErrInvalidRequest); o == nil || o.Code == oauth.ErrInvalidRequest && !aboutCredentials(o) {
		return nil
	}
	m := rawMatch(leg, "the secret in the header", "stands there as it is, and reads differently once decoded")
	if !badEscape(secret) {
		m.Certainty = run.Likely
	}
	return m
}

func rawMatch(leg *run.Leg, name, what string) *Match {
	return certain(leg, run.Item{What: name, Where: legPlace(leg), Value: what})
}

func badEscape(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] == '%' && (i+2 >= len(s) || !hex(s[i+1]) || !hex(s[i+2])) {
			return true
		}
	}
	return false
}

func hex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

func repeated(_ *Evidence, _ map[string]string, leg *run.Leg) *Match {
	body := string(leg.Exchange.Request.Body)
	if strings.HasPrefix(strings.TrimSpace(body), "{") {
		return nil
	}
	if name, values := doubled(body); name != "" {
		return certain(leg, doubledItems(leg, name, values)...)
	}
	return nil
}

func repeatedAtAuthorization(e *Evidence) *Match {
	leg := e.failedAuthorization()
	if leg == nil {
		return nil
	}
	_, query, _ := strings.Cut(leg.URL, "?")
	if name, values := doubled(query); name != "" {
		return certain(leg, doubledItems(leg, name, values)...)
	}
	return nil
}

func doubledItems(leg *run.Leg, name string, values []string) []run.Item {
	items := []run.Item{}
	for _, v := range values {
		items = append(items, run.Item{What: name, Where: legPlace(leg), Value: mask.Value(name, v)})
	}
	return items
}

// doubled finds the first parameter that stands twice, resource and audience
// aside, which may (RFC 8707 2).
func doubled(text string) (string, []string) {
	met := map[string][]string{}
	for _, part := range strings.Split(text, "&") {
		name, value, found := strings.Cut(part, "=")
		if !found || name == "resource" || name == "audience" {
			continue
		}
		if met[name] = append(met[name], unescape(value)); len(met[name]) > 1 {
			return name, met[name]
		}
	}
	return "", nil
}

func noClientID(e *Evidence, f map[string]string, leg *run.Leg) *Match {
	if e.HeadersLeftOut || f["grant_type"] == "" || f["client_id"] != "" || f["client_assertion"] != "" || leg.Exchange.Request.Header.Get("Authorization") != "" || strings.Contains(leg.URL, "client_id=") {
		return nil
	}
	if g := f["grant_type"]; strings.Contains(g, "jwt-bearer") || strings.Contains(g, "saml2") {
		return nil // the assertion names it
	}
	return certain(leg, run.Item{What: "client_id", Where: legPlace(leg), Value: "not sent"}, run.Item{What: "Authorization", Where: legPlace(leg), Value: "not sent"})
}

func noClientIDAtAuthorization(e *Evidence) *Match {
	leg := e.failedAuthorization()
	if leg == nil || e.Person == nil || e.Person.Request == nil || sentParam(e.Person.Request, "client_id") != "" {
		return nil
	}
	return certain(leg, run.Item{What: "client_id", Where: legPlace(leg), Value: "not sent"})
}

// wrongTokenMethod is a token request by another method than POST.
func wrongTokenMethod(e *Evidence) *Match {
	return refused(func(e *Evidence, _ map[string]string, leg *run.Leg) *Match {
		if leg.Method == "POST" || leg.Method == "" {
			return nil
		}
		items := []run.Item{{What: "method", Where: legPlace(leg), Value: leg.Method}, {What: "the token endpoint takes", Value: "POST"}}
		if allow := leg.Exchange.Response.Header.Get("Allow"); allow != "" {
			items = append(items, run.Item{What: "Allow", Where: legPlace(leg), Value: allow})
		}
		return &Match{Leg: leg.N, Certainty: run.Certain, Items: items, Remedy: []string{"send a POST, with the parameters in the body"}}
	})(e)
}
