package cli_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/standin"
)

// realBrowser starts headless Chromium, or skips plainly; where BROWSER is
// "required" a skip is a failure.
func realBrowser(t *testing.T) context.Context {
	t.Helper()
	path := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if p, err := exec.LookPath(name); err == nil {
			path = p
			break
		}
	}
	if path == "" {
		if os.Getenv("BROWSER_TESTS") == "required" {
			t.Fatal("no Chromium, and BROWSER_TESTS is required")
		}
		t.Skip("SKIPPED: no Chromium on this machine")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.UserDataDir(t.TempDir()))
	alloc, cancel1 := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel2 := chromedp.NewContext(alloc)
	require.NoError(t, chromedp.Do(ctx))
	ctx, cancel3 := context.WithTimeout(ctx, 180*time.Second)
	t.Cleanup(func() { cancel3(); cancel2(); cancel1() })
	return ctx
}

// signInWith runs obtain and lets the browser do what steps say, from the
// address it printed on.
func (o *office) signInWith(ctx context.Context, flags []string, steps ...act) map[string]any {
	o.t.Helper()
	args := append([]string{"obtain", "pilot-desk", "--no-browser", "--redirect-uri", "http://127.0.0.1:0/landing", "--json", "--timeout", "90s"}, flags...)
	cmd := o.command(args...)
	var out bytes.Buffer
	cmd.Stdout = &out
	errs, err := cmd.StderrPipe()
	require.NoError(o.t, err)
	require.NoError(o.t, cmd.Start())
	lines := bufio.NewScanner(errs)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "http") {
			assert.NoError(o.t, chromedp.Do(ctx, append([]act{chromedp.Navigate(lines.Text())}, steps...)...))
		}
	}
	_ = cmd.Wait() // the document tells how it ended
	var doc map[string]any
	require.NoError(o.t, json.Unmarshal(out.Bytes(), &doc), out.String())
	return doc
}

// act is one thing the person does in the browser.
type act = chromedp.Action[chromedp.Void]

func signInAs(u standin.User) act {
	return chromedp.Steps(see("#u"), chromedp.SetValue(chromedp.CSS("#u"), u.Name), chromedp.SetValue(chromedp.CSS("#p"), u.Password), press("signin"))
}

func see(selector string) act { return chromedp.WaitVisible(chromedp.CSS(selector)) }

func press(value string) act { return chromedp.Click(chromedp.CSS("button[value=" + value + "]")) }

// landed waits until the page has a title.
func landed(title string) act {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		got := ""
		for range 400 {
			var err error
			if got, err = chromedp.Title()(ctx, t); err == nil && strings.HasPrefix(got, title) {
				return nil
			}
			time.Sleep(50 * time.Millisecond)
		}
		return fmt.Errorf("the page's title is %q, not %q", got, title)
	})
}

// TestRealBrowser drives the stand-in's pages and the landing page in Chromium:
// each way back, a refusal, and the back button after success.
func TestRealBrowser(t *testing.T) {
	ctx := realBrowser(t)
	o := newOffice(t, standin.ApprovePage)
	pilot := standin.Users()[0]

	doc := o.signInWith(ctx, []string{"--response-mode", "query"}, see("#u"), chromedp.SetValue(chromedp.CSS("#u"), pilot.Name), chromedp.SetValue(chromedp.CSS("#p"), "wrong"),
		press("signin"), see(".wrong"), signInAs(pilot), see("button[value=agree]"), press("agree"), landed("The answer has arrived"))
	assert.Nil(t, doc["error"])
	assert.NotNil(t, doc["token"])

	// back after success: nothing can be agreed to twice, and nothing breaks
	_, err := chromedp.Run(ctx, chromedp.Evaluate[bool]("history.back(), true"))
	require.NoError(t, err)
	require.NoError(t, chromedp.Do(ctx, chromedp.Sleep(500*time.Millisecond)))
	title, err := chromedp.Run(ctx, chromedp.Title())
	require.NoError(t, err)
	if strings.HasPrefix(title, "Agree") { // the browser kept the page: agreeing once more does nothing
		_, err = chromedp.Run(ctx, chromedp.Evaluate[bool](`document.querySelector("button[value=agree]").click(), true`))
		require.NoError(t, err)
	}
	require.NoError(t, chromedp.Do(ctx, landed("This page was used already")))

	// signed in and agreed by now: straight through, by script and by form
	for _, mode := range []string{"fragment", "form_post"} {
		doc = o.signInWith(ctx, []string{"--response-mode", mode}, landed("The answer has arrived"))
		assert.Nil(t, doc["error"], mode)
	}
	doc = o.signInWith(ctx, []string{"--response-type", "token", "--scope", "gauges.read"}, landed("The answer has arrived"))
	assert.Nil(t, doc["error"])
	address, err := chromedp.Run(ctx, chromedp.Location())
	require.NoError(t, err)
	assert.NotContains(t, address, "access_token", "the token does not stay in the address")

	doc = o.signInWith(ctx, []string{"--prompt", "consent"}, see("button[value=refuse]"), press("refuse"), landed("The server said no"))
	failure, _ := doc["error"].(map[string]any)
	assert.Equal(t, "access_denied", failure["code"])
}
