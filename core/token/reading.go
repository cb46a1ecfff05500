package token

import (
	"slices"
	"strings"
)

// Kind is what a token is for, as far as it can be told.
type Kind string

const (
	AccessToken     Kind = "access token"
	IDToken         Kind = "id token"
	LogoutToken     Kind = "logout token"
	SecurityEvent   Kind = "security event token"
	ClientAssertion Kind = "client assertion"
	ProofToken      Kind = "proof of possession"
	UnknownKind     Kind = ""
)

// Answer is one of the four questions answered, and how one can tell.
type Answer struct {
	Text string `json:"text"` // "" when the token does not say
	Why  string `json:"why"`
}

// Reading answers the four questions people have of a token, before any table.
// Nothing in it is verified.
type Reading struct {
	Kind    Kind   `json:"kind"`
	KindWhy string `json:"kind_why,omitempty"`
	For     Answer `json:"for"`   // who it is for
	About   Answer `json:"about"` // who it is about: a person or an application
	May     Answer `json:"may"`   // what it may do
	From    Answer `json:"from"`  // who issued it
	// Person is true for a person, false for an application; nil when it cannot
	// be told.
	Person *bool `json:"person,omitempty"`
}

// ClientID is the client a token was issued to, by the name its server uses for
// that, and the name; "" when it does not say.
func (t *Token) ClientID() (id, claim string) {
	for _, name := range []string{"client_id", "azp", "appid", "cid"} {
		if s := t.Text(name); s != "" {
			return s, name
		}
	}
	return "", ""
}

// Read answers the four questions. A token without claims answers none.
func (t *Token) Read() Reading {
	var r Reading
	if t.Claims == nil {
		return r
	}
	r.Kind, r.KindWhy = t.kind()
	if aud := t.Audience(); len(aud) > 0 {
		r.For = Answer{strings.Join(aud, ", "), "aud"}
	} else {
		r.For.Why = "it has no aud: any API may take it for its own (RFC 9068 2.2 requires one)"
	}
	r.about(t)
	r.may(t)
	if iss := t.Text("iss"); iss != "" {
		r.From = Answer{iss, "iss"}
		if id, claim := t.ClientID(); id != "" {
			r.From.Why = "iss; to the client " + id + " (" + claim + ")"
		}
	} else {
		r.From.Why = "it has no iss"
	}
	return r
}

// kind tells what a token is for by typ first (RFC 8725 3.11), then by the
// claims only one kind has.
func (t *Token) kind() (Kind, string) {
	byType := map[string]Kind{"at+jwt": AccessToken, "secevent+jwt": SecurityEvent, "logout+jwt": LogoutToken, "dpop+jwt": ProofToken, "client-authentication+jwt": ClientAssertion}
	if k, known := byType[t.Type()]; known {
		return k, "typ is " + t.Type()
	}
	has := func(name string) bool { _, there := t.Claims[name]; return there }
	client, claim := t.ClientID()
	switch {
	case has("htm") && has("htu"):
		return ProofToken, "it has htm and htu"
	case has("events") && (has("sid") || has("sub")):
		return LogoutToken, "it has events with sid or sub"
	case has("events"):
		return SecurityEvent, "it has events"
	case has("nonce") || has("at_hash") || has("c_hash"):
		for _, name := range []string{"nonce", "at_hash", "c_hash"} {
			if has(name) {
				return IDToken, "it has " + name
			}
		}
	case len(t.Scope()) > 0:
		return AccessToken, "it has scope"
	case client != "" && slices.Equal(t.Audience(), []string{client}):
		return IDToken, "its audience is the client itself (" + claim + ")"
	case t.Text("iss") != "" && t.Text("iss") == t.Text("sub") && has("aud"):
		return ClientAssertion, "iss and sub are the same"
	case len(t.Roles()) > 0:
		return AccessToken, "it has roles"
	case has("auth_time") && !has("scope"):
		return IDToken, "it has auth_time and no scope"
	}
	return UnknownKind, ""
}

// personal are claims that only a person's token has.
var personal = []string{"auth_time", "acr", "amr", "nonce", "at_hash", "preferred_username", "upn", "email", "name", "given_name", "family_name", "phone_number", "sid"}

func (r *Reading) about(t *Token) {
	yes, no := true, false
	sub := t.Text("sub")
	client, claim := t.ClientID()
	name := sub
	for _, c := range []string{"preferred_username", "upn", "email", "name"} {
		if s := t.Text(c); s != "" && s != sub {
			name = strings.TrimPrefix(sub+" ("+s+")", " ")
			break
		}
	}
	switch {
	case sub != "" && sub == client:
		r.Person, r.About = &no, Answer{sub + ", an application", "sub is the client itself (" + claim + ")"}
	case has(t, personal) != "":
		r.Person, r.About = &yes, Answer{name + ", a person", "it has " + has(t, personal)}
	case r.Kind == IDToken:
		r.Person, r.About = &yes, Answer{name + ", a person", "id tokens are about people"}
	case len(t.Scope()) == 0 && len(t.Roles()) > 0:
		r.Person, r.About = &no, Answer{name + ", an application by the look of it", "it has roles and no scope"}
	case sub == "" && client != "":
		r.Person, r.About = &no, Answer{client + ", an application by the look of it", "it has no sub, only " + claim}
	case sub == "":
		r.About.Why = "it has no sub"
	default:
		r.About = Answer{sub, "sub; a person or an application, the token does not tell"}
	}
	if act, ok := t.Claims["act"].(map[string]any); ok {
		if actor, _ := act["sub"].(string); actor != "" {
			r.About.Text += ", with " + actor + " acting"
			r.About.Why += "; act (RFC 8693 4.1)"
		}
	}
}

func has(t *Token, names []string) string {
	for _, n := range names {
		if v, there := t.Claims[n]; there && v != nil && v != "" {
			return n
		}
	}
	return ""
}

func (r *Reading) may(t *Token) {
	var parts, why []string
	if scope := t.Scope(); len(scope) > 0 {
		parts, why = append(parts, strings.Join(scope, " ")), append(why, scopeClaim(t))
	}
	for _, c := range []struct{ claim, word string }{{"roles", "roles"}, {"groups", "groups"}, {"entitlements", "entitlements"}, {"permissions", "permissions"}} {
		if list := t.List(c.claim); len(list) > 0 {
			parts, why = append(parts, c.word+" "+strings.Join(list, " ")), append(why, c.claim)
		}
	}
	if _, there := t.Claims["authorization_details"]; there {
		parts, why = append(parts, "what authorization_details lists"), append(why, "RFC 9396")
	}
	if len(parts) > 0 {
		r.May = Answer{strings.Join(parts, " · "), strings.Join(why, ", ")}
		return
	}
	r.May.Why = "it has neither scope nor roles: what it may do, only the API knows"
	if r.Kind == IDToken {
		r.May.Why = "an id token says who signed in; it opens nothing"
	}
}

func scopeClaim(t *Token) string {
	if len(t.List("scope")) > 0 {
		return "scope"
	}
	return "scp"
}
