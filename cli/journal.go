package cli

import (
	"errors"
	"strconv"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/journal"
)

func (a *app) journalCommand() *cobra.Command {
	return group("journal", "List and show the recorded runs", `  tidy-courier journal list
  tidy-courier journal show 3`, a.journalList(), a.journalShow())
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

func (a *app) journalList() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List this project's runs, newest first", Args: takes(0, 0, "no argument"),
		Example: "  tidy-courier journal list\n  tidy-courier journal list --limit 5 --json",
		RunE: func(*cobra.Command, []string) error {
			j, key, err := a.recorded()
			if err != nil {
				return err
			}
			list, err := j.List(key, limit)
			if err != nil {
				return err
			}
			a.doc = map[string]any{"runs": list}
			if !a.g.json {
				a.outPen().Runs(list)
			}
			return nil
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 20, "how many at most")
	return cmd
}

func (a *app) journalShow() *cobra.Command {
	var full bool
	cmd := &cobra.Command{
		Use: "show [RUN]", Short: "Draw a run's ladder; the last one when no number is given",
		Example: "  tidy-courier journal show\n  tidy-courier journal show 3 --full",
		Args:    takes(0, 1, "one run's number at most"),
		RunE: func(_ *cobra.Command, args []string) error {
			n := int64(0)
			if len(args) == 1 {
				var err error
				if n, err = strconv.ParseInt(args[0], 10, 64); err != nil || n < 1 {
					return fault.New(fault.Usage, "%q is not a run's number", args[0]).Hint("tidy-courier journal list shows them")
				}
			}
			j, key, err := a.recorded()
			if err != nil {
				return err
			}
			r, err := j.Get(key, n)
			if errors.Is(err, journal.ErrNone) {
				return fault.New(fault.Usage, "the journal has no such run of this project").Hint("tidy-courier journal list shows them")
			}
			if err != nil {
				return err
			}
			a.doc = r
			if !a.g.json {
				pen := a.outPen()
				pen.Ladder(r)
				if full || a.g.verbose {
					pen.Legs(r)
				}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&full, "full", false, "each leg's headers and bodies too")
	return cmd
}
