// Package run holds what an invocation did, as values shared by the rooms: a
// Run of Legs with the exchanges as they were, and its Record, the masked copy
// that is shown, printed as JSON and kept in the journal.
package run

import (
	"time"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/token"
	"tidycourier/core/wire"
)

// Kind is what a leg is for.
type Kind string

const (
	Discovery     Kind = "discovery"
	Authorization Kind = "authorization request"
	Landing       Kind = "authorization response"
	Token         Kind = "token request"
	Call          Kind = "call"
	Userinfo      Kind = "userinfo request"
	Keys          Kind = "key set request"
	Introspection Kind = "introspection request"
	Revocation    Kind = "revocation request"
	Pushed        Kind = "pushed authorization request"
	Device        Kind = "device authorization request"
)

// Leg is one step of a grant or call. A leg that is a request holds its
// Exchange; a redirect received holds its URL and Answer.
type Leg struct {
	N        int // from 1
	Kind     Kind
	Inbound  bool   // it came to us: a redirect received
	Unseen   bool   // only the answer is known, not what was sent
	Method   string // GET, POST
	URL      string
	Note     string // one line beside the rung, free of secrets
	Took     time.Duration
	At       time.Time
	Exchange *wire.Exchange
	Answer   *oauth.AuthorizationResponse // of a Landing leg
	Placed   string                       // the header the token went into, when not Authorization
}

// Status is the HTTP status of the answer, or 0.
func (l *Leg) Status() int {
	if l.Exchange == nil || l.Exchange.Response == nil {
		return 0
	}
	return l.Exchange.Response.Status
}

// Run is one invocation's legs.
type Run struct {
	N        int64 // given by the journal
	Command  string
	Project  string // key of the project in the state folder
	Stage    string
	Client   string
	Server   string
	Grant    string
	Detail   string // of the grant: "PKCE", "implicit"
	Call     string // name of the saved call, or METHOD URL
	Started  time.Time
	Legs     []Leg
	Token    *TokenView
	Findings []Finding
	Error    *Failure
}

// Failure is why a run did not succeed, in the shape of the --json contract.
type Failure struct {
	Kind        string `json:"kind"`
	Message     string `json:"message"`
	Code        string `json:"code,omitempty"`
	Description string `json:"description,omitempty"`
	Status      int    `json:"status,omitempty"`
	Where       string `json:"where"`
	Hint        string `json:"hint"`
}

// Certainty says how sure a finding is.
type Certainty string

const (
	Certain  Certainty = "certain"
	Likely   Certainty = "likely"
	Possible Certainty = "possible"
)

// Rank orders certainties, most certain first.
func (c Certainty) Rank() int {
	switch c {
	case Certain:
		return 0
	case Likely:
		return 1
	}
	return 2
}

// Finding is a named cause with its evidence and remedy.
type Finding struct {
	ID         string    `json:"id"`
	Leg        int       `json:"leg"` // 0 when it belongs to no leg
	Certainty  Certainty `json:"certainty"`
	Title      string    `json:"title"`
	Evidence   []Item    `json:"evidence"`
	Remedy     []string  `json:"remedy"`
	References []string  `json:"references"`
	Try        string    `json:"try,omitempty"`
	Note       bool      `json:"note,omitempty"` // worth knowing, nothing failed because of it
	Odd        bool      `json:"odd,omitempty"`  // of a note: an answer that departs from the standard, or gives less than was asked
}

// Item is one piece of evidence. Two items of a finding that are marked
// Compare are drawn one above the other.
type Item struct {
	What    string `json:"what"`
	Where   string `json:"where"`
	Value   string `json:"value"`
	Compare bool   `json:"compare,omitempty"`
}

// TokenView is a token set as it may be shown: no value, unless revealed.
type TokenView struct {
	TokenType string       `json:"token_type"`
	ExpiresIn *int64       `json:"expires_in"` // seconds, as the server said
	ExpiresAt *time.Time   `json:"expires_at"`
	Scope     []string     `json:"scope"`
	Access    *TokenDetail `json:"access_token"`
	Refresh   *TokenDetail `json:"refresh_token"`
	ID        *TokenDetail `json:"id_token"`
}

// TokenDetail describes one token.
type TokenDetail struct {
	Form        token.Form     `json:"form"`
	Fingerprint string         `json:"fingerprint"`
	Length      int            `json:"length"`
	Claims      map[string]any `json:"claims,omitempty"`
	Value       string         `json:"value,omitempty"` // only when revealed
}

// Detail describes a token without its value. An empty one is nil.
func Detail(raw string) *TokenDetail {
	if raw == "" {
		return nil
	}
	d := &TokenDetail{Form: token.Opaque, Fingerprint: mask.Fingerprint(raw), Length: len(raw)}
	if t, err := token.Decode(raw); err == nil {
		d.Form, d.Claims = t.Form, t.Claims
	}
	return d
}
