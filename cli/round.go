package cli

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/project"
	"tidycourier/core/round"
	"tidycourier/show"
)

// roundFlags are how a round is run.
type roundFlags struct {
	reports, tags []string
	keepGoing     bool
	jobs          int
}

// report is one --report, read.
type report struct{ kind, path string }

var reportKinds = []string{"junit", "json", "html"}

func (a *app) roundCommand() *cobra.Command {
	var f roundFlags
	cmd := &cobra.Command{
		Use: "round NAME", Short: "Run calls in order, with expectations and reports",
		Long: `Runs a round of the courier file: its setup, its calls in order, its cleanup. One
token per client serves the whole round; one that has ended, or that the API calls
invalid, is got anew once. The round stops at the first failure unless
--keep-going; cleanup runs whatever happened, and reports are written also after
Ctrl-C. --jobs runs calls beside each other where none uses what another keeps.

Exit status: 0 all passed, 7 an expectation failed, 6 the API refused, 5 the
authorization server did, 4 something could not be reached.`,
		Example: `  tidy-courier round morning
  tidy-courier round morning --keep-going --report junit=round.xml --report html=round.html
  tidy-courier round morning --tag smoke --jobs 4 --json`,
		Args: takes(1, 1, "the name of a round"), ValidArgsFunction: a.complete("rounds"),
		RunE: func(cmd *cobra.Command, args []string) error {
			reports, err := readReports(f.reports)
			if err != nil {
				return err
			}
			p, e, err := a.opened()
			if err != nil {
				return err
			}
			plan, err := round.Read(p, args[0], f.tags)
			if err != nil {
				return err
			}
			jobs := f.jobs
			if jobs == 0 {
				jobs = plan.Jobs
			}
			caller := &round.Caller{Engine: e}
			told := a.tellRound(plan)
			r := round.Run(cmd.Context(), plan, caller.Do, round.Options{Jobs: jobs, KeepGoing: f.keepGoing, Now: a.Now, OnStart: told.start, OnDone: told.done})
			told.end()
			return a.roundDone(r, p.Stage(), reports)
		},
	}
	fl := cmd.Flags()
	fl.StringArrayVar(&f.reports, "report", nil, "write a report, as `KIND=FILE`: junit, json or html; may be repeated")
	fl.StringArrayVar(&f.tags, "tag", nil, "only the calls that carry this `tag`; may be repeated")
	fl.BoolVar(&f.keepGoing, "keep-going", false, "go on after a failure")
	fl.IntVar(&f.jobs, "jobs", 0, "how many calls may run at once (default: as the round says, else 1)")
	return cmd
}

func readReports(list []string) ([]report, error) {
	var out []report
	for _, text := range list {
		kind, path, found := strings.Cut(text, "=")
		if !found || path == "" || !slices.Contains(reportKinds, kind) {
			return nil, fault.New(fault.Usage, "%q is not a report", text).At("--report").Hint("as in --report junit=round.xml; kinds: %s", strings.Join(reportKinds, ", "))
		}
		out = append(out, report{kind, path})
	}
	return out, nil
}

// roundDone writes the reports, draws the sum, and gives the error that stands
// for the round.
func (a *app) roundDone(r *round.Report, stage string, reports []report) error {
	view := show.NewRoundView(r, stage, &a.secrets)
	a.doc = view
	for _, rep := range reports {
		if err := a.writeReport(rep, view); err != nil {
			return err
		}
	}
	if !a.g.json {
		a.outPen().RoundSummary(r)
	}
	a.drawn = true
	worst := r.Worst()
	switch {
	case r.Stopped:
		return fault.New(fault.Interrupted, "stopped; what ran is reported")
	case worst == nil && r.Failed > 0:
		return fault.New(fault.Expectation, "%s: calls that failed: %d", r.Round, r.Failed)
	case worst != nil:
		f := fault.New(worst.Kind, "%s: calls that failed: %d", r.Round, r.Failed)
		f.Code, f.Status = worst.Code, worst.Status
		return f
	}
	return nil
}

func (a *app) writeReport(rep report, view show.RoundView) error {
	var raw []byte
	var err error
	switch rep.kind {
	case "junit":
		raw, err = show.JUnit(view)
	case "html":
		raw = show.RoundPage(view)
	default:
		var b strings.Builder
		err = show.JSON(&b, view)
		raw = []byte(b.String())
	}
	if err != nil {
		return err
	}
	if err := project.WriteFile(a.path(rep.path), raw, 0o644); err != nil {
		return fault.Wrap(fault.Usage, err, "the %s report could not be written", rep.kind).At("--report")
	}
	a.say("    %s report in %s", rep.kind, rep.path)
	return nil
}

// roundTeller tells of a round as it goes: a line a call, and on a terminal a
// line at the bottom with what runs now.
type roundTeller struct {
	a       *app
	name    int // width of the longest name
	total   int
	mu      sync.Mutex
	ended   int
	running []string
	live    bool
	begun   time.Time
}

func (a *app) tellRound(plan *round.Plan) *roundTeller {
	t := &roundTeller{a: a, total: len(plan.Steps), live: isTerminal(a.Err) && isTerminal(a.Out) && !a.g.quiet && !a.g.json, begun: a.Now()}
	for _, s := range plan.Steps {
		t.name = max(t.name, len([]rune(s.Name)))
	}
	t.name = min(t.name, 40)
	return t
}

func (t *roundTeller) start(_ int, s round.Step) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.running = append(t.running, s.Name)
	t.progress()
}

func (t *roundTeller) done(_ int, r round.Result) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ended++
	if i := slices.Index(t.running, r.Name); i >= 0 {
		t.running = slices.Delete(t.running, i, i+1)
	}
	if t.a.g.json || t.a.g.quiet && r.Outcome == round.Passed {
		return
	}
	t.wipe()
	t.a.outPen().RoundLine(r, &t.a.secrets, t.name)
	t.progress()
}

// progress draws the line at the bottom.
func (t *roundTeller) progress() {
	if !t.live || len(t.running) == 0 {
		return
	}
	names := strings.Join(t.running[:min(len(t.running), 3)], ", ")
	fmt.Fprintf(t.a.Err, "\r\x1b[K    %d of %d   %s   %s", t.ended, t.total, show.Duration(t.a.Now().Sub(t.begun)), show.Safe(names))
}

func (t *roundTeller) wipe() {
	if t.live {
		fmt.Fprint(t.a.Err, "\r\x1b[K")
	}
}

func (t *roundTeller) end() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.wipe()
}
