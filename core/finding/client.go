package finding

import (
	"time"

	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

// clientRules are causes in who the client is and how it shows it.
var clientRules = []Rule{
	{
		ID: "secret-has-edge-whitespace", Title: "The client secret has white space at its edge",
		Meaning:    "A newline or space at the end of a secret is sent like any other character, and makes it another secret. It usually comes from a file that an editor or echo ended with a newline, or from copying.",
		Proof:      "The secret as it was read begins or ends with white space.",
		Remedy:     []string{"write the file without a newline at its end: printf %s \"$SECRET\" > FILE", "put the value in .env, where edges are clear"},
		References: []string{"RFC 6749 2.3.1", "RFC 6749 A.2"},
		Judge:      edgeWhitespace,
	},
	{
		ID: "secret-looks-quoted", Title: "The client secret is in quotes, and the quotes are sent too",
		Meaning:    "The value begins and ends with a quote character. A shell or a .env file takes quotes off; a file, a secret manager or a CI setting does not.",
		Proof:      "The secret as it was read has a quote at both ends.",
		Remedy:     []string{"take the quotes off at the secret's source"},
		References: []string{"RFC 6749 2.3.1"},
		Judge:      quoted,
	},
	{
		ID: "secret-looks-like-its-identifier", Title: "The client secret looks like the id of a secret, not like a secret",
		Try:     Test{"tidy-courier show CLIENT", "compare the fingerprint with that of the secret itself"},
		Meaning: "Providers show two texts beside each other: the secret's value, often only once, and its id, usually a UUID. The id was taken.",
		Proof:   "The secret is a UUID, or is the client id itself.",
		Remedy:  []string{"make a new secret at the provider and copy its value while it is shown"},
		Judge:   secretIsID,
	},
	{
		ID: "secret-expired", Title: "The client secret has expired",
		Try:        Test{"tidy-courier vet CLIENT", "tells when the secret ends, as far as secret_expires says"},
		Meaning:    "Client secrets have an end. From then on the server refuses the client as if the secret were wrong.",
		Proof:      "secret_expires in the courier file lies in the past, or the server says so.",
		Remedy:     []string{"make a new secret at the provider, put it where the old one was, and set secret_expires"},
		References: []string{"RFC 7591 3.2.1"},
		Judge:      secretExpired,
	},
	{
		ID: "secret-expiring", Title: "The client secret ends soon",
		Meaning: "From then on the server refuses the client as if the secret were wrong.", Proof: "secret_expires in the courier file lies less than two weeks ahead.",
		Remedy:     []string{"make a new secret at the provider in time, and set secret_expires anew"},
		References: []string{"RFC 7591 3.2.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Token)
			if leg == nil || e.Client == nil {
				return nil
			}
			day, err := time.Parse(time.DateOnly, e.Client.SecretExpires.Value)
			if left := day.Sub(e.Now); err != nil || left < 0 || left > soon {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Items: []run.Item{{What: "secret_expires", Where: e.Client.SecretExpires.Where, Value: e.Client.SecretExpires.Value}}}
		},
	},
	{
		ID: "secret-in-courier-file", Title: "A secret is written in the courier file",
		Meaning: "The courier file is made to be shared and committed, and whoever reads it then has the secret.", Proof: "The secret is a text, not a source.",
		Remedy:     []string{"put it into .env and write { env: NAME } in its place; make a new secret at the provider when the file was shared"},
		References: []string{"RFC 6819 4.1.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Token)
			if leg == nil || e.Client == nil {
				return nil
			}
			for _, s := range []*project.Secret{e.Client.Secret, e.Client.Password, e.Client.RefreshToken} {
				if s != nil && s.Literal {
					return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Items: []run.Item{{What: s.Field, Where: s.Where, Value: "written out"}}}
				}
			}
			return nil
		},
	},
	{
		ID: "confidential-client-without-secret", Title: "The client authenticates with a secret, and none is set",
		Try:        Test{"tidy-courier show CLIENT", "tells whether a client_secret is set, and from where"},
		Meaning:    "The token endpoint wants the client to prove who it is, and the request carried only client_id.",
		Proof:      "invalid_client, and neither an Authorization header nor client_secret was sent.",
		Remedy:     []string{"set client_secret to a source of the secret: { env: NAME }, { file: PATH } or { command: [program] }"},
		References: []string{"RFC 6749 3.2.1"},
		Judge:      secretMissing,
	},
	{
		ID: "unknown-client", Title: "The server does not know this client id",
		Try:        Test{"tidy-courier obtain CLIENT --client-id nobody-has-this", "another answer than now means that the server knows your client id"},
		Meaning:    "The client id is misspelt, belongs to another server, tenant or stage, or the client was deleted.",
		Proof:      "The server's words; from the answer alone it cannot be told from a wrong secret, since RFC 6749 5.2 gives both the same code.",
		Remedy:     []string{"compare client_id with the registration, letter by letter", "check that the client is registered at this issuer and stage"},
		References: []string{"RFC 6749 5.2", "RFC 6749 2.2"},
		Judge:      either(unknownClient, pageUnknownClient),
	},
	{
		ID: "wrong-secret", Title: "The client secret is not the one the server has",
		Try:        Test{"tidy-courier show CLIENT", "compare the fingerprint with that of the secret you were given"},
		Meaning:    "The server knows how the client wanted to authenticate and refused it. The usual reason is an old secret, one of another stage, or one cut off while copying.",
		Proof:      "invalid_client, with credentials sent, and nothing else in evidence is wrong with them.",
		Remedy:     []string{"compare the fingerprint with that of the secret you were given: tidy-courier show CLIENT prints it", "make a new secret at the provider"},
		References: []string{"RFC 6749 5.2"},
		Judge:      wrongSecret,
	},
	{
		ID: "auth-in-wrong-place", Title: "The server wants the client's credentials in another place",
		Try:        Test{"tidy-courier obtain CLIENT --auth-method client_secret_post", "or client_secret_basic: the other one than now"},
		Meaning:    "Credentials go into the Authorization header (client_secret_basic) or into the body (client_secret_post). A client is registered for one of them, and some servers take only that one.",
		Proof:      "The metadata does not list the method that was used, or the server's words name the other.",
		Remedy:     []string{"set token_endpoint_auth_method to the one the server wants"},
		References: []string{"RFC 6749 2.3.1", "RFC 8414 2"},
		Judge:      wrongPlace,
	},
	{
		ID: "grant-not-allowed-for-client", Title: "This client may not use this grant",
		Try:        Test{"tidy-courier vet CLIENT", "tells which grants the server offers at all"},
		Meaning:    "The client was recognised; its registration does not list the grant it asked for.",
		Proof:      "unauthorized_client from the token endpoint.",
		Remedy:     []string{"have the grant added to the client's registration", "set grant: to one the client is registered for"},
		References: []string{"RFC 6749 5.2"},
		Judge:      either(grantNotAllowed, refusedBy(run.Certain, oauth.ErrUnauthorizedClient), ownPage(oauth.ErrUnsupportedGrantType)),
	},
	{
		ID: "unsupported-grant-type", Title: "The server does not offer this grant at all",
		Try:     Test{"tidy-courier vet CLIENT", "tells which grants the server offers at all"},
		Meaning: "No client can use this grant at this endpoint.", Proof: "unsupported_grant_type, or the metadata does not list it.",
		Remedy:     []string{"choose one of the grants the metadata lists: tidy-courier discover ISSUER"},
		References: []string{"RFC 6749 5.2"},
		Judge:      unsupportedGrant,
	},
	{
		ID: "invalid-scope-asked", Title: "The server refuses the scope that was asked for",
		Try:        Test{"tidy-courier obtain CLIENT --scope ONE", "one scope at a time, until the one is found that is refused"},
		Meaning:    "A scope is misspelt, unknown at this server, or not granted to this client.",
		Proof:      "invalid_scope.",
		Remedy:     []string{"compare scope with the provider's documentation, letter by letter", "ask for one scope at a time to find the one that is refused: --scope NAME"},
		References: []string{"RFC 6749 5.2", "RFC 6749 3.3"},
		Judge:      either(scopeAtAuthorization, invalidScope, ownPage(oauth.ErrInvalidScope)),
	},
}
