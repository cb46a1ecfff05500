package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

func (a *app) obtainCommand() *cobra.Command {
	var write string
	var pf personFlags
	cmd := &cobra.Command{
		Use: "obtain [CLIENT]", Short: "Run a client's grant and put the token set in the pouch",
		Long: `Runs the grant of a client of the courier file, shows every leg, and keeps the
tokens sealed in the pouch. Tokens are shown by fingerprint; --reveal shows them.

A client with grant authorization_code opens the browser and listens at its
redirect URI on loopback; --paste takes the answer where that cannot be.

Without a courier file the server and the client are given by flags, each named
as the courier file's field. A secret is never a flag's value, since other
processes see arguments: name where it comes from. --write NAME keeps what worked
as a client of the courier file.`,
		Example: `  tidy-courier obtain nightly-forecast
  tidy-courier obtain pilot-desk --fresh-login
  tidy-courier obtain pilot-desk --dry-run
  tidy-courier obtain nightly-forecast --scope gauges.read --json
  tidy-courier obtain --issuer http://127.0.0.1:8650 --client-id nightly-forecast \
      --secret-env NIGHTLY_SECRET --grant client_credentials --write nightly`,
		Args: takes(0, 1, "one client at most"), ValidArgsFunction: a.complete("clients"),
	}
	ff := addFieldFlags(cmd)
	pf.add(cmd)
	cmd.Flags().StringVar(&write, "write", "", "keep what worked as a client of this `name` in the courier file")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		p, name, err := a.obtainProject(args, ff)
		if err != nil {
			return err
		}
		c, err := p.Client(name)
		if err != nil {
			return err
		}
		e, err := a.engine(p)
		if err != nil {
			return err
		}
		if err := pf.check(a, c); err != nil {
			return err
		}
		if pf.dryRun {
			return a.dryRunGrant(cmd.Context(), e, c, &pf)
		}
		a.watch(e, a.Out)
		s := e.Begin("obtain")
		got, err := a.runGrant(cmd.Context(), s, c, &pf)
		err = s.Finish(err)
		a.obtained(s, got)
		if err == nil && write != "" {
			return a.writeClient(write, c, got)
		}
		return err
	}
	return cmd
}

// obtainProject finds the client that is meant: one of the courier file, with
// flags laid over it, or one made of flags alone.
func (a *app) obtainProject(args []string, ff *fieldFlags) (*project.Project, string, error) {
	if len(args) == 0 {
		return a.flagProject(ff)
	}
	p, err := a.project()
	if err != nil {
		return nil, "", err
	}
	if err := a.useKept(p); err != nil {
		return nil, "", err
	}
	name := args[0]
	if !ff.any() {
		return p, name, nil
	}
	c, err := p.Client(name)
	if err != nil {
		return nil, "", err
	}
	return p, name, ff.lay(p, name, c.Server.Name, firstLeg(c.Grant.Value))
}

// firstLeg is the leg that --param speaks of: the one a grant begins with.
func firstLeg(grant string) string {
	switch grant {
	case "authorization_code":
		return "authorization"
	case "refresh_token":
		return "refresh"
	}
	return "token"
}

// flagProject makes a project of flags alone.
func (a *app) flagProject(ff *fieldFlags) (*project.Project, string, error) {
	if !ff.any() {
		p, err := a.project()
		if err != nil {
			return nil, "", err
		}
		f := fault.New(fault.Usage, "obtain needs a client: one of the courier file, or one given by flags")
		if names := p.Names("clients"); len(names) > 0 {
			return nil, "", f.Hint("tidy-courier obtain %s; there are: %s", names[0], strings.Join(names, ", "))
		}
		return nil, "", f.Hint("as in: tidy-courier obtain --issuer URL --client-id ID --secret-env NAME --grant client_credentials")
	}
	opt, err := a.options()
	if err != nil {
		return nil, "", err
	}
	opt.Stage = ""
	p := project.Empty(opt)
	name := "by-flags"
	if id := ff.flags.Lookup("client-id").Value.String(); project.UsableName(id) {
		name = id
	}
	if err := p.Override("clients", name, []project.Given{{Field: "server", Value: "provider", Flag: "flags"}}); err != nil {
		return nil, "", err
	}
	if err := ff.lay(p, name, "provider", firstLeg(ff.flags.Lookup("grant").Value.String())); err != nil {
		return nil, "", err
	}
	p.EnsureServer("provider")
	return p, name, nil
}

