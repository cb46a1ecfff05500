package finding

import (
	"fmt"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// discoveryRules are causes in the server's description of itself.
var discoveryRules = []Rule{
	{
		ID: "issuer-mismatch", Title: "The metadata names another issuer than the one asked",
		Meaning:    "The issuer in the metadata must be the same text as the one it was found under; otherwise one server could speak for another, and tokens will not verify.",
		Proof:      "The two texts differ.",
		Remedy:     []string{"set issuer to what the metadata says, when that is the server you mean"},
		References: []string{"RFC 8414 3.3", "OpenID Connect Discovery 4.3"},
		Judge:      issuerMismatch,
	},
	{
		ID: "metadata-missing-endpoint", Title: "The metadata lacks the endpoint this grant needs",
		Try:        Test{"tidy-courier discover ISSUER", "shows what the metadata has"},
		Meaning:    "The document was found and read, and does not name it.",
		Proof:      "The member is absent.",
		Remedy:     []string{"name the endpoint in the courier file, under servers; a field there wins over discovery"},
		References: []string{"RFC 8414 2"},
		Judge:      missingEndpoint,
	},
}

func issuerMismatch(e *Evidence) *Match {
	if e.Metadata == nil || e.Asked == "" {
		return nil
	}
	same, slash := oauth.SameIssuer(e.Asked, e.Metadata.Issuer)
	leg := e.last(run.Discovery)
	if same || leg == nil {
		return nil
	}
	asked := run.Item{What: "issuer asked", Where: e.endpointPlace(leg), Value: e.Asked, Compare: true}
	m := &Match{Leg: leg.N, Certainty: run.Certain,
		Items: []run.Item{asked, {What: "issuer in the metadata", Where: leg.URL, Value: e.Metadata.Issuer, Compare: true}}}
	if slash {
		m.Remedy = []string{fmt.Sprintf("set issuer: %s, with the slash exactly as there", e.Metadata.Issuer)}
	}
	// nothing fails because of it until a token or an iss parameter is checked
	m.Note, m.Odd = e.last(run.Token) != nil, true
	return m
}

func missingEndpoint(e *Evidence) *Match {
	if e.Metadata == nil || e.Client == nil || e.Metadata.TokenEndpoint != "" {
		return nil
	}
	leg := e.last(run.Discovery)
	if leg == nil {
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "token_endpoint", Where: leg.URL, Value: "absent"}}}
}
