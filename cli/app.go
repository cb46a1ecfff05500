// Package cli is the command line: one file a command. A command turns flags
// into values, makes one call into core and hands the result to show.
//
// Rules of the output: data goes to standard output; narration, findings and
// errors go to standard error; with --json one document goes to standard output
// and nothing else. No command asks a question when there is no terminal to ask
// at: it names the flag that answers it.
package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/term"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/mask"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
	"tidycourier/show"
)

// Surroundings are what a process has around it.
type Surroundings struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(string) (string, bool)
	Dir      string // working folder
	Now      func() time.Time

	visit func(url string) error // in place of a browser, for the demo
}

// Process is this process's own surroundings.
func Process() Surroundings {
	dir, _ := os.Getwd()
	return Surroundings{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.LookupEnv, Dir: dir, Now: time.Now}
}

// globals are the flags every command has.
type globals struct {
	file, stage, state, cacert string
	set, plainHTTP             []string
	reveal, quiet, verbose     bool
	noColor, json              bool
	timeout                    time.Duration
}

// app is one invocation.
type app struct {
	Surroundings
	g       globals
	began   bool // a command's own code runs: errors are not about usage any more
	doc     any  // the document of --json
	disk    *flow.Disk
	sender  *wire.Sender
	secrets mask.Set
	drawn   bool // the findings, with their remedies, are on the screen already
}

// Main runs one invocation and returns the exit status.
func Main(args []string, sur Surroundings) int {
	log.SetOutput(wire.Complaints) // the standard library logs what servers send where it should not
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return mainWith(ctx, args, sur)
}

func mainWith(ctx context.Context, args []string, sur Surroundings) int {
	a := &app{Surroundings: sur}
	root := a.root(args)
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if a.sender != nil {
		a.sender.Close()
	}
	if a.disk != nil {
		if bad := a.disk.Close(); err == nil && bad != nil {
			err = bad
		}
	}
	a.g.json = a.g.json || slices.Contains(args, "--json")
	return a.end(ctx, err)
}

// end prints what is left to print and gives the exit status.
func (a *app) end(ctx context.Context, err error) int {
	if err == nil {
		if a.g.json && a.doc != nil {
			if bad := show.JSON(a.Out, a.doc); bad != nil {
				return 1
			}
		}
		return 0
	}
	f := a.failure(ctx, err)
	f.Message, f.Next, f.Description = a.secrets.Replace(f.Message), a.secrets.Replace(f.Next), a.secrets.Replace(f.Description)
	if a.g.json {
		view := run.Failure{Kind: string(f.Kind), Message: f.Message, Code: f.Code, Description: f.Description, Status: f.Status, Where: f.Where, Hint: f.Next}
		doc, bad := show.WithError(a.doc, view)
		if bad == nil {
			bad = show.JSON(a.Out, doc)
		}
		if bad != nil {
			return 1
		}
		return f.Kind.ExitStatus()
	}
	if a.drawn {
		f.Next = ""
	}
	a.errPen().Failure(f.Message, f.Where, f.Next)
	return f.Kind.ExitStatus()
}

// failure gives every error a kind.
func (a *app) failure(ctx context.Context, err error) *fault.Error {
	var known *fault.Error
	switch {
	case errors.As(err, &known):
		if known.Kind != fault.Interrupted && ctx.Err() != nil && known.Kind == fault.Unreachable {
			return fault.New(fault.Interrupted, "stopped")
		}
		return known
	case ctx.Err() != nil:
		return fault.New(fault.Interrupted, "stopped")
	case !a.began:
		return fault.New(fault.Usage, "%s", err.Error()).Hint("tidy-courier help shows the commands")
	}
	return fault.As(err)
}

func isTerminal(v any) bool {
	f, ok := v.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (a *app) getenv(name string) string { v, _ := a.Env(name); return v }

func (a *app) pen(w io.Writer) *show.Pen {
	p := &show.Pen{W: w, Now: a.Now}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		p.Width, _, _ = term.GetSize(int(f.Fd()))
		_, off := a.Env("NO_COLOR")
		p.Color = !off && !a.g.noColor && a.getenv("TERM") != "dumb"
	}
	return p
}

func (a *app) outPen() *show.Pen { return a.pen(a.Out) }
func (a *app) errPen() *show.Pen { return a.pen(a.Err) }

// say narrates on standard error.
func (a *app) say(format string, args ...any) {
	if !a.g.quiet && !a.g.json {
		fmt.Fprintf(a.Err, format+"\n", args...)
	}
}

// stateDir is where the pouch and the journal are.
func (a *app) stateDir() (string, error) {
	for _, v := range []string{a.g.state, a.getenv("TIDY_COURIER_STATE")} {
		if v != "" {
			if !filepath.IsAbs(v) {
				v = filepath.Join(a.Dir, v)
			}
			return v, nil
		}
	}
	if v := a.getenv("XDG_STATE_HOME"); filepath.IsAbs(v) {
		return filepath.Join(v, "tidy-courier"), nil
	}
	if runtime.GOOS == "windows" && a.getenv("LOCALAPPDATA") != "" {
		return filepath.Join(a.getenv("LOCALAPPDATA"), "tidy-courier"), nil
	}
	if home := a.getenv("HOME"); home != "" {
		return filepath.Join(home, ".local", "state", "tidy-courier"), nil
	}
	return "", fault.New(fault.Usage, "there is no home folder to keep the state in").Hint("name a folder with --state or TIDY_COURIER_STATE")
}

