package token

import (
	"maps"
	"slices"
)

// ValueKind is what a claim's value is.
type ValueKind string

const (
	KindText ValueKind = "text"
	KindTime ValueKind = "time"
	KindList ValueKind = "list"
	KindAny  ValueKind = "any"
)

// Claim is what a registered header parameter or claim means.
type Claim struct {
	Name    string
	Kind    ValueKind
	Meaning string
	Compare string // what to hold it against
	Source  string // where it is defined
}

// Registry explains claims by name: RFC 7519 4.1, RFC 9068 2.2, RFC 8693 4,
// RFC 7800, RFC 9396, OpenID Connect Core 2 and 5.1, and unregistered ones that
// several servers use.
var Registry = index(
	Claim{"iss", KindText, "who issued it", "the issuer of the server's metadata, to the letter", "RFC 7519 4.1.1"},
	Claim{"sub", KindText, "who it is about: a person, or the client itself", "the account you signed in with, or client_id", "RFC 7519 4.1.2"},
	Claim{"aud", KindList, "who it is for", "the API's needs.audience", "RFC 7519 4.1.3"},
	Claim{"exp", KindTime, "refused from then on", "the clock", "RFC 7519 4.1.4"},
	Claim{"nbf", KindTime, "refused before then", "the clock", "RFC 7519 4.1.5"},
	Claim{"iat", KindTime, "when it was issued", "the clock", "RFC 7519 4.1.6"},
	Claim{"jti", KindText, "its own id, to tell a repeat", "", "RFC 7519 4.1.7"},
	Claim{"client_id", KindText, "the client it was issued to", "client_id in the courier file", "RFC 9068 2.2"},
	Claim{"scope", KindList, "what it may do", "the API's needs.scope", "RFC 9068 2.2.3"},
	Claim{"auth_time", KindTime, "when the person signed in", "max_age", "OpenID Connect Core 2"},
	Claim{"acr", KindText, "how strongly the person was authenticated", "", "OpenID Connect Core 2"},
	Claim{"amr", KindList, "how the person was authenticated", "", "RFC 8176"},
	Claim{"azp", KindText, "the client it was issued to, when that is not the audience", "client_id", "OpenID Connect Core 2"},
	Claim{"nonce", KindText, "ties an id token to one authorization request", "the nonce that was sent", "OpenID Connect Core 2"},
	Claim{"at_hash", KindText, "ties an id token to its access token", "left half of the access token's hash", "OpenID Connect Core 3.1.3.6"},
	Claim{"c_hash", KindText, "ties an id token to its code", "left half of the code's hash", "OpenID Connect Core 3.3.2.11"},
	Claim{"sid", KindText, "the session at the server", "", "OpenID Connect Front-Channel Logout 3"},
	Claim{"name", KindText, "the person's full name", "", "OpenID Connect Core 5.1"},
	Claim{"given_name", KindText, "the person's given name", "", "OpenID Connect Core 5.1"},
	Claim{"family_name", KindText, "the person's family name", "", "OpenID Connect Core 5.1"},
	Claim{"preferred_username", KindText, "the name the person goes by; may change", "", "OpenID Connect Core 5.1"},
	Claim{"email", KindText, "the person's mail address", "", "OpenID Connect Core 5.1"},
	Claim{"middle_name", KindText, "the person's middle name", "", "OpenID Connect Core 5.1"},
	Claim{"nickname", KindText, "what the person is called", "", "OpenID Connect Core 5.1"},
	Claim{"profile", KindText, "the person's page", "", "OpenID Connect Core 5.1"},
	Claim{"picture", KindText, "a picture of the person", "", "OpenID Connect Core 5.1"},
	Claim{"website", KindText, "the person's web site", "", "OpenID Connect Core 5.1"},
	Claim{"gender", KindText, "the person's gender", "", "OpenID Connect Core 5.1"},
	Claim{"birthdate", KindText, "the person's birthday, YYYY-MM-DD", "", "OpenID Connect Core 5.1"},
	Claim{"zoneinfo", KindText, "the person's time zone", "", "OpenID Connect Core 5.1"},
	Claim{"locale", KindText, "the person's language", "", "OpenID Connect Core 5.1"},
	Claim{"phone_number", KindText, "the person's telephone number", "", "OpenID Connect Core 5.1"},
	Claim{"phone_number_verified", KindAny, "whether the server checked the number", "", "OpenID Connect Core 5.1"},
	Claim{"address", KindAny, "the person's postal address", "", "OpenID Connect Core 5.1"},
	Claim{"email_verified", KindAny, "whether the server checked the address", "", "OpenID Connect Core 5.1"},
	Claim{"updated_at", KindTime, "when the person's record last changed", "", "OpenID Connect Core 5.1"},
	Claim{"act", KindAny, "who acts, on behalf of the subject", "", "RFC 8693 4.1"},
	Claim{"may_act", KindAny, "who may act for the subject", "", "RFC 8693 4.4"},
	Claim{"cnf", KindAny, "the key its holder must prove to have", "", "RFC 7800 3.1"},
	Claim{"authorization_details", KindAny, "what it may do, in detail", "", "RFC 9396 9.1"},
	Claim{"events", KindAny, "what happened, in a security event token", "", "RFC 8417 2.2"},
	Claim{"toe", KindTime, "when the event happened", "", "RFC 8417 2.2"},
	Claim{"txn", KindText, "the transaction the event belongs to", "", "RFC 8417 2.2"},
	Claim{"scp", KindList, "what it may do (some servers' name for scope)", "the API's needs.scope", "unregistered, widespread"},
	Claim{"roles", KindList, "roles of the person, or permissions given to the application itself", "the API's needs.roles", "RFC 9068 2.2.3.1"},
	Claim{"groups", KindList, "groups the person is in", "", "RFC 9068 2.2.3.1"},
	Claim{"entitlements", KindList, "what the person is entitled to", "", "RFC 9068 2.2.3.1"},
	Claim{"upn", KindText, "the person's sign-in name", "", "unregistered, widespread"},
	Claim{"appid", KindText, "the client it was issued to (some servers' name for client_id)", "client_id", "unregistered, widespread"},
	Claim{"tid", KindText, "the tenant it belongs to", "the tenant you work for", "unregistered, widespread"},
	Claim{"oid", KindText, "the subject's id inside its tenant", "", "unregistered, widespread"},
	Claim{"ver", KindText, "the version of the token's layout", "", "unregistered, widespread"},
	Claim{"username", KindText, "the name the person signs in with", "the account you signed in with", "RFC 7662 2.2"},
	Claim{"token_type", KindText, "how it is to be sent", "", "RFC 7662 2.2"},
	Claim{"permissions", KindList, "what it may do, in the server's own words", "", "unregistered, widespread"},
	Claim{"cid", KindText, "the client it was issued to (some servers' name for client_id)", "client_id", "unregistered, widespread"},
	Claim{"typ", KindText, "what kind of token, said among the claims", "", "unregistered, widespread"},
	Claim{"sub_id", KindAny, "who the event is about, in parts", "", "RFC 9493 4"},
	Claim{"htm", KindText, "the method a proof was made for", "the request's method", "RFC 9449 4.2"},
	Claim{"htu", KindText, "the URL a proof was made for", "the request's URL", "RFC 9449 4.2"},
	Claim{"ath", KindText, "ties a proof to its access token", "the access token's SHA-256", "RFC 9449 4.2"},
	Claim{"_claim_names", KindAny, "claims that stand elsewhere", "", "OpenID Connect Core 5.6.2"},
	Claim{"_claim_sources", KindAny, "where the claims that stand elsewhere are", "", "OpenID Connect Core 5.6.2"},
	Claim{"sub_jwk", KindAny, "the key of a self-issued subject", "", "OpenID Connect Self-Issued 8"},
)

