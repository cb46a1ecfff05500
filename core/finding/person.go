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
}
