package oauth

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
)

// Code challenge methods (RFC 7636 4.3); PKCENone sends no challenge at all.
const (
	PKCES256  = "S256"
	PKCEPlain = "plain"
	PKCENone  = "none"
)

// RandomText is n random bytes as unpadded base64url: 32 bytes give the 43
// characters that RFC 7636 4.1 recommends for a verifier, and serve for state
// and nonce as well.
func RandomText(random io.Reader, n int) (string, error) {
	raw := make([]byte, n)
	if _, err := io.ReadFull(random, raw); err != nil {
		return "", fmt.Errorf("no random bytes: %w", err)
	}
	return base64.RawURLEncoding.EncodeToString(raw), nil
}

// Challenge derives the code challenge of a verifier (RFC 7636 4.2).
func Challenge(method, verifier string) string {
	switch method {
	case PKCES256:
		sum := sha256.Sum256([]byte(verifier))
		return base64.RawURLEncoding.EncodeToString(sum[:])
	case PKCEPlain:
		return verifier
	}
	return ""
}

// CheckVerifier reports what is wrong with a code verifier: 43 to 128
// characters of A-Z a-z 0-9 - . _ ~ (RFC 7636 4.1).
func CheckVerifier(v string) error {
	if n := len(v); n < 43 || n > 128 {
		return fmt.Errorf("a code verifier has 43 to 128 characters, this one %d (RFC 7636 4.1)", n)
	}
	for _, r := range v {
		if !unreserved(r) {
			return fmt.Errorf("a code verifier has only letters, digits and - . _ ~, this one holds %q (RFC 7636 4.1)", r)
		}
	}
	return nil
}

func unreserved(r rune) bool {
	return r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' || r == '.' || r == '_' || r == '~'
}
