package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/near"
	"tidycourier/core/project"
	"tidycourier/show"
)

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Print a server, client, API or call fully resolved, each value with where it came from",
		Example: `  tidy-courier show nightly-forecast
  tidy-courier show stations --stage ternby`,
		Args: takes(1, 1, "the name of a server, client, API or call"), ValidArgsFunction: a.complete(""),
		RunE: func(_ *cobra.Command, args []string) error {
			p, _, err := a.opened()
			if err != nil {
				return err
			}
			return a.showEntry(p, args[0])
		},
	}
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
