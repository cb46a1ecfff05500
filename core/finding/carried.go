package finding

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/mask"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// carriedRules are causes in how a call carried its token. What was sent proves
// them.
var carriedRules = []Rule{
	{
		ID: "two-authorization-headers", Title: "The call carries two Authorization headers",
		Meaning: "A request has one. Servers refuse two, or take the first, which may be the wrong one.", Proof: "The header as it was sent.",
		Remedy:     []string{"remove one: look for a default header of the client library beside the one that is set"},
		References: []string{"RFC 9110 5.3", "RFC 6750 2"},
		Judge: refusedSend(func(e *Evidence, leg *run.Leg, header string) *Match {
			list := leg.Exchange.Request.Header.Values("Authorization")
			if len(list) < 2 && !strings.Contains(header, ", Bearer ") && !strings.Contains(header, ",Bearer ") {
				return nil
			}
			var items []run.Item
			for _, v := range list {
				items = append(items, run.Item{What: "Authorization", Where: legPlace(leg), Value: mask.Header("Authorization", v, "")})
			}
			return certain(leg, append(items, e.apiItem(leg))...)
		}),
	},
	{
		ID: "prefix-doubled", Title: "The word Bearer stands twice",
		Meaning: "The token was kept with its prefix, and the prefix put before it once more.", Proof: "The header as it was sent.",
		Remedy:     []string{"keep the token alone; the prefix is added when it is sent"},
		References: []string{"RFC 6750 2.1"},
		Judge: refusedSend(func(e *Evidence, leg *run.Leg, header string) *Match {
			first, rest, _ := strings.Cut(header, " ")
			second, _, found := strings.Cut(strings.TrimSpace(rest), " ")
			if !found || !schemeWord(first) || !schemeWord(strings.Trim(second, ":")) {
				return nil
			}
			return certain(leg, run.Item{What: "Authorization", Where: legPlace(leg), Value: first + " " + second + " …"}, e.apiItem(leg))
		}),
	},
	{
		ID: "bearer-prefix-missing", Title: "The token was sent without the word Bearer",
		Meaning: "The header is the scheme, a space, and the token. Without the scheme the API finds no credentials it knows.", Proof: "The header as it was sent.",
		Remedy:     []string{"write Bearer and a space before the token"},
		References: []string{"RFC 6750 2.1"},
		Judge: refusedSend(func(e *Evidence, leg *run.Leg, header string) *Match {
			first, rest, _ := strings.Cut(strings.TrimSpace(header), " ")
			what := ""
			switch {
			case schemeWord(first) || first == "":
				return nil
			case rest == "" && (strings.HasPrefix(strings.ToLower(first), "bearer") && len(first) > 6):
				what = "no space stands between Bearer and the token"
			case rest == "" && !slices.Contains([]string{"basic", "digest"}, strings.ToLower(first)):
				what = "the token alone"
			case strings.EqualFold(first, "token") || strings.EqualFold(first, "jwt") || strings.EqualFold(first, "oauth"):
				what = "the scheme " + first
			case strings.EqualFold(first, "Basic") && strings.HasPrefix(rest, "eyJ"):
				what = "the scheme Basic before a token"
			default:
				return nil
			}
			return certain(leg, run.Item{What: "Authorization", Where: legPlace(leg), Value: what}, e.apiItem(leg))
		}),
	},
	{
		ID: "lower-case-scheme-refused", Title: "The API refuses the scheme for its letters",
		Try:     Test{"tidy-courier drill NAME", "sends the scheme in lower case beside the usual one"},
		Meaning: "Scheme names know no case, so bearer is as good as Bearer. This API compares to the letter: the fault is its own.", Proof: "The scheme was written in another case, and the token is not known to be wrong.",
		Remedy:     []string{"write Bearer with a capital B; tell the provider"},
		References: []string{"RFC 7235 2.1", "RFC 6750 2.1"},
		Judge: refusedSend(func(e *Evidence, leg *run.Leg, header string) *Match {
			s := scheme(leg)
			if !strings.EqualFold(s, "Bearer") || s == "Bearer" || leg.Status() == 403 || tokenExpired(e) != nil || wrongAudience(e) != nil {
				return nil
			}
			if c, ok := challenge(leg); ok && c.Error() != "" && c.Error() != "invalid_request" {
				return nil // it has read the token
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "scheme sent", Where: legPlace(leg), Value: s}, e.apiItem(leg)}}
		}),
	},
	{
		ID: "token-garbled", Title: "The token was changed on its way",
		Meaning: "Quotes, white space, a line break, percent-encoding or a missing end make it another text, which nobody issued.", Proof: "The token as it was sent.",
		Remedy:     []string{"hand over the token alone, from its first character to its last"},
		References: []string{"RFC 6750 2.1", "RFC 7515 7.1"},
		Judge:      either(garbledInCall, pastedGarbled),
	},
	{
		ID: "token-in-wrong-header", Title: "The token is in another header than the API reads",
		Try:     Test{"tidy-courier call NAME --as http", "shows the request as it is sent"},
		Meaning: "A token was sent, and not in Authorization; the API finds none.", Proof: "The header as it was sent; the API asks for a token.",
		Remedy:     []string{"send it as Authorization: Bearer TOKEN; remove token_placement when the API has none of its own"},
		References: []string{"RFC 6750 2.1"},
		Judge: refusedSend(func(e *Evidence, leg *run.Leg, header string) *Match {
			if header != "" || e.Access == "" || carries(leg, e.Access) || strings.Contains(leg.URL, "access_token=") {
				return nil
			}
			for name, values := range leg.Exchange.Request.Header {
				if slices.ContainsFunc(values, func(v string) bool { return strings.Contains(v, e.Access) }) && !strings.EqualFold(name, "Cookie") {
					if c, ok := challenge(leg); leg.Status() == 403 && (!ok || c.Error() != "") {
						return nil
					}
					return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "the token stands in", Where: legPlace(leg), Value: name}, e.apiItem(leg)}}
				}
			}
			return nil
		}),
	},
	{
		ID: "token-in-query-not-accepted", Title: "The token is in the address, and the API does not look there",
		Try:     Test{"tidy-courier call NAME --as http", "shows where the token stands"},
		Meaning: "Few APIs take access_token in the query: addresses end up in logs. This one asks for a token as if none had come.", Proof: "access_token in the query, and a challenge.",
		Remedy:     []string{"send it as Authorization: Bearer TOKEN: remove token_placement"},
		References: []string{"RFC 6750 2.3", "RFC 9700 4.3.2"},
		Judge: refusedSend(func(e *Evidence, leg *run.Leg, header string) *Match {
			u, err := url.Parse(leg.URL)
			if err != nil || header != "" || leg.Status() == 403 && !dpopChallenged(leg) {
				return nil
			}
			for _, name := range []string{"access_token", "token", "bearer_token"} {
				v := u.Query().Get(name)
				if v == "" {
					continue
				}
				if c, ok := challenge(leg); ok && c.Error() == "invalid_token" {
					return nil // it has read the token
				}
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: name + " in the query", Where: legPlace(leg), Value: mask.Text(v)}, e.apiItem(leg)}}
			}
			return nil
		}),
	},
	{
		ID: "refresh-token-used-as-access-token", Title: "A refresh token was sent where an access token is due",
		Meaning: "A refresh token is for the token endpoint alone.", Proof: "It was issued as a refresh token in this record, or its claims say what it is.",
		Remedy:     []string{"send the access token: tidy-courier pouch take CLIENT hands it over"},
		References: []string{"RFC 6749 1.5"},
		Judge: func(e *Evidence) *Match {
			leg := e.refusedCall(400, 401, 403)
			if leg == nil || e.Access == "" {
				return nil
			}
			why := ""
			if e.CarriesRefresh {
				why = "it was issued as refresh_token"
			} else if t := decoded(e.Access); t != nil {
				typ, _ := t.Claims["typ"].(string)
				use, _ := t.Claims["token_use"].(string)
				if s := strings.ToLower(typ + " " + use); strings.Contains(s, "refresh") || strings.Contains(s, "offline") {
					why = "its claims say so: " + strings.TrimSpace(typ+" "+use)
				}
			}
			if why == "" {
				return nil
			}
			return certain(leg, run.Item{What: "the token", Where: legPlace(leg), Value: mask.Text(e.Access)}, run.Item{What: "it is a refresh token", Value: why}, e.apiItem(leg))
		},
	},
	{
		ID: "authorization-dropped-on-redirect", Title: "The redirect left the token behind",
		Meaning: "The API redirected to another origin, and the token does not follow there: whoever is there is not the one it was meant for.", Proof: "A redirect to another origin, after which the request carried no token and was refused.",
		Remedy:     []string{"call the address the redirect points to, when it is the provider's own: set base_url to it"},
		References: []string{"RFC 9110 15.4", "RFC 6750 5.3"},
		Judge: func(e *Evidence) *Match {
			leg := e.refusedCall(401, 403)
			if leg == nil || sentToken(leg) != "" {
				return nil
			}
			for i := range e.Legs {
				l := &e.Legs[i]
				if l.Kind != run.Call || l.N >= leg.N || l.Status()/100 != 3 || sentToken(l) == "" && l.Exchange.Request.Header.Get("Authorization") == "" {
					continue
				}
				return certain(leg, append(pair("asked", legPlace(l), originOf(l.URL), "sent to", legPlace(leg), originOf(leg.URL)), e.apiItem(leg))...)
			}
			return nil
		},
	},
	{
		ID: "redirected-to-login", Title: "The API sent the call to a sign-in page",
		Meaning: "The API treats the call as a browser's: no token it knows came, so it shows the person where to sign in. Other APIs would answer 401.", Proof: "A redirect to a sign-in address, or the page that it ends at.",
		Remedy:     []string{"send the token as the API wants it, and Accept: application/json", "check the path: another one may be the API's, and this the web site's"},
		References: []string{"RFC 9110 15.4", "RFC 6750 3"},
		Judge:      toLogin,
	},
	{
		ID: "captive-portal", Title: "Something between here and there answers with a page of its own",
		Try:     Test{"tidy-courier discover ISSUER", "from another network: the page stays away there"},
		Meaning: "A network that wants a sign-in first (a hotel, a guest network) answers every plain request with its page.", Proof: "A page or redirect of another host, where metadata, token or API were asked.",
		Remedy:     []string{"open any page in the browser and sign in to the network", "use https, which such a network cannot answer"},
		References: []string{"RFC 8952 2"},
		Judge:      strangerAnswers,
	},
	{
		ID: "empty-list-but-authorized", Title: "It works; there is nothing there",
		Meaning: "The call was authorized and the list is empty. Whoever the token stands for sees no record, or the query asks for none.", Proof: "A success whose body is an empty list.",
		Remedy:     []string{"check whom the token stands for, and the query: dates, tenant, filters"},
		References: []string{"RFC 9110 15.3.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Call)
			if leg == nil || leg.Status() != 200 || e.Access == "" || len(leg.Exchange.Response.Body) > 4<<10 || !emptyList(leg.Exchange.Response.Body) {
				return nil
			}
			m := certain(leg, run.Item{What: "the body", Where: legPlace(leg), Value: firstLine(leg.Exchange.Response.Body)})
			m.Note = true
			return m
		},
	},
}

