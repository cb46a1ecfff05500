package shellwords

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSplit(t *testing.T) {
	tests := map[string][]string{
		"":                          nil,
		"  ":                        nil,
		"firefox --private-window":  {"firefox", "--private-window"},
		`open -a "My Browser"`:      {"open", "-a", "My Browser"},
		`a'b c'd`:                   {"ab cd"},
		`'it'\''s'`:                 {"it's"},
		`"a \"b\" \$x \n"`:          {`a "b" $x \n`},
		`a\ b c`:                    {"a b", "c"},
		`"" ''`:                     {"", ""},
		"tab\tand\nline":            {"tab", "and", "line"},
		`C:\\Programs\\browser.exe`: {`C:\Programs\browser.exe`},
		`trailing\`:                 {`trailing\`},
		"$HOME `date` *":            {"$HOME", "`date`", "*"},
	}
	for line, want := range tests {
		got, err := Split(line)
		require.NoError(t, err, line)
		assert.Equal(t, want, got, line)
	}
	for _, bad := range []string{`"open`, `it's`, `'`} {
		_, err := Split(bad)
		assert.ErrorIs(t, err, ErrQuote, bad)
	}
}
