package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/shellwords"
	"tidycourier/standin"
)

// step is one command of the demo, with what is worth knowing before it.
type step struct {
	say    string
	args   string
	env    map[string]string
	status int  // the exit status it should have
	person bool // a person signs in
}

// demoSteps is the story: @HOST@ is the stand-in's address.
var demoSteps = []step{
	{say: "Where are the endpoints? The server describes itself.", args: "discover @HOST@"},
	{say: "Call the API without a token first, to see it refuse, and how the refusal is explained.", args: "call GET /stations --api gauges --bare", status: 6},
	{say: "Run the job's grant: client credentials. Every leg is a rung; tokens show as fingerprints.", args: "obtain nightly-forecast"},
	{say: "What is in the token? Each claim with its meaning.", args: "decode --client nightly-forecast"},
	{say: "Now the call works. The token comes out of the pouch by itself.", args: "call stations --pick '$.stations[*].name'"},
	{say: "A header is missing: the API's words and the request together tell which.", args: "call GET @HOST@/api/stations --client nightly-forecast", status: 6},
	{say: "A wrong secret. (NIGHTLY_SECRET is overridden for this one command, with a newline at its end.)", args: "obtain nightly-forecast",
		env: map[string]string{"NIGHTLY_SECRET": "nf-9Qx2+Lw7/Tide~41=%\n"}, status: 5},
	{say: "Not enough scope: the API names the one that is lacking.", args: "call POST /notices --api gauges --body '{\"text\":\"Quay closed\"}'", status: 6},
	{say: "Now a person signs in: authorization code with PKCE. (The demo lets the account pilot agree by itself; the browser is left out.)",
		args: "obtain pilot-desk --redirect-uri http://127.0.0.1:0/landing", person: true},
	{say: "The same call with two tokens. The pilot's token sees the pilot's harbours…", args: "call GET /harbours --api gauges --client pilot-desk --pick '$.harbours[*].name'"},
	{say: "…and the job's token sees them all: delegated against application.", args: "call GET /harbours --api gauges --client nightly-forecast --pick '$.harbours[*].name'"},
	{say: "Refresh: the old refresh token is spent, the new set is on disk before you see it.", args: "refresh pilot-desk"},
	{say: "Every run is in the journal, without secrets.", args: "journal list"},
}

func (a *app) demoCommand() *cobra.Command {
	var keep string
	var pause bool
	cmd := &cobra.Command{
		Use: "demo", Short: "Run the whole story on the simulated provider, with commentary",
		Long: `Starts the stand-in on a free port, makes a project in a temporary folder, and runs
the story of an integration: find the endpoints, be refused, obtain a token, read
it, call the API, and see failures explained. Needs no network and no account.`,
		Example: "  tidy-courier demo\n  tidy-courier demo --keep tides --pause",
		Args:    takes(0, 0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.demo(cmd.Context(), keep, pause)
		},
	}
	cmd.Flags().StringVar(&keep, "keep", "", "leave the project in this `folder`")
	cmd.Flags().BoolVar(&pause, "pause", false, "wait for Enter between steps")
	return cmd
}

func (a *app) demo(ctx context.Context, keep string, pause bool) error {
	dir, err := os.MkdirTemp("", "tidy-courier-demo-")
	if err != nil {
		return fault.Wrap(fault.Settings, err, "no temporary folder for the demo")
	}
	defer os.RemoveAll(dir)
	home := dir
	if keep != "" {
		home = a.path(keep)
	}
	flags := &standinFlags{listen: "127.0.0.1:0", approve: standin.ApproveAuto, asUser: "pilot"}
	s, l, _, err := a.openStandin(flags)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	served := make(chan error, 1)
	go func() { served <- serve(ctx, s.Handler(), l) }()
	defer func() { stop(); <-served }()
	if err := a.writeStandinProject(s, home, nil); err != nil {
		return err
	}
	pen := a.outPen()
	pen.Story("Northmark Tide Office", "A made-up provider now runs at "+s.Issuer()+", and a project for it is in "+a.relative(home)+".")
	for i, st := range demoSteps {
		st.args = strings.ReplaceAll(st.args, "@HOST@", s.Issuer())
		pen.Step(i+1, st.say, st.line())
		if status := a.demoStep(ctx, st, home, filepath.Join(dir, "state")); status != st.status {
			return fault.New(fault.Internal, "step %d of the demo ended with status %d in place of %d", i+1, status, st.status)
		}
		if pause && isTerminal(a.In) {
			fmt.Fprint(a.Err, "\n[Enter] ")
			_, _ = bufio.NewReader(a.In).ReadString('\n') // end of input goes on as well
		}
	}
	if keep != "" {
		pen.Story("The project stays", "Its courier file is "+filepath.Join(a.relative(home), "courier.yaml")+". Its server has gone with the demo; start one with: tidy-courier standin --project "+keep)
		return nil
	}
	pen.Story("That was it", "tidy-courier standin --project tides serves the same provider for as long as you like; tidy-courier init begins a project of your own.")
	return nil
}

// visit is the demo's stand-in for a browser: it follows the redirects, and the
// page it ends up at is not shown.
func visit(url string) error {
	go func() {
		if resp, err := http.Get(url); err == nil {
			_ = resp.Body.Close()
		}
	}()
	return nil
}

// line is the command as a person would type it.
func (st step) line() string {
	prefix := ""
	for name, v := range st.env {
		prefix += name + "=$'" + strings.ReplaceAll(v, "\n", `\n`) + "' "
	}
	return prefix + "tidy-courier " + st.args
}

// demoStep runs a command as its own invocation in the project's folder.
func (a *app) demoStep(ctx context.Context, st step, dir, state string) int {
	sur := a.Surroundings
	sur.Dir, sur.Err = dir, sur.Out // one story, in one order
	sur.Env = func(name string) (string, bool) {
		if v, ok := st.env[name]; ok {
			return v, true
		}
		switch {
		case name == "TIDY_COURIER_STATE":
			return state, true
		case name == "TIDY_COURIER_KEYRING":
			return "off", true // a key that is thrown away has no business in a keyring
		case strings.HasPrefix(name, "TIDY_COURIER_") || strings.HasSuffix(name, "_SECRET"):
			return "", false
		}
		return a.Env(name)
	}
	args, err := shellwords.Split(st.args)
	if err != nil {
		return 1
	}
	if st.person {
		sur.visit = visit
	}
	if a.g.noColor {
		args = append(args, "--no-color")
	}
	return mainWith(ctx, args, sur)
}