// strangerAnswers finds an answer that a network gave in the server's place.
func strangerAnswers(e *Evidence) *Match {
	for _, leg := range answered(e) {
		if leg.Kind == run.Authorization || leg.Kind == run.Landing || leg.Status() == 401 {
			continue
		}
		if leg.Status() == 511 {
			return certain(leg, run.Item{What: "status", Where: legPlace(leg), Value: "511 Network Authentication Required"})
		}
		target := originOf(leg.Exchange.Response.Header.Get("Location"))
		text := title(leg.Exchange.Response.Body) + " " + leg.Exchange.Response.Header.Get("Location")
		if strings.HasPrefix(leg.URL, "http:") && (target != "" && target != originOf(leg.URL) || isHTML(leg.Exchange.Response)) && said(text, "captive", "portal", "hotspot", "wifi", "wi fi", "guest network", "network login") {
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "asked", Where: legPlace(leg), Value: leg.URL}, {What: "what answered", Where: legPlace(leg), Value: strings.TrimSpace(text)}}}
		}
	}
	return nil
}

// emptyList reports whether a body is [] or an object whose only list is empty.
func emptyList(body []byte) bool {
	var list []any
	if json.Unmarshal(body, &list) == nil && list != nil {
		return len(list) == 0
	}
	var members map[string]any
	if json.Unmarshal(body, &members) != nil || len(members) > 6 {
		return false
	}
	empty := false
	for _, v := range members {
		switch v := v.(type) {
		case []any:
			if len(v) > 0 {
				return false
			}
			empty = true
		case map[string]any:
			return false
		}
	}
	return empty
}

