package cli

import (
	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/project"
)

func (a *app) vetCommand() *cobra.Command {
	var offline, least bool
	var ff *fieldFlags
	cmd := &cobra.Command{
		Use: "vet [CLIENT]", Short: "Check everything that can be checked before any grant",
		Long: `Checks the courier file's clients, or one: placeholders, the secret and its end, the
redirect URI and its port, and from the server its metadata held against the
settings, its key set, certificate and clock. Nothing is spent.

--least looks back at the rounds in the journal instead: which scope was granted
that no call needed, and which calls passed without the scope they declare.`,
		Example: `  tidy-courier vet
  tidy-courier vet pilot-desk --offline
  tidy-courier vet --issuer http://127.0.0.1:8650 --client-id pilot-desk --grant authorization_code
  tidy-courier round watch && tidy-courier vet --least`,
		Args: takes(0, 1, "one client at most"), ValidArgsFunction: a.complete("clients"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, e, args, err := a.vetted(args, ff)
			if err != nil {
				return err
			}
			var checks []flow.Checked
			if least {
				checks, err = e.Least()
			} else {
				checks, err = a.vet(cmd, p, e, args, offline)
			}
			if err != nil {
				return err
			}
			a.doc = map[string]any{"checks": checks}
			if !a.g.json {
				a.outPen().Checks(checks, least)
			}
			failed := 0
			for _, c := range checks {
				if c.Outcome == flow.VetFail {
					failed++
				}
			}
			if failed > 0 {
				return fault.New(fault.Expectation, "checks that failed: %d", failed)
			}
			return nil
		},
	}
	ff = addFieldFlags(cmd)
	cmd.Flags().BoolVar(&offline, "offline", false, "only what needs no network")
	cmd.Flags().BoolVar(&least, "least", false, "which scope the rounds did not need")
	return cmd
}

// vetted is what is to be checked: the courier file, or what flags say.
func (a *app) vetted(args []string, ff *fieldFlags) (*project.Project, *flow.Engine, []string, error) {
	if !ff.any() {
		p, e, err := a.opened()
		return p, e, args, err
	}
	p, name, err := a.obtainProject(args, ff)
	if err != nil {
		return nil, nil, nil, err
	}
	e, err := a.engine(p)
	return p, e, []string{name}, err
}

func (a *app) vet(cmd *cobra.Command, p *project.Project, e *flow.Engine, args []string, offline bool) ([]flow.Checked, error) {
	names := args
	if len(names) == 0 {
		names = p.Names("clients")
	} else if _, err := p.Client(names[0]); err != nil && len(p.Find(names[0])) == 0 {
		return nil, err
	}
	if len(names) == 0 {
		return nil, fault.New(fault.Settings, "there is no client to check").Hint("tidy-courier init writes a courier file with one")
	}
	checks := []flow.Checked{}
	for _, name := range names {
		s := e.Begin("vet")
		s.Run.Client = name
		checks = append(checks, s.Vet(cmd.Context(), name, offline)...)
		s.Evidence.Provoked = true // the checks say it
		if err := s.Finish(nil); err != nil {
			return checks, err
		}
	}
	return checks, cmd.Context().Err()
}
