package cli

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tidycourier/core/fault"
	"tidycourier/core/near"
)

// Version is set at release.
var Version = "0.1.0-dev"

// Groups of commands, in the order of the work.
const (
	groupSetUp      = "setup"
	groupObtain     = "obtain"
	groupUnderstand = "understand"
	groupCall       = "call"
	groupDebug      = "debug"
	groupPractise   = "practise"
)

func (a *app) root(args []string) *cobra.Command {
	cobra.EnableCommandSorting = false // the help keeps the order of the work
	root := &cobra.Command{
		Use:   "tidy-courier",
		Short: "Runs OAuth 2.0 grants, explains tokens, calls protected APIs, and says why a leg failed",
		Long: `Tidy Courier runs OAuth 2.0 grants against token endpoints you do not control,
shows and checks the tokens that come back, calls protected APIs with them, and,
when a leg fails, says which one, why, and what to change.

Start with:  tidy-courier demo`,
		SilenceErrors: true, SilenceUsage: true, Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error { return unknownCommand(cmd, args) },
		PersistentPreRun: func(*cobra.Command, []string) {
			a.began = true
		},
	}
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	root.SetFlagErrorFunc(flagError)
	a.globalFlags(root.PersistentFlags())
	_ = root.RegisterFlagCompletionFunc("stage", a.completeStage) // the flag is there
	root.AddGroup(&cobra.Group{ID: groupSetUp, Title: "Set up:"}, &cobra.Group{ID: groupObtain, Title: "Obtain:"},
		&cobra.Group{ID: groupUnderstand, Title: "Understand:"}, &cobra.Group{ID: groupCall, Title: "Call:"},
		&cobra.Group{ID: groupDebug, Title: "Debug:"}, &cobra.Group{ID: groupPractise, Title: "Practise:"})
	for _, c := range a.commands() {
		// a command that is named first is the only one that has to be made: that is half of the start
		if len(args) > 0 && a.isCommand(args[0]) && args[0] != c.name {
			continue
		}
		cmd := c.make()
		cmd.GroupID = c.group
		root.AddCommand(cmd)
	}
	return root
}

// command is one command before it is made.
type command struct {
	group, name string
	make        func() *cobra.Command
}

// commands lists every command, in the order of the work.
func (a *app) commands() []command {
	return []command{
		{groupSetUp, "init", a.initCommand}, {groupSetUp, "discover", a.discoverCommand}, {groupSetUp, "show", a.showCommand}, {groupSetUp, "schema", a.schemaCommand},
		{groupObtain, "obtain", a.obtainCommand}, {groupObtain, "refresh", a.refreshCommand}, {groupObtain, "pouch", a.pouchCommand},
		{groupUnderstand, "decode", a.decodeCommand}, {groupUnderstand, "compare", a.compareCommand},
		{groupUnderstand, "introspect", a.introspectCommand}, {groupUnderstand, "userinfo", a.userinfoCommand},
		{groupUnderstand, "revoke", a.revokeCommand}, {groupUnderstand, "logout", a.logoutCommand},
		{groupCall, "call", a.callCommand}, {groupCall, "round", a.roundCommand}, {groupCall, "drill", a.drillCommand},
		{groupDebug, "vet", a.vetCommand}, {groupDebug, "explain", a.explainCommand}, {groupDebug, "journal", a.journalCommand},
		{groupPractise, "demo", a.demoCommand}, {groupPractise, "standin", a.standinCommand},
		{"", "version", a.versionCommand},
	}
}

// isCommand reports whether an argument is a command's name, to the letter.
func (a *app) isCommand(arg string) bool {
	return slices.ContainsFunc(a.commands(), func(c command) bool { return c.name == arg })
}

func (a *app) globalFlags(f *pflag.FlagSet) {
	f.StringVar(&a.g.file, "file", "", "the courier file (default: courier.yaml here or in a folder above; TIDY_COURIER_FILE)")
	f.StringVar(&a.g.stage, "stage", "", "the stage whose values are laid over the defaults (TIDY_COURIER_STAGE)")
	f.StringVar(&a.g.state, "state", "", "the folder of pouch and journal (default: $XDG_STATE_HOME/tidy-courier; TIDY_COURIER_STATE)")
	f.StringArrayVar(&a.g.set, "set", nil, "a value for ${name}, as name=value; may be repeated")
	f.BoolVar(&a.g.reveal, "reveal", false, "show secrets and tokens")
	f.BoolVar(&a.g.quiet, "quiet", false, "no narration, only data and errors")
	f.BoolVar(&a.g.verbose, "verbose", false, "show each leg's headers and bodies")
	f.BoolVar(&a.g.json, "json", false, "print one JSON document on standard output")
	f.BoolVar(&a.g.noColor, "no-color", false, "no colour (NO_COLOR)")
	f.StringVar(&a.g.cacert, "cacert", "", "a PEM `file` of further authorities to trust")
	f.StringArrayVar(&a.g.plainHTTP, "plain-http", nil, "a `host` that plain http may be sent to, besides loopback")
	f.DurationVar(&a.g.timeout, "timeout", 0, "how long one exchange may take (default 30s), or a person to sign in (default 3m)")
}

// unknownCommand answers a mistyped command with the nearest one.
func unknownCommand(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return cmd.Help()
	}
	var names []string
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, c.Name())
		}
	}
	err := fault.New(fault.Usage, "there is no command %q under %s", args[0], cmd.CommandPath())
	if n := near.Name(args[0], names); n != "" {
		return err.Hint("did you mean %s %s?", cmd.CommandPath(), n)
	}
	return err.Hint("%s --help lists them", cmd.CommandPath())
}

var flagName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`--([A-Za-z0-9-]+)`) })

// flagError answers a mistyped flag with the nearest one.
func flagError(cmd *cobra.Command, err error) error {
	f := fault.New(fault.Usage, "%s: %s", cmd.CommandPath(), err.Error())
	m := flagName().FindStringSubmatch(err.Error())
	if m != nil && strings.HasPrefix(err.Error(), "unknown flag") {
		var names []string
		cmd.Flags().VisitAll(func(fl *pflag.Flag) { names = append(names, fl.Name) })
		if n := near.Name(m[1], names); n != "" {
			return f.Hint("did you mean --%s?", n)
		}
	}
	return f.Hint("%s --help lists its flags", cmd.CommandPath())
}

// group is a command that only has commands under it.
func group(use, short, example string, subs ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Example: example, Args: cobra.ArbitraryArgs, RunE: unknownCommand}
	cmd.AddCommand(subs...)
	return cmd
}

// takes checks the number of arguments and says what is missing.
func takes(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return fault.New(fault.Usage, "%s needs %s", cmd.CommandPath(), what).Hint("as in:\n%s", firstExample(cmd))
		case len(args) > most:
			return fault.New(fault.Usage, "%s takes %s, and got %q too", cmd.CommandPath(), what, args[most]).Hint("quote an argument that has spaces in it")
		}
		return nil
	}
}

func firstExample(cmd *cobra.Command) string {
	line, _, _ := strings.Cut(strings.TrimSpace(cmd.Example), "\n")
	return line
}
