package cli

import (
	"github.com/spf13/cobra"

	"tidycourier/core/flow"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

func (a *app) refreshCommand() *cobra.Command {
	return &cobra.Command{
		Use: "refresh CLIENT", Short: "Spend the refresh token now; show before and after",
		Long: `Spends the client's refresh token and shows both token sets side by side. The new
set is on disk before anything is printed. One process at a time refreshes; one
that waited for another uses its result. call and pouch take do this by
themselves when the token is about to end.`,
		Example: `  tidy-courier refresh pilot-desk
  tidy-courier refresh relay --json`,
		Args: takes(1, 1, "a client"), ValidArgsFunction: a.complete("clients"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, c, err := a.openedFor(args[0])
			if err != nil {
				return err
			}
			a.watch(e, a.Out)
			s := e.Begin("refresh")
			got, err := s.Refresh(cmd.Context(), c)
			err = s.Finish(err)
			a.refreshed(s, got)
			return err
		},
	}
}

// refreshView is the --json document of refresh: obtain's, and what was before.
type refreshView struct {
	obtainView
	Before    *run.TokenView `json:"before"`
	Rotated   bool           `json:"rotated"`
	Elsewhere bool           `json:"elsewhere"` // another process refreshed meanwhile
}

func (a *app) refreshed(s *flow.Session, got *flow.Refreshed) {
	rec := s.Run.Record(&a.secrets)
	view := refreshView{obtainView: a.obtainDoc(s, rec)}
	if got != nil {
		view.Token, view.Rotated, view.Elsewhere = flow.View(got.After), got.Rotated, got.Elsewhere
		if a.g.reveal {
			reveal(view.Token, &flow.Obtained{Set: got.After})
		}
		if got.Before != nil {
			view.Before = flow.View(got.Before)
		}
	}
	a.doc = view
	if a.g.json {
		return
	}
	if got == nil {
		a.explain(s)
		return
	}
	pen := a.outPen()
	pen.Tokens(view.Token)
	if got.Elsewhere {
		a.say("    another process refreshed meanwhile; its result is used")
	}
	if got.Before != nil {
		pen.Comparison("before", "after", token.Compare(flow.SideOf(got.Before), flow.SideOf(got.After)), false)
	}
	pen.Values(view.Token)
	if !a.g.quiet {
		pen.Findings(rec.Findings)
	}
}
