package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"github.com/cli/browser"
	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/landing"
	"tidycourier/core/project"
	"tidycourier/core/shellwords"
	"tidycourier/show"
)

// personFlags are how a grant reaches the person who signs in.
type personFlags struct {
	browser, prompt, until, code             string
	noBrowser, paste, dryRun, step, newLogin bool
}

func (f *personFlags) add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringVar(&f.browser, "browser", "", "open this `command` with the URL as its last argument")
	fl.BoolVar(&f.noBrowser, "no-browser", false, "open no browser: print the URL alone on a line")
	fl.BoolVar(&f.paste, "paste", false, "take the answer pasted on standard input: the redirect URL, its query, or the code")
	fl.BoolVar(&f.dryRun, "dry-run", false, "show the request with every parameter and where it came from; send nothing but the look-up of metadata")
	fl.BoolVar(&f.step, "step", false, "wait for Enter before each leg")
	fl.StringVar(&f.until, "until", "", "stop with the `code` in hand")
	fl.StringVar(&f.code, "code", "", "go on from the code that --until code left, or from --code=CODE, or --code=- on standard input")
	fl.Lookup("code").NoOptDefVal = flow.HeldCode
	fl.BoolVar(&f.newLogin, "fresh-login", false, "have the person sign in again (prompt=login)")
	fl.StringVar(&f.prompt, "prompt", "", "none, login, consent or select_account")
	_ = cmd.RegisterFlagCompletionFunc("prompt", cobra.FixedCompletions([]string{"none", "login", "consent", "select_account"}, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
}

// check refuses flags that contradict each other.
func (f *personFlags) check(a *app, c *project.Client) error {
	if f.until != "" && f.until != "code" {
		return fault.New(fault.Usage, "%q is not a place to stop at", f.until).At("--until").Hint("--until code")
	}
	if f.step && c.Grant.Value == "authorization_code" && !isTerminal(a.In) {
		return fault.New(fault.Usage, "--step waits for Enter, and there is no terminal to press it at").At("--step").Hint("leave it out; --dry-run shows the request without sending it")
	}
	if f.paste && f.code != "" {
		return fault.New(fault.Usage, "--paste and --code both bring the answer").At("--paste").Hint("give one of them")
	}
	if c.Grant.Value == "authorization_code" {
		return nil
	}
	for name, set := range map[string]bool{"--paste": f.paste, "--until": f.until != "", "--code": f.code != "", "--prompt": f.prompt != "", "--fresh-login": f.newLogin, "--browser": f.browser != "", "--step": f.step} {
		if set {
			return fault.New(fault.Usage, "%s is for grants with a person, and %s uses %s", name, c.Name, c.Grant.Value).At(name).Hint("leave it out")
		}
	}
	return nil
}

// person makes the flow's view of the person.
func (a *app) person(f *personFlags) (*flow.Person, error) {
	who := &flow.Person{Prompt: f.prompt, UntilCode: f.until != "", Code: f.code, Patience: a.g.timeout, Say: func(s string) { a.say("    %s", show.Safe(s)) }}
	if f.newLogin {
		who.Prompt = strings.TrimSpace("login " + f.prompt)
	}
	if f.code == "-" {
		raw, err := a.readInput(64 << 10)
		if err != nil {
			return nil, err
		}
		who.Code = strings.TrimSpace(string(raw))
	}
	who.Open = func(url string) (string, error) { return a.openBrowser(f, url) }
	if f.paste {
		who.Paste = a.paste
	} else {
		who.Waiting = a.countdown
	}
	if f.step {
		in := bufio.NewReader(a.In)
		who.Step = func(what string) error {
			fmt.Fprintf(a.Err, "    next: %s  [Enter] ", what)
			if _, err := in.ReadString('\n'); err != nil {
				return fault.New(fault.Interrupted, "stopped before the %s", what)
			}
			return nil
		}
	}
	return who, nil
}

// openBrowser opens the URL, or prints it alone on a line so that it can be
// copied. The note is what the rung says.
func (a *app) openBrowser(f *personFlags, url string) (string, error) {
	tell := func() {
		if !f.paste {
			a.say("    open this address in a browser:")
		} else {
			a.say("    open this address, sign in, and paste the address the browser ends up at:")
		}
		fmt.Fprintln(a.Err, show.Safe(url)) // also with --quiet and --json: without it nobody could go on
	}
	switch {
	case a.visit != nil:
		return "followed by the demo", a.visit(url)
	case f.browser != "":
		words, err := shellwords.Split(f.browser)
		if err != nil || len(words) == 0 {
			return "", fault.New(fault.Usage, "%q is not a command", f.browser).At("--browser")
		}
		cmd := exec.Command(words[0], append(words[1:], url)...)
		cmd.Stderr = a.Err
		if err := cmd.Start(); err != nil {
			return "", fault.Wrap(fault.Usage, err, "the browser could not be started").At("--browser").Hint("--no-browser prints the address instead")
		}
		go func() { _ = cmd.Wait() }() // only so that it leaves no zombie
		return "opened with " + words[0], nil
	case f.noBrowser || f.paste || !a.hasDisplay():
		tell()
		return "address printed", nil
	}
	browser.Stdout, browser.Stderr = io.Discard, io.Discard
	if err := browser.OpenURL(url); err != nil {
		tell()
		return "no browser could be opened", nil
	}
	return "browser opened", nil
}

// hasDisplay tells whether opening a browser makes sense.
func (a *app) hasDisplay() bool {
	if runtime.GOOS == "darwin" || runtime.GOOS == "windows" {
		return true
	}
	return a.getenv("DISPLAY") != "" || a.getenv("WAYLAND_DISPLAY") != "" || a.getenv("BROWSER") != ""
}

// paste reads the pasted answer: one line.
func (a *app) paste(ctx context.Context) (string, error) {
	if isTerminal(a.In) {
		fmt.Fprint(a.Err, "    paste here: ")
	}
	type line struct {
		text string
		err  error
	}
	read := make(chan line, 1)
	go func() {
		text, err := bufio.NewReader(io.LimitReader(a.In, 64<<10)).ReadString('\n')
		read <- line{text, err}
	}()
	select {
	case l := <-read:
		if l.err != nil && strings.TrimSpace(l.text) == "" {
			return "", fault.New(fault.Usage, "nothing was pasted on standard input").At("--paste").Hint("paste the whole address the browser ends up at")
		}
		return l.text, nil
	case <-ctx.Done():
		return "", fault.New(fault.Interrupted, "stopped while waiting for the answer")
	}
}

// countdown shows on a terminal how long the answer is still waited for.
func (a *app) countdown(until time.Time) func() {
	f, ok := a.Err.(*os.File)
	if !ok || !isTerminal(f) || a.g.quiet {
		return func() {}
	}
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for {
			left := time.Until(until).Round(time.Second)
			fmt.Fprintf(f, "\r    waiting for the answer  %d:%02d ", int(left.Minutes()), int(left.Seconds())%60)
			select {
			case <-done:
				fmt.Fprint(f, "\r\033[K")
				return
			case <-tick.C:
			}
		}
	}()
	return func() { close(done); <-gone }
}

// dryRunGrant shows what the first leg would send.
func (a *app) dryRunGrant(ctx context.Context, e *flow.Engine, c *project.Client, f *personFlags) error {
	s := e.Begin("obtain")
	who, err := a.person(f)
	if err != nil {
		return err
	}
	plan, err := s.PlanGrant(ctx, c, who)
	if err != nil {
		_ = s.Finish(err) // for its findings; the error is the same
		a.explain(s)
		return err
	}
	a.doc = map[string]any{"client": c.Name, "leg": plan.Leg, "method": plan.Method, "url": plan.URL, "parameters": plan.Params, "headers": plan.Header, "sent": false}
	if a.g.json {
		return nil
	}
	a.outPen().Plan(plan)
	if c.Grant.Value == "authorization_code" && !f.paste {
		if err := landing.Listenable(c.RedirectURI.Value); err != nil {
			a.say("the redirect cannot be received here (%s): use --paste", err)
		}
	}
	a.say("nothing was sent")
	return nil
}
