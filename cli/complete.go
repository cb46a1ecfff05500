package cli

import "github.com/spf13/cobra"

// complete offers the names of a section of the courier file.
func (a *app) complete(section string) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, _ string) ([]cobra.Completion, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return a.names(section), cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *app) completeStage(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
	return a.names("stages"), cobra.ShellCompDirectiveNoFileComp
}

// completeFlag offers the names of a section as a flag's value.
func (a *app) completeFlag(cmd *cobra.Command, flag, section string) {
	_ = cmd.RegisterFlagCompletionFunc(flag, func(*cobra.Command, []string, string) ([]cobra.Completion, cobra.ShellCompDirective) {
		return a.names(section), cobra.ShellCompDirectiveNoFileComp
	}) // fails only for a flag that is not there
}

// names is silent about everything: a shell has no place for an error.
func (a *app) names(section string) []string {
	a.g.stage = ""
	p, err := a.project()
	if err != nil {
		return nil
	}
	if section == "" {
		return p.AllNames()
	}
	return p.Names(section)
}
