package cli_test

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/cli"
)

// attack is what a hostile server puts wherever it can: script, markup, terminal
// control and text that turns round.
const attack = `<script>window.hit=1</script>"><img src=x onerror="window.hit=2"><svg onload=window.hit=3>` + "\x1b]0;hit\x07\x1b[2J\u202e\u2066"

// TestTheCaseFileIsHarmless opens the case file of a run with a hostile server
// in a real browser: nothing of it is run or loaded, and what it looked like is
// there as text.
func TestTheCaseFileIsHarmless(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("X-Hint", `"><img src=x onerror="window.hit=4">`)
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprintf(w, `{"error":"invalid_client</pre><script>window.hit=5</script>","error_description":%q}`, strings.NewReplacer("\x1b", "", "\x07", "").Replace(attack))
	}))
	defer srv.Close()
	dir := t.TempDir()
	var out bytes.Buffer
	env := map[string]string{"TIDY_COURIER_KEYRING": "off", "TIDY_COURIER_STATE": filepath.Join(dir, "state"), "S": "a-secret-of-nobody"}
	run := func(args ...string) int {
		return cli.Main(args, cli.Surroundings{In: strings.NewReader(""), Out: &out, Err: &out, Env: func(n string) (string, bool) { v, ok := env[n]; return v, ok }, Dir: dir, Now: time.Now})
	}
	assert.Equal(t, 5, run("obtain", "--token-endpoint", srv.URL+"/token", "--client-id", "<b onclick=window.hit=6>job", "--grant", "client_credentials", "--secret-env", "S", "--auth-method", "client_secret_basic"))
	require.Equal(t, 0, run("journal", "export", "--case", "case.html", "--note", attack), out.String())
	run("explain")
	run("journal", "show", "--full")
	for _, c := range []string{"\x1b", "\x07", "\u202e", "\u2066"} {
		assert.NotContains(t, out.String(), c, "nothing from a server reaches the terminal as it came")
	}
	page, err := os.ReadFile(filepath.Join(dir, "case.html"))
	require.NoError(t, err)
	assert.NotContains(t, string(page), "<script")
	assert.NotContains(t, string(page), "<img")
	assert.NotContains(t, string(page), "\u202e")

	ctx := realBrowser(t)
	require.NoError(t, chromedp.Do(ctx, chromedp.Navigate("file://"+filepath.Join(dir, "case.html"))))
	for check, want := range map[string]any{
		`window.hit === undefined`: true,
		`document.querySelectorAll("script,img,iframe,link,object,svg[onload]").length === 0`:      true,
		`performance.getEntriesByType("resource").length === 0`:                                    true,
		`document.querySelector("svg.ladder text.bad") !== null`:                                   true,
		`document.body.innerText.includes("onerror=")`:                                             true,
		`document.documentElement.scrollWidth <= window.innerWidth`:                                true,
		`[...document.querySelectorAll("blockquote")].some(b => b.innerText.includes("<script>"))`: true,
	} {
		got, err := chromedp.Run(ctx, chromedp.Evaluate[bool](check))
		require.NoError(t, err)
		assert.Equal(t, want, got, check)
	}
	// the document may run no script even when one gets in
	got, err := chromedp.Run(ctx, chromedp.Evaluate[bool](`(() => { const s = document.createElement("script"); s.textContent = "window.hit=7"; document.body.append(s); return window.hit === undefined })()`))
	require.NoError(t, err)
	assert.True(t, got, "the content security policy holds")
}
