package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/finding"
	"tidycourier/core/project"
)

// TestDocsAreCurrent holds the generated parts of docs/ against the tables they
// are made from. UPDATE_DOCS=1 go test ./cli -run Docs writes them anew.
func TestDocsAreCurrent(t *testing.T) {
	generated(t, "courier-file.md", fieldReference())
	generated(t, "findings.md", findingReference())
}

const begin, end = "<!-- generated: begin -->\n", "<!-- generated: end -->\n"

func generated(t *testing.T, name, want string) {
	path := filepath.Join("..", "docs", name)
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(raw), begin)
	require.True(t, ok, "%s has no generated part", name)
	have, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	if os.Getenv("UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile(path, []byte(head+begin+want+end+tail), 0o644))
		return
	}
	assert.Equal(t, want, have, "%s is not current: UPDATE_DOCS=1 go test ./cli -run Docs", name)
}

func fieldReference() string {
	var b strings.Builder
	section := ""
	for _, f := range project.Reference() {
		if f.Section != section {
			section = f.Section
			fmt.Fprintf(&b, "\n### %s\n\n| key | value | meaning |\n|---|---|---|\n", section)
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", f.Name, f.Kind, f.Doc)
	}
	return b.String() + "\n"
}

func findingReference() string {
	var b strings.Builder
	for _, id := range finding.IDs() {
		r, _ := finding.Lookup(id)
		fmt.Fprintf(&b, "\n### %s\n\n**%s.** %s\n\n*How it is proved:* %s\n\n", r.ID, r.Title, r.Meaning, r.Proof)
		for _, m := range r.Remedy {
			fmt.Fprintf(&b, "- %s\n", m)
		}
		if r.Try.Command != "" {
			fmt.Fprintf(&b, "\n*How to be sure:* `%s` (%s)\n", r.Try.Command, r.Try.Tells)
		}
		if len(r.References) > 0 {
			fmt.Fprintf(&b, "\n%s\n", strings.Join(r.References, " · "))
		}
	}
	return b.String() + "\n"
}

// TestReadmeLinksEveryPicture keeps pictures and README together.
func TestReadmeLinksEveryPicture(t *testing.T) {
	readme, err := os.ReadFile(filepath.Join("..", "README.md"))
	require.NoError(t, err)
	pictures, err := filepath.Glob(filepath.Join("..", "docs", "screenshots", "*.png"))
	require.NoError(t, err)
	assert.NotEmpty(t, pictures)
	assert.Less(t, len(pictures), 20)
	for _, p := range pictures {
		assert.Contains(t, string(readme), "docs/screenshots/"+filepath.Base(p))
	}
}