// refusedSend runs a judge over refused calls, with their Authorization header.
func refusedSend(judge func(e *Evidence, leg *run.Leg, header string) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg := e.refusedCall(400, 401, 403)
		if leg == nil || e.AnswerOnly {
			return nil
		}
		return judge(e, leg, leg.Exchange.Request.Header.Get("Authorization"))
	}
}

func schemeWord(s string) bool {
	return strings.EqualFold(s, "Bearer") || strings.EqualFold(s, "DPoP")
}

// garbledInCall is a token that stands in the header with something around or
// inside it, or cut off.
func garbledInCall(e *Evidence) *Match {
	return refusedSend(func(e *Evidence, leg *run.Leg, header string) *Match {
		first, raw, _ := strings.Cut(header, " ")
		if !schemeWord(first) || strings.Contains(header, ", Bearer ") {
			return nil
		}
		what := ""
		switch bare := strings.TrimSpace(raw); {
		case bare == "":
			what = "nothing stands behind the scheme"
		case strings.ContainsAny(bare[:1], `"'<{[`) || strings.ContainsAny(bare[len(bare)-1:], `"'>}]`):
			what = "quotes or brackets stand around it"
		case strings.HasSuffix(bare, ",") || strings.HasSuffix(bare, ";"):
			what = "a comma or semicolon stands behind it"
		case schemeWord(strings.SplitN(bare, " ", 2)[0]):
			return nil
		case strings.ContainsAny(bare, " \t\r\n"):
			what = "white space stands inside it"
		case escapePattern().MatchString(bare):
			what = "it is percent-encoded"
		case slices.Contains([]string{"undefined", "null", "none", "nil", "[object object]", "$token", "${token}", "<token>", "{token}", "{{token}}", "access_token"}, strings.ToLower(bare)):
			what = "it is the text " + bare + ", not a token"
		case strings.HasPrefix(bare, "eyJ"):
			what = cutShort(bare, e)
		}
		if what == "" && raw != strings.TrimSpace(raw) {
			what = "white space stands around it"
		}
		if what == "" {
			return nil
		}
		return certain(leg, run.Item{What: "the token as sent", Where: legPlace(leg), Value: mask.Text(raw)}, run.Item{What: "what is wrong", Value: what}, e.apiItem(leg))
	})(e)
}

