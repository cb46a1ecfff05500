package finding_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/exhibit"
	"tidycourier/core/finding"
	"tidycourier/core/project"
)

// folder holds the corpus: one folder a case, with the exchange as a HAR, the
// settings when it is judged with some, and the cause it must name first.
const folder = "../../testdata/corpus"

// named is one case, judged.
type named struct {
	id, want, source string
	causes           []string // what was found, surest first; notes that depart from no standard aside
}

func judgeCase(t *testing.T, dir string) named {
	t.Helper()
	var about struct{ Cause, Client, Source string }
	raw, err := os.ReadFile(filepath.Join(dir, "case.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(raw, &about), dir)
	s := exhibit.Settings{}
	if about.Client != "" {
		p, err := project.Open(filepath.Join(dir, "courier.yaml"), project.Options{WorkDir: dir})
		require.NoError(t, err, dir)
		s.Client, err = p.Client(about.Client)
		require.NoError(t, err, dir)
		if s.Client.Secret != nil {
			s.Secret, err = p.Read(context.Background(), s.Client.Secret, nil)
			require.NoError(t, err, dir)
		}
	}
	f, err := os.Open(filepath.Join(dir, "exchange.har"))
	require.NoError(t, err)
	defer f.Close()
	b, _, err := exhibit.ReadHAR(f, s)
	require.NoError(t, err, dir)
	out := named{id: filepath.Base(dir), want: about.Cause, source: about.Source}
	for _, found := range b.Judge() {
		if !found.Note || found.Odd {
			out.causes = append(out.causes, found.ID)
		}
	}
	return out
}

// TestCorpus measures the rules on recorded exchanges.
func TestCorpus(t *testing.T) {
	dirs, err := filepath.Glob(filepath.Join(folder, "*"))
	require.NoError(t, err)
	first, third, failing, healthy, alarms, fromReal := 0, 0, 0, 0, 0, 0
	confused := map[string]int{}
	for _, dir := range dirs {
		c := judgeCase(t, dir)
		if c.want == "" {
			healthy++
			if len(c.causes) > 0 {
				alarms++
				t.Logf("false alarm: %s: %v", c.id, c.causes)
			}
			continue
		}
		_, known := finding.Lookup(c.want)
		require.True(t, known, "%s wants %s, which is no finding", c.id, c.want)
		failing++
		if c.source == "real" {
			fromReal++
		}
		switch i := slices.Index(c.causes, c.want); {
		case i == 0:
			first, third = first+1, third+1
			continue
		case i > 0 && i < 3:
			third++
		}
		confused[fmt.Sprintf("%-45s wanted %-40s got %v", c.id, c.want, c.causes)]++
	}
	lines := make([]string, 0, len(confused))
	for line := range confused {
		lines = append(lines, line)
	}
	sort.Strings(lines)
	for _, line := range lines {
		t.Log(line)
	}
	t.Logf("%d failing cases, %d of them from a real server; %d healthy runs", failing, fromReal, healthy)
	t.Logf("named first: %.1f%%   among the first three: %.1f%%   false alarms: %d", percent(first, failing), percent(third, failing), alarms)
	assert.GreaterOrEqual(t, failing, 120)
	assert.GreaterOrEqual(t, fromReal, 60)
	assert.GreaterOrEqual(t, healthy, 40)
	assert.GreaterOrEqual(t, percent(first, failing), 97.0)
	assert.Zero(t, alarms)
}

func percent(n, of int) float64 { return 100 * float64(n) / float64(max(of, 1)) }
