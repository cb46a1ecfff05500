package cli

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/journal"
	"tidycourier/core/near"
	"tidycourier/core/run"
	"tidycourier/show"
)

func (a *app) journalCommand() *cobra.Command {
	return group("journal", "List, show, export and clear the recorded runs", `  tidy-courier journal list --outcome failed
  tidy-courier journal show 3
  tidy-courier journal export 3 --case for-support.html`, a.journalList(), a.journalShow(), a.journalExport(), a.journalClear())
}

// recorded opens the journal and gives the project's key.
func (a *app) recorded() (*journal.Journal, string, error) {
	p, err := a.project()
	if err != nil {
		return nil, "", err
	}
	store, err := a.store()
	if err != nil {
		return nil, "", err
	}
	j, err := store.Journal()
	return j, p.Key(), err
}

// runOf opens the run that an argument names, the last one without.
func (a *app) runOf(args []string) (*journal.Opened, error) {
	n := int64(0)
	if len(args) == 1 {
		var err error
		if n, err = strconv.ParseInt(args[0], 10, 64); err != nil || n < 1 {
			return nil, fault.New(fault.Usage, "%q is not a run's number", args[0]).Hint("tidy-courier journal list shows them")
		}
	}
	j, key, err := a.recorded()
	if err != nil {
		return nil, err
	}
	o, err := j.Get(key, n)
	if errors.Is(err, journal.ErrNone) && n == 0 {
		return nil, fault.New(fault.Usage, "the journal has no such run: none of this project is recorded yet").Hint("explain - takes pasted evidence, explain --har a record")
	}
	if errors.Is(err, journal.ErrNone) {
		return nil, fault.New(fault.Usage, "the journal has no such run of this project").Hint("tidy-courier journal list shows them; explain - takes pasted evidence, explain --har a record")
	}
	return o, err
}

// recordOf is a run as it is to be shown: masked, or with --reveal as it was.
func (a *app) recordOf(o *journal.Opened) (*run.Record, error) {
	if a.g.reveal {
		return o.Revealed()
	}
	return o.Record()
}

// filterFlags are how journal list chooses.
type filterFlags struct {
	f            journal.Filter
	since, until string
	follow       bool
}

// outcomes are what a run can have come to: the kinds of fault that are recorded.
var outcomes = []string{"ok", "failed", string(fault.Unreachable), string(fault.Authorization), string(fault.API), string(fault.Expectation), string(fault.Settings), string(fault.Interrupted)}

