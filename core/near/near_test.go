package near

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestName(t *testing.T) {
	names := []string{"issuer", "token_endpoint", "scope", "stations", "stations-refused"}
	tests := map[string]string{
		"isuer":           "issuer",
		"issuer":          "issuer",
		"ISSUER":          "issuer",
		"sc0pe":           "scope",
		"socpe":           "scope",
		"token-endpoint":  "token_endpoint",
		"station":         "stations",
		"stations-refuse": "stations-refused",
		"harbour":         "",
		"x":               "",
		"":                "",
	}
	for typed, want := range tests {
		assert.Equal(t, want, Name(typed, names), typed)
	}
	assert.Empty(t, Name("anything", nil))
}

func TestBetween(t *testing.T) {
	tests := []struct {
		a, b string
		want int
	}{
		{"", "", 0}, {"", "abc", 3}, {"abc", "abc", 0}, {"abc", "acb", 1}, {"kitten", "sitting", 3}, {"ca", "abc", 3}, {"ü", "u", 1},
	}
	for _, tt := range tests {
		assert.Equal(t, tt.want, between(tt.a, tt.b), "%s %s", tt.a, tt.b)
		assert.Equal(t, tt.want, between(tt.b, tt.a), "%s %s", tt.b, tt.a)
	}
}
