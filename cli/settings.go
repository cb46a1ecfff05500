package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/near"
	"tidycourier/core/project"
	"tidycourier/show"
)

func (a *app) showCommand() *cobra.Command {
	var kept bool
	var forget []string
	cmd := &cobra.Command{
		Use: "show NAME", Short: "Print a server, client, API or call fully resolved, each value with where it came from",
		Long: `Prints an entry of the courier file with every placeholder filled in, each value
with its file and line and where it came from. --kept lists the values that calls
have kept in this project and stage, --forget drops one.`,
		Example: `  tidy-courier show nightly-forecast
  tidy-courier show stations --stage ternby
  tidy-courier show --kept
  tidy-courier show --forget station`,
		Args: takes(0, 1, "the name of a server, client, API or call"), ValidArgsFunction: a.complete(""),
		RunE: func(_ *cobra.Command, args []string) error {
			if (kept || len(forget) > 0) == (len(args) == 1) {
				return fault.New(fault.Usage, "show takes a name, --kept or --forget").Hint("tidy-courier show NAME prints an entry of the courier file")
			}
			p, _, err := a.opened()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return a.showEntry(p, args[0])
			}
			return a.showKept(p, forget)
		},
	}
	cmd.Flags().BoolVar(&kept, "kept", false, "list the values that calls have kept")
	cmd.Flags().StringArrayVar(&forget, "forget", nil, "drop a kept value by its `name`; may be repeated")
	return cmd
}

// showKept lists the kept values, after dropping some.
func (a *app) showKept(p *project.Project, forget []string) error {
	held, err := a.pouch()
	if err != nil {
		return err
	}
	kept, err := held.Kept(p.Key(), p.Stage())
	if err != nil {
		return err
	}
	for _, name := range forget {
		if _, there := kept[name]; !there {
			f := fault.New(fault.Settings, "no value is kept as ${%s}", name).At("--forget")
			if n := near.Name(name, slices.Collect(maps.Keys(kept))); n != "" {
				return f.Hint("did you mean %s?", n)
			}
			return f.Hint("tidy-courier show --kept lists them")
		}
		if err := held.Forget(p.Key(), p.Stage(), name); err != nil {
			return err
		}
		delete(kept, name)
		a.say("forgotten: ${%s}", name)
	}
	a.doc = map[string]any{"kept": kept, "stage": p.Stage()}
	if !a.g.json && len(forget) == 0 {
		a.outPen().Kept(kept)
	}
	return nil
}

type entryView struct {
	Name     string         `json:"name"`
	Section  string         `json:"section"`
	Stage    string         `json:"stage,omitempty"`
	Settings []project.Line `json:"settings"`
}

func (a *app) showEntry(p *project.Project, name string) error {
	sections := p.Find(name)
	if len(sections) == 0 {
		err := fault.New(fault.Settings, "there is no server, client, API or call %q in this courier file", name).At(p.Display())
		if p.Path() == "" {
			err = fault.New(fault.Settings, "there is no courier file here")
			return err.Hint("tidy-courier init writes one; --file names one that is elsewhere")
		}
		if n := near.Name(name, p.AllNames()); n != "" {
			return err.Hint("did you mean %q?", n)
		}
		return err.Hint("there are: %s", strings.Join(p.AllNames(), ", "))
	}
	var views []entryView
	for _, section := range sections {
		lines, err := p.Describe(section, name)
		if err != nil {
			return err
		}
		views = append(views, entryView{name, section, p.Stage(), lines})
		if !a.g.json {
			a.outPen().Settings(section, name, lines)
		}
	}
	a.doc = map[string]any{"entries": views}
	return nil
}

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema", Short: "Print the courier file's JSON Schema",
		Example: `  tidy-courier schema > courier.schema.json`,
		Args:    takes(0, 0, "no argument"),
		RunE: func(*cobra.Command, []string) error {
			return show.JSON(a.Out, project.Schema())
		},
	}
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: takes(0, 0, "no argument"),
		Example: `  tidy-courier version`,
		RunE: func(*cobra.Command, []string) error {
			if a.g.json {
				a.doc = map[string]string{"version": Version}
				return nil
			}
			_, err := a.Out.Write([]byte("tidy-courier " + Version + "\n"))
			return err
		},
	}
}
