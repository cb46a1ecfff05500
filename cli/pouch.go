package cli

import (
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/near"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/show"
)

func (a *app) pouchCommand() *cobra.Command {
	return group("pouch", "List, show, hand over or drop the tokens that are held", `  tidy-courier pouch list
  tidy-courier pouch take nightly-forecast --form header`,
		a.pouchList(), a.pouchShow(), a.pouchTake(), a.pouchDrop())
}

// held opens the project and the pouch.
func (a *app) held() (*project.Project, *pouch.Pouch, error) {
	p, err := a.project()
	if err != nil {
		return nil, nil, err
	}
	held, err := a.pouch()
	return p, held, err
}

func (a *app) pouch() (*pouch.Pouch, error) {
	store, err := a.store()
	if err != nil {
		return nil, err
	}
	return store.Pouch()
}

func (a *app) pouchList() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "list", Short: "List the token sets of this project", Args: takes(0, 0, "no argument"),
		Example: "  tidy-courier pouch list\n  tidy-courier pouch list --all --json",
		RunE: func(*cobra.Command, []string) error {
			debug.SetGCPercent(400) // a long list is read, drawn and done with
			p, held, err := a.held()
			if err != nil {
				return err
			}
			list, err := held.List(p.Key(), all)
			if err != nil {
				return err
			}
			entries := make([]show.PouchEntry, 0, len(list))
			for _, e := range list {
				entries = append(entries, show.NewPouchEntry(e, a.Now()))
			}
			a.doc = map[string]any{"tokens": entries}
			if !a.g.json {
				a.outPen().Pouch(entries)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "of every project, not only this one")
	return cmd
}

// set finds a client's token set in the stage in force.
func (a *app) set(p *project.Project, held *pouch.Pouch, client string) (*pouch.Set, error) {
	return a.setIn(p, held, client, p.Stage())
}

// setIn finds a client's token set, or says what is held instead.
func (a *app) setIn(p *project.Project, held *pouch.Pouch, client, stage string) (*pouch.Set, error) {
	set, err := held.Get(pouch.Key{Project: p.Key(), Stage: stage, Client: client})
	if !errors.Is(err, pouch.ErrNone) {
		return set, err
	}
	f := fault.New(fault.Settings, "the pouch holds no token for %q", client)
	if stage != "" {
		f = fault.New(fault.Settings, "the pouch holds no token for %q in stage %s", client, stage)
	}
	list, err := held.List(p.Key(), false)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		names = append(names, e.Key.Client)
	}
	if n := near.Name(client, names); n != "" && n != client {
		return nil, f.Hint("did you mean %s?", n)
	}
	return nil, f.Hint("tidy-courier obtain %s", client)
}

func (a *app) pouchShow() *cobra.Command {
	return &cobra.Command{
		Use: "show CLIENT", Short: "Show a client's token set", Args: takes(1, 1, "a client"), ValidArgsFunction: a.complete("clients"),
		Example: "  tidy-courier pouch show nightly-forecast",
		RunE: func(_ *cobra.Command, args []string) error {
			p, held, err := a.held()
			if err != nil {
				return err
			}
			set, err := a.set(p, held, args[0])
			if err != nil {
				return err
			}
			view := flow.View(set)
			if a.g.reveal {
				reveal(view, &flow.Obtained{Set: set})
			}
			a.doc = map[string]any{"client": args[0], "stage": p.Stage(), "server": set.Server, "grant": set.Grant, "obtained_at": set.ObtainedAt.UTC().Truncate(time.Second), "token": view}
			if a.g.json {
				return nil
			}
			pen := a.outPen()
			pen.Head(&run.Record{Client: args[0], Grant: set.Grant, Server: set.Server, Stage: p.Stage()})
			pen.Tokens(view)
			pen.Values(view)
			return nil
		},
	}
}

