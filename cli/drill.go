package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tidycourier/core/drill"
	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/show"
)

func (a *app) drillCommand() *cobra.Command {
	var unsafe, yes bool
	cmd := &cobra.Command{
		Use: "drill CALL", Short: "Send a call with credentials that must be refused; say which were accepted",
		Long: `Sends a call of the courier file as it should be, and then without a token, with a
malformed, altered, unsigned, expired or foreign one, a doubled header and others.
Shows what the API answered and what it must answer (401 or 403 with a challenge),
and checks the challenge's form (RFC 6750 3). Exit status 7 when a variant was
wrongly accepted, or the scheme in small letters wrongly refused.

Everything goes to the call's own URL and nowhere else, tokens for other purposes
too: an id token and a refresh token are among what must be refused. Methods other
than GET and HEAD need --unsafe-method, since what is wrongly accepted is carried
out; a host that is not this machine has to be agreed to.`,
		Example: `  tidy-courier drill stations
  tidy-courier drill notices --json`,
		Args: takes(1, 1, "the name of a call"), ValidArgsFunction: a.complete("calls"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, e, err := a.opened()
			if err != nil {
				return err
			}
			call, err := p.Call(args[0])
			if err != nil {
				return err
			}
			plan, err := flow.Plan(call)
			if err != nil {
				return err
			}
			o := drill.Options{UnsafeMethod: unsafe}
			if err := drill.Check(plan, o); err != nil {
				return err
			}
			if err := a.agreeToDrill(plan, yes); err != nil {
				return err
			}
			return a.runDrill(cmd.Context(), e, plan, o)
		},
	}
	cmd.Flags().BoolVar(&unsafe, "unsafe-method", false, "drill also a call whose method is not GET or HEAD")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask before drilling a host that is not this machine")
	return cmd
}

// agreeToDrill asks before anything is sent to somebody else's machine.
func (a *app) agreeToDrill(plan *flow.CallPlan, yes bool) error {
	host, local := drill.Local(plan)
	if local || yes {
		return nil
	}
	refusal := fault.New(fault.Usage, "a drill sends %d malformed and foreign credentials to %s", len(drill.Variants), host).At("--yes").
		Hint("agree with --yes, when that API is yours to test")
	return a.agree(fmt.Sprintf("This sends %d malformed and foreign credentials to %s, an id token and a refresh token among them.\nIs that API yours to test? [y/N] ", len(drill.Variants), show.Safe(host)), refusal, "nothing was sent")
}

func (a *app) runDrill(ctx context.Context, e *flow.Engine, plan *flow.CallPlan, o drill.Options) error {
	s := e.Begin("drill")
	s.Run.Client, s.Run.Call = plan.Client, plan.Name
	if !a.g.json && !a.g.quiet {
		pen := a.outPen()
		o.OnResult = pen.DrillLine
	}
	r, err := drill.Run(ctx, s, plan, o)
	if err == nil && r.Wrong > 0 {
		err = fault.New(fault.Expectation, "%s: variants that were wrongly accepted or refused: %d", plan.Name, r.Wrong)
	}
	failed := err
	if err != nil && fault.As(err).Kind != fault.Expectation {
		err = s.Finish(err)
		a.explain(s)
	} else {
		s.Evidence.Access = "" // the last refusal was provoked: it needs no explanation
		s.Evidence.Provoked = true
		if bad := s.Finish(failed); bad != nil {
			err = bad
		}
	}
	if r != nil {
		a.doc = show.NewDrillView(s.Run.N, r)
		if !a.g.json && len(r.Results) > 0 {
			a.outPen().DrillSummary(r)
		}
	}
	return err
}