// HeaderRegistry explains JOSE header parameters (RFC 7515 4.1, RFC 7516 4.1).
var HeaderRegistry = index(
	Claim{"alg", KindText, "how it is signed or its key encrypted", "what the API accepts", "RFC 7515 4.1.1"},
	Claim{"enc", KindText, "how the content is encrypted", "", "RFC 7516 4.1.2"},
	Claim{"kid", KindText, "which key of the issuer signed it", "the kids at jwks_uri", "RFC 7515 4.1.4"},
	Claim{"typ", KindText, "what kind of token: at+jwt is an access token", "", "RFC 9068 2.1"},
	Claim{"cty", KindText, "what is inside: JWT means a token in a token", "", "RFC 7515 4.1.10"},
	Claim{"jku", KindText, "where the sender says its keys are; never trust it", "", "RFC 7515 4.1.2"},
	Claim{"jwk", KindAny, "the sender's own key; never trust it", "", "RFC 7515 4.1.3"},
	Claim{"x5t", KindText, "thumbprint of the signing certificate", "", "RFC 7515 4.1.7"},
	Claim{"x5t#S256", KindText, "SHA-256 thumbprint of the signing certificate", "", "RFC 7515 4.1.8"},
	Claim{"x5u", KindText, "where the sender says its certificate is; never trust it", "", "RFC 7515 4.1.5"},
	Claim{"x5c", KindList, "the signing certificate and its chain", "", "RFC 7515 4.1.6"},
	Claim{"crit", KindList, "header parameters the reader must understand", "", "RFC 7515 4.1.11"},
	Claim{"b64", KindAny, "whether the content is base64url-encoded", "", "RFC 7797 3"},
	Claim{"apu", KindText, "the sender, in the key agreement", "", "RFC 7518 4.6.1.2"},
	Claim{"apv", KindText, "the receiver, in the key agreement", "", "RFC 7518 4.6.1.3"},
	Claim{"epk", KindAny, "the sender's key for this one message", "", "RFC 7518 4.6.1.1"},
	Claim{"p2s", KindText, "the salt of a password's key", "", "RFC 7518 4.8.1.1"},
	Claim{"p2c", KindAny, "how often a password is hashed", "", "RFC 7518 4.8.1.2"},
	Claim{"nonce", KindText, "the server's nonce, mixed into the signature", "", "RFC 8555 6.5.2"},
	Claim{"zip", KindText, "how the content was compressed before encryption", "", "RFC 7516 4.1.3"},
)

// sortedNames lists a mapping's names in a fixed order.
func sortedNames(m map[string]any) []string { return slices.Sorted(maps.Keys(m)) }

func index(claims ...Claim) map[string]Claim {
	m := make(map[string]Claim, len(claims))
	for _, c := range claims {
		m[c.Name] = c
	}
	return m
}
