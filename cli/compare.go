package cli

import (
	"errors"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/token"
)

func (a *app) compareCommand() *cobra.Command {
	var exitCode, all bool
	cmd := &cobra.Command{
		Use: "compare A [B]", Short: "Two tokens or token sets side by side: what changed",
		Long: `Compares two tokens or token sets: what was added, removed and changed, scope as
sets, times as differences. With one client it compares the set the pouch holds
with the one it replaced.

A and B are each a client (its token set), CLIENT@STAGE, @FILE (a token or a token
answer), - for standard input, or a token as it was pasted.`,
		Example: `  tidy-courier compare relay
  tidy-courier compare nightly-forecast ledger-sync
  tidy-courier compare nightly-forecast nightly-forecast@ternby --exit-code`,
		Args: takes(1, 2, "a client, or two tokens or clients"), ValidArgsFunction: a.complete("clients"),
		RunE: func(_ *cobra.Command, args []string) error {
			left, right, names, err := a.sides(args)
			if err != nil {
				return err
			}
			c := token.Compare(*left, *right)
			a.doc = map[string]any{"left": names[0], "right": names[1], "equal": c.Equal, "rows": c.Rows}
			if !a.g.json {
				a.outPen().Comparison(names[0], names[1], c, all)
			}
			if exitCode && !c.Equal {
				return fault.New(fault.Expectation, "%s and %s differ", names[0], names[1])
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&exitCode, "exit-code", false, "exit with status 7 when they differ")
	cmd.Flags().BoolVar(&all, "all", false, "show what is the same in full too")
	return cmd
}

// sides finds the two token sets to compare, and what to call them.
func (a *app) sides(args []string) (left, right *token.Held, names [2]string, err error) {
	p, err := a.project()
	if err != nil {
		return nil, nil, names, err
	}
	if len(args) == 1 {
		left, right, err = a.beforeAndAfter(p, args[0])
		return left, right, [2]string{"before", "after"}, err
	}
	if args[0] == "-" && args[1] == "-" {
		return nil, nil, names, fault.New(fault.Usage, "standard input can be one side only").Hint("put one of them in a file, and name it with @FILE")
	}
	if left, names[0], err = a.side(p, args[0]); err == nil {
		right, names[1], err = a.side(p, args[1])
	}
	return left, right, names, err
}

func (a *app) beforeAndAfter(p *project.Project, name string) (left, right *token.Held, err error) {
	client, stage := splitStage(p, name)
	held, err := a.pouch()
	if err != nil {
		return nil, nil, err
	}
	now, err := a.setIn(p, held, client, stage)
	if err != nil {
		return nil, nil, err
	}
	before, err := held.Previous(pouch.Key{Project: p.Key(), Stage: stage, Client: client})
	if errors.Is(err, pouch.ErrNone) {
		return nil, nil, fault.New(fault.Settings, "the token set of %q has replaced none yet", client).Hint("tidy-courier refresh %s, or obtain it again; two clients compare with: tidy-courier compare A B", client)
	}
	if err != nil {
		return nil, nil, err
	}
	b, n := flow.SideOf(before), flow.SideOf(now)
	return &b, &n, nil
}

// splitStage reads CLIENT@STAGE. A client whose own name holds an @ wins.
func splitStage(p *project.Project, name string) (client, stage string) {
	client, stage = name, p.Stage()
	if i := strings.LastIndexByte(name, '@'); i > 0 {
		for _, c := range p.Names("clients") {
			if c == name {
				return client, stage
			}
		}
		return name[:i], name[i+1:]
	}
	return client, stage
}

// side reads one side: a client's set, a file, standard input, or a token.
func (a *app) side(p *project.Project, arg string) (*token.Held, string, error) {
	switch {
	case arg == "-":
		raw, err := a.readInput(1 << 20)
		if err != nil {
			return nil, "", err
		}
		return a.pastedSide(string(raw), "standard input")
	case strings.HasPrefix(arg, "@"):
		raw, err := os.ReadFile(a.path(arg[1:]))
		if err != nil {
			return nil, "", fault.Wrap(fault.Usage, err, "the token could not be read").At(arg)
		}
		return a.pastedSide(string(raw), arg[1:])
	}
	if looksLikeName(arg) {
		held, err := a.pouch()
		if err != nil {
			return nil, "", err
		}
		client, stage := splitStage(p, arg)
		set, err := a.setIn(p, held, client, stage)
		if err != nil {
			return nil, "", err
		}
		side := flow.SideOf(set)
		return &side, arg, nil
	}
	return a.pastedSide(arg, "the token given")
}

// looksLikeName tells a client's name from a token by its length and letters.
func looksLikeName(s string) bool {
	return len(s) <= 64 && !strings.HasPrefix(s, "eyJ") && !strings.ContainsAny(s, " \t\n{}\"'=:%")
}

// pastedSide takes all tokens of a token answer, or the one that was pasted.
func (a *app) pastedSide(text, name string) (*token.Held, string, error) {
	side := &token.Held{}
	p := token.Paste(text, "")
	if p.Token == "" {
		return nil, "", fault.New(fault.Usage, "there is no token in %s", name)
	}
	side.Access = p.Token
	if p.Which != "" {
		side.Access = ""
		for _, member := range append([]string{p.Which}, p.Others...) {
			v := token.Paste(text, member).Token
			switch member {
			case "access_token":
				side.Access = v
			case "id_token":
				side.ID = v
			case "refresh_token":
				side.Refresh = v
			}
		}
	}
	a.secrets.Add(side.Access, side.ID, side.Refresh)
	if t, err := token.Decode(side.Access); err == nil {
		side.Scope = t.Scope()
		side.ExpiresAt, _ = t.Time("exp")
	}
	return side, name, nil
}