func (a *app) pouchTake() *cobra.Command {
	var form string
	forms := []string{"token", "header", "env", "json"}
	cmd := &cobra.Command{
		Use: "take CLIENT", Short: "Hand over a valid access token on standard output",
		Long: `Prints a valid access token, getting a new one first when the one held is about
to end. This is the one command whose purpose is to show a token.`,
		Example: `  tidy-courier pouch take nightly-forecast | tidy-courier decode -
  tidy-courier pouch take nightly-forecast --form header
  export $(tidy-courier pouch take nightly-forecast --form env)`,
		Args: takes(1, 1, "a client"), ValidArgsFunction: a.complete("clients"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(forms, form) {
				return fault.New(fault.Usage, "there is no form %q", form).At("--form").Hint("there are: %s", strings.Join(forms, ", "))
			}
			e, c, err := a.openedFor(args[0])
			if err != nil {
				return err
			}
			a.watch(e, a.Err)
			s := e.Begin("pouch take")
			used, err := s.TokenFor(cmd.Context(), c)
			if err = s.Finish(err); err != nil {
				a.explain(s)
				return err
			}
			return a.handOver(form, used)
		},
	}
	cmd.Flags().StringVar(&form, "form", "token", "how to print it: "+strings.Join(forms, ", "))
	_ = cmd.RegisterFlagCompletionFunc("form", cobra.FixedCompletions(forms, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	return cmd
}

func (a *app) handOver(form string, u *flow.Used) error {
	if a.g.json {
		form = "json"
	}
	switch form {
	case "header":
		fmt.Fprintln(a.Out, "Authorization: Bearer "+u.Token)
	case "env":
		fmt.Fprintln(a.Out, "ACCESS_TOKEN="+u.Token)
	case "json":
		doc := map[string]any{"client": u.Client, "token_type": "Bearer", "access_token": u.Token, "scope": u.Set.Scope}
		if !u.Set.ExpiresAt.IsZero() {
			doc["expires_at"] = u.Set.ExpiresAt.UTC().Truncate(time.Second)
		}
		return show.JSON(a.Out, doc)
	default:
		fmt.Fprintln(a.Out, u.Token)
	}
	return nil
}

func (a *app) pouchDrop() *cobra.Command {
	var all, expired bool
	cmd := &cobra.Command{
		Use: "drop [CLIENT]", Short: "Forget a client's token set", Args: takes(0, 1, "one client at most"), ValidArgsFunction: a.complete("clients"),
		Example: "  tidy-courier pouch drop nightly-forecast\n  tidy-courier pouch drop --expired",
		RunE: func(_ *cobra.Command, args []string) error {
			if (len(args) == 1) == (all || expired) {
				return fault.New(fault.Usage, "say which to drop: a client, --all or --expired")
			}
			p, held, err := a.held()
			if err != nil {
				return err
			}
			dropped := []string{}
			if len(args) == 1 {
				if _, err := a.set(p, held, args[0]); err != nil {
					return err
				}
				dropped = append(dropped, args[0])
				err = held.Drop(pouch.Key{Project: p.Key(), Stage: p.Stage(), Client: args[0]})
			} else {
				dropped, err = a.dropMany(p, held, all)
			}
			a.doc = map[string]any{"dropped": dropped}
			a.say("dropped %s", strings.Join(append(dropped, fmt.Sprintf("(%d)", len(dropped))), " "))
			return err
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "every token set of this project")
	cmd.Flags().BoolVar(&expired, "expired", false, "every one that has expired and cannot be refreshed")
	return cmd
}

func (a *app) dropMany(p *project.Project, held *pouch.Pouch, all bool) ([]string, error) {
	list, err := held.List(p.Key(), false)
	if err != nil {
		return nil, err
	}
	dropped := []string{}
	for _, e := range list {
		if !all && (e.State(a.Now()) != "expired" || e.Refreshable) {
			continue
		}
		if err := held.Drop(e.Key); err != nil {
			return dropped, err
		}
		dropped = append(dropped, e.Key.Client)
	}
	return dropped, nil
}
