package finding

import (
	"fmt"

	"tidycourier/core/run"
)

// callRules are causes of refusals by the protected API.
var callRules = []Rule{
	{
		ID: "no-token-sent", Title: "The call carried no token",
		Try:        Test{"tidy-courier call NAME --as http", "shows the request as it is sent"},
		Meaning:    "The API protects this path, and the request had no credentials.",
		Proof:      "The request as sent has no Authorization header and no token elsewhere.",
		Remedy:     []string{"send it with a token: without --bare, and with --client NAME or the API's client set"},
		References: []string{"RFC 6750 3.1"},
		Judge:      noToken,
	},
	{
		ID: "insufficient-scope", Title: "The token may not do this",
		Try:        Test{"tidy-courier decode --client CLIENT", "shows what the token may do"},
		Meaning:    "The token is good, and does not carry the scope this call needs.",
		Proof:      "The scope the API names (or the courier file's needs) is not in the token.",
		Remedy:     []string{"ask for the scope: add it to the client's scope, and obtain again", "when it is asked for and not granted, have the provider grant it to the client"},
		References: []string{"RFC 6750 3.1"},
		Judge:      insufficientScope,
	},
	{
		ID: "token-not-accepted", Title: "The API does not accept the token, which looks right",
		Try:        Test{"tidy-courier introspect CLIENT", "the server says whether the token is active"},
		Meaning:    "The API answered invalid_token, and the token is not expired and fits what is known: it may be revoked, from another server or stage, or signed with a key the API does not know.",
		Proof:      "invalid_token, and nothing in evidence is wrong with the token.",
		Remedy:     []string{"check that the token's issuer is the one this API trusts (stage!)", "obtain a new one and try again: tidy-courier obtain CLIENT"},
		References: []string{"RFC 6750 3.1"},
		Judge:      notAccepted,
	},
	{
		ID: "required-header-missing", Title: "The API wants a header that was not sent",
		Try:        Test{"tidy-courier call NAME --header 'NAME: VALUE'", "with the header, before it goes into the file"},
		Meaning:    "Besides the token the API asks for a header, often a tenant or a version.",
		Proof:      "The API's words name a header, and the request did not have it.",
		Remedy:     []string{"add it under headers: of the API in the courier file, or with --header 'NAME: VALUE'"},
		References: []string{"RFC 9110 15.5.1"},
		Judge:      headerMissing,
	},
	{
		ID: "xml-because-accept-missing", Title: "XML came, since the call did not ask for JSON",
		Meaning:    "The API serves both and chooses by the Accept header, which did not name JSON.",
		Proof:      "The answer is XML, and Accept in the request does not name JSON.",
		Remedy:     []string{"send Accept: application/json: under headers: of the API, or with --header 'Accept: application/json'"},
		References: []string{"RFC 9110 12.5.1"},
		Judge:      xmlCame,
	},
	{
		ID: "json-invalid", Title: "The API says JSON, and the body is none",
		Meaning:    "Content-Type names JSON and the body does not parse. A warning printed before it, a cut in a template or a value that was not escaped are the usual reasons.",
		Proof:      "The type, and where parsing stops.",
		Remedy:     []string{"look at the body (journal show --full) at that place, and hand it to the provider", "--save FILE keeps it as it came"},
		References: []string{"RFC 8259 2"},
		Judge:      brokenJSON,
	},
	{
		ID: "charset-wrong", Title: "The body is not in the encoding it should be in",
		Meaning:    "Letters beyond ASCII arrive as other bytes than UTF-8. Programs show replacement characters or refuse the whole answer.",
		Proof:      "The first byte that is not UTF-8.",
		Remedy:     []string{"tell the provider: it sends another encoding (often ISO-8859-1 or Windows-1252) than it says"},
		References: []string{"RFC 8259 8.1", "RFC 9110 8.3.2"},
		Judge:      wrongCharset,
	},
	{
		ID: "body-longer-than-said", Title: "The server sent more than it said",
		Meaning:    "Content-Length says where the body ends; what came after it belongs to no answer and was thrown away, with the connection. A proxy may take the rest for the answer to somebody else's request.",
		Proof:      "Bytes came on the connection after the body that Content-Length announced.",
		Remedy:     []string{"tell the provider: the length is often that of the characters instead of the bytes, or of the text before something was added"},
		References: []string{"RFC 9112 6.3", "RFC 9110 8.6"},
		Judge: func(e *Evidence) *Match {
			legs := answered(e)
			if !e.Beyond || len(legs) == 0 {
				return nil
			}
			leg := legs[len(legs)-1]
			return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Odd: true, Items: []run.Item{{What: "Content-Length", Where: legPlace(leg), Value: fmt.Sprint(leg.Exchange.Response.Length)}, {What: "after it", Where: legPlace(leg), Value: "more bytes"}}}
		},
	},
	{
		ID: "redirect-loop", Title: "The API redirects in a circle",
		Meaning:    "Each address points to another, and none answers. Often http and https, or with and without a slash at the end, point at each other.",
		Proof:      "An address that was there before comes again, or ten redirects without an answer.",
		Remedy:     []string{"use the address the provider documents, to the letter", "hand the provider the chain (journal show)"},
		References: []string{"RFC 9110 15.4"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Call)
			if leg == nil || leg.Status()/100 != 3 || leg.Exchange.Response.Header.Get("Location") == "" {
				return nil
			}
			var items []run.Item
			n := 0
			for i := range e.Legs {
				if l := &e.Legs[i]; l.Kind == run.Call && l.Status()/100 == 3 {
					if n++; n <= 4 {
						items = append(items, run.Item{What: fmt.Sprintf("leg %d", l.N), Value: l.URL + " → " + l.Exchange.Response.Header.Get("Location")})
					}
				}
			}
			if n < 10 {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: items}
		},
	},
	{
		ID: "wrong-method", Title: "This path does not take this method",
		Meaning: "The path exists; the method is another.", Proof: "Status 405.",
		Remedy:     []string{"use one of the methods the Allow header names"},
		References: []string{"RFC 9110 15.5.6"},
		Judge: func(e *Evidence) *Match {
			if m := wrongTokenMethod(e); m != nil {
				return m
			}
			legs := answered(e)
			if len(legs) == 0 || legs[len(legs)-1].Status() != 405 || legs[len(legs)-1].Kind == run.Authorization {
				return nil
			}
			leg := legs[len(legs)-1]
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "method", Where: fmt.Sprintf("leg %d", leg.N), Value: leg.Method},
				{What: "Allow", Where: fmt.Sprintf("leg %d", leg.N), Value: leg.Exchange.Response.Header.Get("Allow")}}}
		},
	},
	{
		ID: "forbidden-for-this-user", Title: "Whoever the token stands for may not do this here",
		Try:        Test{"tidy-courier call NAME --versus CLIENT", "the same call as somebody else tells whether the record or the person is the reason"},
		Meaning:    "The token was accepted and its scope is not the reason: this person or application has no right to this record, harbour, tenant or account.",
		Proof:      "Status 403, a token was sent, and no scope is named as lacking.",
		Remedy:     []string{"check whom the token stands for: tidy-courier decode --client CLIENT", "check the tenant or account named in the path, query or headers"},
		References: []string{"RFC 9110 15.5.4"},
		Judge:      forbidden,
	},
}
