package cli

import (
	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/show"
)

// runVersus sends one call as two clients and shows where the answers differ. A
// refusal is an answer like another.
func (a *app) runVersus(cmd *cobra.Command, e *flow.Engine, plan *flow.CallPlan, f *callFlags) error {
	if plan.Client == "" || plan.Client == f.versus {
		return fault.New(fault.Usage, "--versus needs two different clients").At("--versus").Hint("name the other with --client")
	}
	var answers [2]show.Actor
	for i, client := range []string{plan.Client, f.versus} {
		one := *plan
		one.Client = client
		answer, err := a.sendAs(cmd, e, &one)
		if err != nil {
			return err
		}
		answers[i] = answer
	}
	c := show.Versus(answers[0], answers[1])
	a.doc = map[string]any{"left": answers[0].Client, "right": answers[1].Client, "runs": []int64{answers[0].Run, answers[1].Run}, "equal": c.Equal, "rows": c.Rows}
	if !a.g.json {
		a.outPen().Comparison(answers[0].Client, answers[1].Client, c, false)
	}
	return nil
}

func (a *app) sendAs(cmd *cobra.Command, e *flow.Engine, plan *flow.CallPlan) (show.Actor, error) {
	a.watch(e, a.Err)
	s := e.Begin("call")
	s.Run.Call, s.Run.Client = plan.Name, plan.Client
	if e.OnStart != nil {
		e.OnStart(s.Run)
	}
	req, used, err := s.Prepare(cmd.Context(), plan)
	if err == nil {
		a.sayToken(used)
		var res *flow.CallResult
		res, err = s.Call(cmd.Context(), plan, req, used)
		if res != nil && res.Leg != nil && res.Leg.Exchange.Response != nil {
			_ = s.Finish(err) // a refusal is what is compared
			return show.NewActor(plan.Client, s.Run.N, used, res, &a.secrets), nil
		}
	}
	err = s.Finish(err)
	a.explain(s)
	return show.Actor{}, err
}