// cutShort tells a JWT that lost its end, or was cut to its payload, from whole.
func cutShort(raw string, e *Evidence) string {
	if issued := e.Answer; issued != nil && issued.AccessToken != raw && len(raw) < len(issued.AccessToken) && strings.HasPrefix(issued.AccessToken, raw) {
		return "its end is missing: it is the beginning of the token that was issued"
	}
	switch dots := strings.Count(raw, "."); dots {
	case 0, 1, 3:
		return "its end is missing: a signed token has three parts"
	case 2:
		t, err := token.Decode(raw)
		if err != nil || t.Form != token.JWT || t.Claims == nil {
			return "its parts do not decode"
		}
		if sig := raw[strings.LastIndexByte(raw, '.')+1:]; sig == "" && !strings.EqualFold(t.Alg(), "none") {
			return "its signature is missing"
		} else if n := signatureLength[t.Alg()]; n > 0 && len(sig) < n {
			return "its signature is cut off"
		}
	}
	return ""
}

// signatureLength is the least length of a signature in base64url, by algorithm:
// 2048-bit RSA, and the fixed lengths of RFC 7518 3.
var signatureLength = map[string]int{"RS256": 342, "RS384": 342, "RS512": 342, "PS256": 342, "PS384": 342, "PS512": 342, "ES256": 86, "ES384": 128, "HS256": 43, "HS384": 64, "HS512": 86}

func toLogin(e *Evidence) *Match {
	leg := e.last(run.Call)
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil {
		return nil
	}
	items := []run.Item{}
	for i := range e.Legs {
		l := &e.Legs[i]
		if l.Kind != run.Call || l.Status()/100 != 3 {
			continue
		}
		to := l.Exchange.Response.Header.Get("Location")
		u, err := url.Parse(to)
		if err == nil && said(u.Path, "login", "signin", "sign in", "auth", "sso", "session/new") || strings.Contains(to, "response_type=") || strings.Contains(to, "SAMLRequest=") {
			items = append(items, run.Item{What: "redirected to", Where: legPlace(l), Value: mask.URL(to)})
		}
	}
	if len(items) == 0 {
		return nil
	}
	switch {
	case leg.Status()/100 == 3:
	case leg.Status() < 400 && isHTML(leg.Exchange.Response):
		items = append(items, run.Item{What: "the page's title", Where: legPlace(leg), Value: orNone(title(leg.Exchange.Response.Body))})
	default:
		return nil
	}
	return certain(leg, items...)
}
