package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"

	"github.com/spf13/cobra"

	"tidycourier/core/exhibit"
	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/flow"
	"tidycourier/core/har"
	"tidycourier/core/near"
	"tidycourier/core/oauth"

	"tidycourier/show"
)

// explainFlags say what is to be explained.
type explainFlags struct{ har, client string }

func (a *app) explainCommand() *cobra.Command {
	var f explainFlags
	cmd := &cobra.Command{
		Use: "explain [RUN | FINDING | -]", Short: "Say why a run failed, what a finding means, or what pasted evidence shows",
		Long: `Without an argument, explains the last run; with a number, that run; with the id of
a finding, everything there is to know about that cause.

With -, reads what you paste: a redirect URL, the body of a token endpoint's error,
a WWW-Authenticate header, a raw HTTP exchange, a token answer. With --har, reads a
record of a browser, a proxy or a program (HAR 1.2), finds the legs among everything
else, pairs each authorization request with its exchange, and judges them; with
--client, against that client's settings too. Secrets in it are never shown.`,
		Example: `  tidy-courier explain
  tidy-courier explain redirect-uri-mismatch
  tidy-courier explain --har recorded.har --client harbour-portal
  printf '{"error":"invalid_grant"}' | tidy-courier explain -`,
		Args: takes(0, 1, "one run, finding or - at most"), ValidArgsFunction: func(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
			return finding.IDs(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			what := ""
			if len(args) == 1 {
				what = args[0]
			}
			switch {
			case f.har != "" && what != "":
				return fault.New(fault.Usage, "--har explains a file, and %q something else", what).Hint("give one of them")
			case f.har != "":
				return a.explainHAR(cmd.Context(), f)
			case what == "-":
				return a.explainPasted(cmd.Context(), f)
			}
			if _, err := strconv.ParseInt(what, 10, 64); what == "" || err == nil {
				return a.explainRun(args)
			}
			return a.explainFinding(what)
		},
	}
	cmd.Flags().StringVar(&f.har, "har", "", "explain the record in this `file` (HAR 1.2; - reads standard input)")
	cmd.Flags().StringVar(&f.client, "client", "", "judge with the settings of this `client` of the courier file")
	a.completeFlag(cmd, "client", "clients")
	return cmd
}

func (a *app) explainFinding(id string) error {
	r, found := finding.Lookup(id)
	if !found {
		f := fault.New(fault.Usage, "there is no finding %q", id)
		if n := near.Name(id, finding.IDs()); n != "" {
			return f.Hint("did you mean %s?", n)
		}
		return f.Hint("docs/findings.md lists them; a run is named by its number: tidy-courier journal list")
	}
	a.doc = show.NewRuleView(r)
	if !a.g.json {
		a.outPen().Rule(r)
	}
	return nil
}

func (a *app) explainRun(args []string) error {
	o, err := a.runOf(args)
	if err != nil {
		return err
	}
	r, err := o.Record()
	if err != nil {
		return err
	}
	a.doc = show.NewExplainView(r.N, "", r.Findings)
	if !a.g.json {
		a.outPen().Explained(r, "run "+strconv.FormatInt(r.N, 10))
	}
	return nil
}

// settings are what the courier file knows, for judging evidence from elsewhere.
// Without --client an unreadable file does not stand in the way.
func (a *app) exhibitSettings(ctx context.Context, f explainFlags) (exhibit.Settings, error) {
	s := exhibit.Settings{Now: a.Now()}
	p, err := a.project()
	if err != nil {
		if f.client != "" {
			return s, err
		}
		return s, nil
	}
	for _, name := range p.Names("apis") {
		if api, err := p.API(name); err == nil {
			s.APIs = append(s.APIs, api)
		}
	}
	if f.client == "" {
		return s, nil
	}
	if s.Client, err = p.Client(f.client); err != nil {
		return s, err
	}
	if s.Client.Secret != nil {
		secret, err := p.Read(ctx, s.Client.Secret, nil)
		if err != nil {
			a.say("    the client secret is left out: %s", err)
		}
		s.Secret = secret
		a.secrets.Add(secret)
	}
	if given := s.Client.Server.Given(); len(given) > 0 {
		s.Metadata = (&oauth.Metadata{Issuer: s.Client.Server.Issuer.Value}).Overlay(given)
	}
	return s, nil
}

func (a *app) explainHAR(ctx context.Context, f explainFlags) error {
	s, err := a.exhibitSettings(ctx, f)
	if err != nil {
		return err
	}
	b, info, err := a.readHAR(f.har, s)
	if err != nil {
		return err
	}
	if b.HeadersLeftOut {
		a.say("    the browser left Authorization and Cookie out of this record: whether they were sent is not known; its export has a choice with sensitive data")
	}
	source := fmt.Sprintf("%s: %d of %d entries belong to OAuth or its calls", f.har, len(b.Legs), info.Entries)
	return a.explained(b, source, f)
}

// readHAR finds the legs in a file, or in standard input for -.
func (a *app) readHAR(path string, s exhibit.Settings) (*exhibit.Bundle, *har.Info, error) {
	in := a.In
	if path != "-" {
		file, err := os.Open(a.path(path))
		if err != nil {
			return nil, nil, fault.Wrap(fault.Usage, err, "the record cannot be opened").At(path)
		}
		defer file.Close()
		in = file
	}
	b, info, err := exhibit.ReadHAR(bufio.NewReaderSize(in, 1<<18), s)
	var bad *har.Error
	if errors.As(err, &bad) {
		return nil, nil, fault.Wrap(fault.Usage, bad.Err, "this is not HAR 1.2").At(fmt.Sprintf("%s:%d", path, bad.Line)).Hint("export the record as HAR once more; a browser does so from its network view")
	}
	if err != nil {
		return nil, nil, fault.Wrap(fault.Usage, err, "the record cannot be read").At(path)
	}
	return b, info, nil
}

func (a *app) explainPasted(ctx context.Context, f explainFlags) error {
	s, err := a.exhibitSettings(ctx, f)
	if err != nil {
		return err
	}
	raw, err := a.readInput(exhibit.MaxPaste)
	if err != nil {
		return err
	}
	b, pasted, err := exhibit.Paste(string(raw), s)
	if err != nil {
		return fault.New(fault.Usage, "%s", err.Error()).At("standard input").Hint("copy it whole, from its first character to its last")
	}
	if pasted.Token != "" {
		return a.explainToken(ctx, pasted.Token, f)
	}
	return a.explained(b, "pasted: "+pasted.What, f)
}

// explainToken judges a token that was pasted, as decode does.
func (a *app) explainToken(ctx context.Context, raw string, f explainFlags) error {
	d := &decodeFlags{client: f.client}
	e, err := a.looking(d)
	if err != nil {
		return err
	}
	session := e.Begin("explain")
	got, err := session.Examine(ctx, flow.Question{Text: raw})
	if err != nil {
		return err
	}
	if err := session.Finish(nil); err != nil {
		return err
	}
	a.doc = show.NewExplainView(0, "pasted: a token", session.Run.Findings)
	if !a.g.json {
		pen := a.outPen()
		pen.Token(got)
		pen.Gap()
		pen.Findings(session.Run.Findings)
	}
	return nil
}

func (a *app) explained(b *exhibit.Bundle, source string, f explainFlags) error {
	b.Secrets(&a.secrets)
	r := b.Run("explain", f.client)
	r.Findings = b.Judge()
	rec := r.Record(&a.secrets)
	if f.client != "" {
		if c := b.Client(); c != nil && c.Server != nil {
			rec.Server = c.Server.Name
		}
	}
	a.doc = show.NewExplainView(0, source, rec.Findings)
	if !a.g.json {
		a.outPen().Explained(&rec, source)
	}
	return nil
}
