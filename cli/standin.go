package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/project"
	"tidycourier/show"
	"tidycourier/standin"
)

var approvals = []string{standin.ApprovePage, standin.ApproveAuto, standin.ApproveDeny}

// standinFlags are how the stand-in is served.
type standinFlags struct {
	listen, project string
	approve, asUser string
	faults          []string
	tls             bool
	rotate          time.Duration
	replay          string
}

func (a *app) standinCommand() *cobra.Command {
	var f standinFlags
	cmd := &cobra.Command{
		Use: "standin", Short: "Serve the simulated provider until stopped",
		Long: `Serves the Northmark Tide Office, a small made-up provider: an authorization
server and an API of tide gauges, on loopback. --project DIR writes a courier file
and a .env for this very server. --fault switches on what real providers do wrong:
` + wrapNames(standin.FaultNames()) + `.

--replay FILE serves a record (HAR 1.2) in place of the Tide Office: it answers as
the recorded provider did, so that a failure seen once can be had again offline. A
request is matched by its leg and parameters; one that was not recorded is answered
501 with what differs. Addresses of the record lead here.`,
		Example: `  tidy-courier standin --project tides
  tidy-courier standin --listen 127.0.0.1:0 --json --fault token-html
  tidy-courier standin --replay recorded.har --listen 127.0.0.1:8655`,
		Args: takes(0, 0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.replay != "" {
				return a.replay(cmd, &f)
			}
			s, l, ca, err := a.openStandin(&f)
			if err != nil {
				return err
			}
			if f.project != "" {
				if err := a.writeStandinProject(s, f.project, ca); err != nil {
					_ = l.Close()
					return err
				}
			}
			if err := a.announce(s, &f, ca); err != nil {
				return err
			}
			if f.rotate > 0 {
				go rotate(cmd.Context(), s, f.rotate)
			}
			return serve(cmd.Context(), s.Handler(), l)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.listen, "listen", "127.0.0.1:8650", "`host:port` to listen at, on loopback; port 0 takes any")
	fl.StringVar(&f.project, "project", "", "write a courier file and a .env for this server into this `folder`")
	fl.StringArrayVar(&f.faults, "fault", nil, "a `fault` to switch on; may be repeated")
	fl.StringVar(&f.approve, "approve", standin.ApprovePage, "who answers the sign-in and consent pages: page, auto or deny")
	fl.StringVar(&f.asUser, "as-user", "pilot", "with --approve auto: the `account` that signs in")
	_ = cmd.RegisterFlagCompletionFunc("approve", cobra.FixedCompletions(approvals, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	fl.DurationVar(&f.rotate, "rotate-keys", 0, "new signing keys each time this long has passed, as 10m; the ones before them stay one turn more")
	fl.StringVar(&f.replay, "replay", "", "answer as the provider recorded in this `file` did (HAR 1.2)")
	fl.BoolVar(&f.tls, "tls", false, "serve https, with an authority of its own")
	_ = cmd.RegisterFlagCompletionFunc("fault", cobra.FixedCompletions(standin.FaultNames(), cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	return cmd
}

// rotate makes new signing keys from time to time.
func rotate(ctx context.Context, s *standin.Server, every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if s.RotateKeys() != nil {
				return // there is no randomness left; the keys stay
			}
		case <-ctx.Done():
			return
		}
	}
}

// wrapNames lays names out in lines of a help text.
func wrapNames(names []string) string {
	var b strings.Builder
	line := 0
	for i, n := range names {
		if line+len(n) > 76 {
			b.WriteByte('\n')
			line = 0
		}
		b.WriteString(n)
		line += len(n)
		if i < len(names)-1 {
			b.WriteString(", ")
			line += 2
		}
	}
	return b.String()
}

// openStandin listens, and makes the server for the address it got.
func (a *app) openStandin(f *standinFlags) (*standin.Server, net.Listener, []byte, error) {
	if !slices.Contains(approvals, f.approve) {
		return nil, nil, nil, fault.New(fault.Usage, "%q is not one of %s", f.approve, strings.Join(approvals, ", ")).At("--approve")
	}
	l, host, err := listenAt(f.listen)
	if err != nil {
		return nil, nil, nil, err
	}
	issuer := "http://" + l.Addr().String()
	var ca []byte
	if f.tls {
		cert, pem, err := standin.Certificate(host)
		if err != nil {
			return nil, nil, nil, err
		}
		ca, issuer = pem, "https://"+l.Addr().String()
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{cert}, NextProtos: []string{"http/1.1"}, MinVersion: tls.VersionTLS12})
	}
	cfg := standin.Config{Issuer: issuer, Now: a.Now, Faults: f.faults, Approve: f.approve, AsUser: f.asUser}
	if a.g.verbose {
		cfg.Log = func(format string, args ...any) { a.say("%s", show.Safe(fmt.Sprintf(format, args...))) }
	}
	s, err := standin.New(cfg)
	if err != nil {
		_ = l.Close()
		return nil, nil, nil, fault.New(fault.Usage, "%s", err.Error())
	}
	return s, l, ca, nil
}

// listenAt listens on loopback, and nowhere else.
func listenAt(address string) (net.Listener, string, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, "", fault.New(fault.Usage, "%q is not host:port", address).At("--listen").Hint("as in --listen 127.0.0.1:8650, or port 0 for any")
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, "", fault.New(fault.Usage, "the stand-in serves on loopback only, not on %q", host).At("--listen").Hint("use 127.0.0.1, [::1] or localhost")
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, "", fault.Wrap(fault.Usage, err, "the stand-in cannot listen").At("--listen").Hint("take another port, or --listen 127.0.0.1:0 for any")
	}
	return l, host, nil
}

