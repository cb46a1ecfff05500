package finding

import (
	"time"

	"tidycourier/core/oauth"
)

// Person is what is known of a grant with a person.
type Person struct {
	Request  *oauth.AuthorizationRequest
	Response *oauth.AuthorizationResponse
	Verifier string
	At       time.Time     // when the request was made
	Pasted   string        // what was pasted, as it was
	Resumed  bool          // the code comes from an earlier invocation
	TimedOut time.Duration // how long was waited in vain
	Strays   []string      // requests that arrived and were no answer

	// Of a request that somebody else's record holds:
	Unasked  bool                         // only the answer is known
	Landed   time.Time                    // when the answer arrived
	Foretold *oauth.AuthorizationResponse // the answer as the redirect to it had it
	OwnPage  *oauth.Error                 // what the server's own error page was called with
}

// Code is the code that came, or that was on its way.
func (p *Person) Code() string {
	switch {
	case p.Response != nil && p.Response.Code != "":
		return p.Response.Code
	case p.Foretold != nil:
		return p.Foretold.Code
	}
	return ""
}