func (a *app) journalList() *cobra.Command {
	var f filterFlags
	cmd := &cobra.Command{
		Use: "list", Short: "List this project's runs, newest first", Args: takes(0, 0, "no argument"),
		Long: `Lists this project's runs, newest first. The filters go together. A time is a
date, a date with a time (2027-02-01T10:30), or how long ago (90m, 36h, 7d).

--follow goes on, showing each run as another process records it, until Ctrl-C;
with --json one object a line.`,
		Example: `  tidy-courier journal list
  tidy-courier journal list --client nightly-forecast --outcome failed --since 7d
  tidy-courier journal list --cause wrong-secret --limit 5 --json
  tidy-courier journal list --follow`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.readFilter(&f); err != nil {
				return err
			}
			j, key, err := a.recorded()
			if err != nil {
				return err
			}
			list, err := j.List(key, f.f)
			if err != nil {
				return err
			}
			if f.follow {
				return a.follow(cmd.Context(), j, key, f.f, list)
			}
			a.doc = map[string]any{"runs": list}
			switch {
			case a.g.json:
			case len(list) == 0 && f.f != journal.Filter{Limit: f.f.Limit}:
				a.outPen().NoRunFits()
			default:
				a.outPen().Runs(list)
			}
			return nil
		},
	}
	fl := cmd.Flags()
	fl.IntVar(&f.f.Limit, "limit", 20, "how many at most; 0 for all")
	fl.StringVar(&f.f.Client, "client", "", "only runs of this `client`")
	fl.StringVar(&f.f.Outcome, "outcome", "", "only runs that came to this: ok, failed, or the `kind` of the error")
	fl.StringVar(&f.f.Cause, "cause", "", "only runs that failed for this cause, by the `finding`'s id")
	fl.StringVar(&f.f.Command, "command", "", "only runs of this `command`")
	fl.StringVar(&f.since, "since", "", "only runs from this `time` on")
	fl.StringVar(&f.until, "until", "", "only runs before this `time`")
	fl.BoolVar(&f.follow, "follow", false, "go on showing runs as they are recorded")
	a.completeFlag(cmd, "client", "clients")
	_ = cmd.RegisterFlagCompletionFunc("outcome", cobra.FixedCompletions(outcomes, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("cause", cobra.FixedCompletions(finding.IDs(), cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) readFilter(f *filterFlags) error {
	if f.f.Limit < 0 {
		return fault.New(fault.Usage, "--limit is a number of runs, not %d", f.f.Limit).Hint("0 lists all")
	}
	if f.f.Outcome != "" {
		if err := knownWord("--outcome", f.f.Outcome, outcomes); err != nil {
			return err
		}
	}
	if f.f.Cause != "" {
		if err := knownWord("--cause", f.f.Cause, finding.IDs()); err != nil {
			return err
		}
	}
	f.f.Stage = a.g.stage
	for _, t := range []struct {
		flag, text string
		into       *time.Time
	}{{"--since", f.since, &f.f.Since}, {"--until", f.until, &f.f.Until}} {
		if t.text == "" {
			continue
		}
		at, err := moment(t.text, a.Now())
		if err != nil {
			return fault.New(fault.Usage, "%s: %q is no time", t.flag, t.text).Hint("a date (2027-02-01), a date with a time (2027-02-01T10:30), or how long ago (90m, 36h, 7d)")
		}
		*t.into = at
	}
	return nil
}

// knownWord refuses a flag's word that is not one of those known.
func knownWord(flag, word string, known []string) error {
	if slices.Contains(known, word) {
		return nil
	}
	err := fault.New(fault.Usage, "%s does not know %q", flag, word)
	if n := near.Name(word, known); n != "" {
		return err.Hint("did you mean %s?", n)
	}
	if len(known) > 12 {
		return err.Hint("docs/findings.md lists them")
	}
	return err.Hint("known: %s", strings.Join(known, ", "))
}

// moment reads a time: a date, a date with a time, or how long before now.
func moment(text string, now time.Time) (time.Time, error) {
	if days, found := strings.CutSuffix(text, "d"); found {
		if n, err := strconv.ParseFloat(days, 64); err == nil && n >= 0 && n < 1e5 {
			return now.Add(-time.Duration(n * 24 * float64(time.Hour))), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	var err error
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly} {
		var at time.Time
		if at, err = time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	return time.Time{}, err
}

// followEvery is how often the journal is looked at for new runs.
const followEvery = 250 * time.Millisecond

// follow shows what is there, oldest first, and then each run as it comes, until
// it is stopped.
func (a *app) follow(ctx context.Context, j *journal.Journal, key string, f journal.Filter, list []journal.Summary) error {
	tell := func(s journal.Summary) error {
		if a.g.json {
			return show.JSONLine(a.Out, s)
		}
		a.outPen().Runs([]journal.Summary{s})
		return nil
	}
	for i := range list {
		if err := tell(list[len(list)-1-i]); err != nil {
			return err
		}
	}
	if len(list) > 0 {
		f.After = list[0].N
	}
	f.Limit, f.OldestFirst = 0, true
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil // that is how it ends
		case <-tick.C:
		}
		more, err := j.List(key, f)
		if err != nil {
			return err
		}
		for _, s := range more {
			f.After = s.N
			if err := tell(s); err != nil {
				return err
			}
		}
	}
}

func (a *app) journalShow() *cobra.Command {
	var full bool
	var leg int
	cmd := &cobra.Command{
		Use: "show [RUN]", Short: "Draw a run's ladder; the last one when no number is given",
		Long: `Draws a run's ladder with its findings. --full adds each leg's headers, body and
times; --leg adds one leg's alone. Secrets are masked, in this view as in all;
--reveal shows the run as it was.`,
		Example: "  tidy-courier journal show\n  tidy-courier journal show 3 --full\n  tidy-courier journal show 3 --leg 2",
		Args:    takes(0, 1, "one run's number at most"),
		RunE: func(_ *cobra.Command, args []string) error {
			o, err := a.runOf(args)
			if err != nil {
				return err
			}
			r, err := a.recordOf(o)
			if errors.Is(err, journal.ErrOnlyMasked) {
				return fault.New(fault.Usage, "run %d cannot be revealed: %s", o.N, err).Hint("leave --reveal away")
			}
			if err != nil {
				return err
			}
			if leg < 0 || leg > len(r.Legs) {
				return fault.New(fault.Usage, "run %d has %d legs, and no leg %d", r.N, len(r.Legs), leg)
			}
			a.doc = r
			if a.g.json {
				return nil
			}
			pen := a.outPen()
			if leg > 0 {
				pen.Leg(r.Legs[leg-1])
				return nil
			}
			pen.RunLine(r)
			pen.Ladder(r)
			if full || a.g.verbose {
				pen.Legs(r)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&full, "full", false, "each leg's headers, body and times too")
	cmd.Flags().IntVar(&leg, "leg", 0, "one leg's headers, body and times, by its `number`")
	return cmd
}

func (a *app) journalClear() *cobra.Command {
	var yes bool
	var before string
	cmd := &cobra.Command{
		Use: "clear", Short: "Drop this project's recorded runs, all or those before a time", Args: takes(0, 0, "no argument"),
		Example: "  tidy-courier journal clear --before 30d\n  tidy-courier journal clear --yes",
		RunE: func(*cobra.Command, []string) error {
			var at time.Time
			if before != "" {
				var err error
				if at, err = moment(before, a.Now()); err != nil {
					return fault.New(fault.Usage, "--before: %q is no time", before).Hint("a date (2027-02-01), or how long ago (36h, 30d)")
				}
			}
			j, key, err := a.recorded()
			if err != nil {
				return err
			}
			what := "all recorded runs of this project"
			if !at.IsZero() {
				what = "the recorded runs of this project before " + at.Format("2006-01-02 15:04")
			}
			if !yes {
				refusal := fault.New(fault.Usage, "this drops %s", what).At("--yes").Hint("agree with --yes")
				if err := a.agree("Drop "+what+"? [y/N] ", refusal, "nothing was dropped"); err != nil {
					return err
				}
			}
			n, err := j.Clear(key, at)
			if err != nil {
				return err
			}
			a.doc = map[string]any{"cleared": n}
			a.say("    dropped %d runs", n)
			return nil
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().StringVar(&before, "before", "", "only runs before this `time`: a date, or how long ago (30d)")
	return cmd
}