// hostLine is all that differs between two runs of the stand-in.
var hostLine = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?m)^  host: .*$`) })

// writeStandinProject writes the courier file and .env, never over others.
func (a *app) writeStandinProject(s *standin.Server, dir string, ca []byte) error {
	dir = a.path(dir)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fault.Wrap(fault.Settings, err, "the project's folder cannot be made").At("--project")
	}
	path := filepath.Join(dir, project.FileName)
	if old, err := os.ReadFile(path); err == nil && hostLine().ReplaceAllString(string(old), "") != hostLine().ReplaceAllString(string(s.CourierFile()), "") {
		return fault.New(fault.Settings, "another courier file is here already; it was left as it is").At(a.relative(path)).Hint("name an empty folder with --project")
	}
	files := []struct {
		name string
		text []byte
		mode os.FileMode
	}{{project.FileName, s.CourierFile(), 0o644}, {".env", s.EnvFile(), 0o600}, {"authority.pem", ca, 0o644}}
	for _, f := range files {
		if f.text == nil {
			continue
		}
		if err := project.WriteFile(filepath.Join(dir, f.name), f.text, f.mode); err != nil {
			return err
		}
	}
	return ignore(dir)
}

// readyLine is the --json line of standin.
type readyLine struct {
	Issuer  string           `json:"issuer"`
	API     string           `json:"api"`
	Clients []standin.Client `json:"clients"`
	Users   []standin.User   `json:"users"`
}

func (a *app) announce(s *standin.Server, f *standinFlags, ca []byte) error {
	if a.g.json {
		return show.JSONLine(a.Out, readyLine{s.Issuer(), s.API(), standin.Clients(), standin.Users()})
	}
	a.outPen().Standin(s.Issuer(), s.API(), standin.Clients(), standin.Users())
	if f.project != "" {
		a.say("project in %s: cd there and try tidy-courier call stations", f.project)
		if ca != nil {
			a.say("its authority is authority.pem there: give it with --cacert")
		}
	}
	a.say("Ctrl-C stops it")
	return nil
}

// serve serves until the context ends.
func serve(ctx context.Context, h http.Handler, l net.Listener) error {
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	done := make(chan error, 1)
	go func() { done <- srv.Serve(l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	short, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if err := srv.Shutdown(short); errors.Is(err, context.DeadlineExceeded) {
		return srv.Close() // someone hangs on; --fault hang makes them
	}
	return nil
}