func (a *app) store() (*flow.Disk, error) {
	if a.disk == nil {
		dir, err := a.stateDir()
		if err != nil {
			return nil, err
		}
		a.disk = &flow.Disk{Dir: dir, Getenv: a.getenv}
	}
	return a.disk, nil
}

// options are how the courier file is read.
func (a *app) options() (project.Options, error) {
	opt := project.Options{Stage: a.g.stage, Set: map[string]string{}, LookupEnv: a.Env, Now: a.Now, WorkDir: a.Dir}
	if opt.Stage == "" {
		opt.Stage = a.getenv("TIDY_COURIER_STAGE")
	}
	for _, s := range a.g.set {
		name, value, found := strings.Cut(s, "=")
		if !found || name == "" {
			return opt, fault.New(fault.Usage, "%q is not name=value", s).At("--set")
		}
		opt.Set[name] = value
	}
	return opt, nil
}

// courierPath is the courier file's path, or "" when there is none.
func (a *app) courierPath() string {
	for _, v := range []string{a.g.file, a.getenv("TIDY_COURIER_FILE")} {
		if v != "" {
			if !filepath.IsAbs(v) {
				v = filepath.Join(a.Dir, v)
			}
			return v
		}
	}
	return project.Find(a.Dir)
}

// project opens the courier file; without one it is empty.
func (a *app) project() (*project.Project, error) {
	opt, err := a.options()
	if err != nil {
		return nil, err
	}
	path := a.courierPath()
	if path == "" {
		if opt.Stage != "" {
			return nil, fault.New(fault.Settings, "there is no courier file, so no stage %q", opt.Stage).Hint("tidy-courier init writes one; --file names one that is elsewhere")
		}
		return project.Empty(opt), nil
	}
	return project.Open(path, opt)
}

// engine makes the engine that drives flows in a project.
func (a *app) engine(p *project.Project) (*flow.Engine, error) {
	store, err := a.store()
	if err != nil {
		return nil, err
	}
	plain := p.PlainHTTP()
	for _, h := range a.g.plainHTTP {
		plain[h] = true
	}
	limits := wire.DefaultLimits
	if a.g.timeout > 0 {
		limits.Total, limits.Connect = a.g.timeout, min(limits.Connect, a.g.timeout)
	}
	a.sender, err = wire.NewSender(wire.Options{Limits: limits, CACert: a.g.cacert, PlainHTTP: plain, UserAgent: "tidy-courier/" + Version, Now: a.Now})
	if err != nil {
		return nil, err
	}
	e := &flow.Engine{Project: p, Sender: a.sender, Mask: &a.secrets, Store: store, Now: a.Now, Random: rand.Reader, Patient: true}
	if isTerminal(a.In) && !a.g.json {
		e.Ask, e.Choose = a.ask, a.choose
	}
	return e, nil
}

// opened opens the project, with the values that earlier calls kept, and the
// engine that works in it.
func (a *app) opened() (*project.Project, *flow.Engine, error) {
	p, err := a.project()
	if err == nil {
		err = a.useKept(p)
	}
	if err != nil {
		return nil, nil, err
	}
	e, err := a.engine(p)
	return p, e, err
}

// openedFor is opened for a command about one client.
func (a *app) openedFor(client string) (*flow.Engine, *project.Client, error) {
	p, e, err := a.opened()
	if err != nil {
		return nil, nil, err
	}
	c, err := p.Client(client)
	return e, c, err
}

// useKept lets the project use the values that earlier calls kept, when there
// are any; a state folder that does not exist yet is not made for that.
func (a *app) useKept(p *project.Project) error {
	store, err := a.store()
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(store.Dir, "pouch.db")); err != nil {
		return nil
	}
	pouch, err := store.Pouch()
	if err != nil {
		return err
	}
	kept, err := pouch.Kept(p.Key(), p.Stage())
	p.UseKept(kept)
	return err
}

// watch draws the legs of a run as they happen. Where they go depends on what
// the command is for: a ladder is data for obtain, narration for call.
func (a *app) watch(e *flow.Engine, w io.Writer) {
	if a.g.json || a.g.quiet {
		return
	}
	pen := a.pen(w)
	begun := false
	e.OnStart = func(r *run.Run) {
		if !begun {
			begun = true
			rec := run.Record{Client: r.Client, Server: r.Server, Grant: r.Grant, Detail: r.Detail, Call: r.Call, Stage: r.Stage, Command: r.Command}
			pen.Head(&rec)
		}
	}
	e.OnLeg = func(l run.LegRecord) {
		pen.Rung(l)
		if a.g.verbose {
			pen.Legs(&run.Record{Legs: []run.LegRecord{l}})
		}
	}
}

// explain draws the findings of a finished run.
func (a *app) explain(s *flow.Session) {
	if a.g.json {
		return
	}
	findings := run.MaskFindings(s.Run.Findings, &a.secrets)
	if a.g.quiet {
		findings = slices.DeleteFunc(findings, func(f run.Finding) bool { return f.Note })
	}
	a.errPen().Findings(findings)
	for _, f := range findings {
		a.drawn = a.drawn || !f.Note && len(f.Remedy) > 0
	}
}

// readInput reads standard input, bounded.
func (a *app) readInput(limit int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(a.In, limit+1))
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "standard input could not be read")
	}
	if int64(len(raw)) > limit {
		return nil, fault.New(fault.Usage, "standard input is longer than %d bytes", limit)
	}
	return bytes.TrimPrefix(raw, []byte("\ufeff")), nil
}
