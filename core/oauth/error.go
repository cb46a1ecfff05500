package oauth

// Error codes of RFC 6749 4.1.2.1 and 5.2, and of OpenID Connect Core 3.1.2.6.
const (
	ErrInvalidRequest          = "invalid_request"
	ErrInvalidClient           = "invalid_client"
	ErrInvalidGrant            = "invalid_grant"
	ErrUnauthorizedClient      = "unauthorized_client"
	ErrUnsupportedGrantType    = "unsupported_grant_type"
	ErrInvalidScope            = "invalid_scope"
	ErrAccessDenied            = "access_denied"
	ErrUnsupportedResponseType = "unsupported_response_type"
	ErrServerError             = "server_error"
	ErrTemporarilyUnavailable  = "temporarily_unavailable"
	ErrLoginRequired           = "login_required"
	ErrConsentRequired         = "consent_required"
	ErrInteractionRequired     = "interaction_required"
	ErrAccountSelection        = "account_selection_required"
)

// Error is an error response, from the token endpoint or in a redirect.
type Error struct {
	Code        string `json:"error"`
	Description string `json:"error_description,omitempty"`
	URI         string `json:"error_uri,omitempty"`
	Status      int    `json:"-"` // HTTP status; 0 when it came in a redirect
}

func (e *Error) Error() string {
	text := e.Code
	if e.Description != "" {
		text += ": " + e.Description
	}
	return text
}