// obtainView is the --json document of obtain.
type obtainView struct {
	Run      int64           `json:"run"`
	Client   string          `json:"client"`
	Server   string          `json:"server"`
	Grant    string          `json:"grant"`
	Token    *run.TokenView  `json:"token"`
	Legs     []run.LegRecord `json:"legs"`
	Findings []run.Finding   `json:"findings"`
	Error    *run.Failure    `json:"error"`
}

func (a *app) obtained(s *flow.Session, got *flow.Obtained) {
	rec := s.Run.Record(&a.secrets)
	if got != nil && a.g.reveal {
		reveal(rec.Token, got)
	}
	a.doc = a.obtainDoc(s, rec)
	if a.g.json {
		return
	}
	pen := a.outPen()
	if got == nil {
		a.explain(s)
		if rec.Error == nil {
			a.say("    the code is held, sealed; go on with: tidy-courier obtain %s --code", s.Run.Client)
		}
		return
	}
	pen.Tokens(rec.Token)
	if a.g.reveal {
		pen.Values(rec.Token)
	}
	if got.Chosen != "" {
		a.say("    client authentication: %s", got.Chosen)
	}
	if !a.g.quiet {
		pen.Findings(rec.Findings)
		a.say("    run %d, in the pouch as %s", s.Run.N, s.Run.Client)
	}
}

// runGrant runs the grant, with the person where it needs one.
func (a *app) runGrant(ctx context.Context, s *flow.Session, c *project.Client, pf *personFlags) (*flow.Obtained, error) {
	if c.Grant.Value != oauth.GrantCode {
		return s.Obtain(ctx, c)
	}
	who, err := a.person(pf)
	if err != nil {
		return nil, err
	}
	return s.ObtainWithPerson(ctx, c, who)
}

func (a *app) obtainDoc(s *flow.Session, rec run.Record) obtainView {
	return obtainView{s.Run.N, rec.Client, rec.Server, rec.Grant, rec.Token, rec.Legs, rec.Findings, rec.Error}
}

// reveal puts the values into the view.
func reveal(v *run.TokenView, got *flow.Obtained) {
	for _, t := range []struct {
		d     *run.TokenDetail
		value string
	}{{v.Access, got.Set.AccessToken}, {v.Refresh, got.Set.RefreshToken}, {v.ID, got.Set.IDToken}} {
		if t.d != nil {
			t.d.Value = t.value
		}
	}
}

// writeClient keeps what worked by flags as a client of the courier file.
func (a *app) writeClient(name string, c *project.Client, got *flow.Obtained) error {
	if !project.UsableName(name) {
		return fault.New(fault.Usage, "%q is not a usable name: letters, digits, dashes, dots and underscores", name).At("--write")
	}
	server, err := a.writeServer(c)
	if err != nil {
		return err
	}
	fields := append([]project.KV{{Name: "server", YAML: server}}, c.Fields()...)
	path, err := a.editCourierFile("clients", name, fields)
	if err != nil {
		return err
	}
	a.say("    kept as client %s in %s", name, a.relative(path))
	return a.moveIn(path, name, got)
}

// moveIn puts the token set under the client it is now a client of, so that
// nobody has to sign in twice.
func (a *app) moveIn(path, name string, got *flow.Obtained) error {
	opt, err := a.options()
	if err != nil || got == nil {
		return err
	}
	p, err := project.Open(path, opt)
	if err != nil {
		return err
	}
	c, err := p.Client(name)
	if err != nil {
		return err
	}
	held, err := a.disk.Pouch()
	if err != nil {
		return err
	}
	set := *got.Set
	set.Basis, set.Server = flow.Basis(c), c.Server.Name
	return held.Put(pouch.Key{Project: p.Key(), Stage: p.Stage(), Client: name}, &set)
}

// writeServer makes sure that the client's server is in the courier file, and
// returns its name there.
func (a *app) writeServer(c *project.Client) (string, error) {
	server := c.Server.Name
	if path := a.courierPath(); path != "" {
		opt, err := a.options()
		if err != nil {
			return "", err
		}
		p, err := project.Open(path, opt)
		if err != nil {
			return "", err
		}
		for _, n := range p.Names("servers") {
			if s, err := p.Server(n); err == nil && s.Issuer.Value != "" && s.Issuer.Value == c.Server.Issuer.Value {
				return n, nil
			}
			if n == server {
				server = c.Name + "-server"
			}
		}
	}
	_, err := a.editCourierFile("servers", server, c.Server.Fields())
	return server, err
}
