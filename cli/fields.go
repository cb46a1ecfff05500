package cli

import (
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tidycourier/core/fault"
	"tidycourier/core/project"
	"tidycourier/core/shellwords"
)

// fieldFlags are the flags made from the fields of a server and a client, so
// that everything works before any courier file exists. A secret is never a
// flag's value, since other processes see arguments.
type fieldFlags struct {
	flags  *pflag.FlagSet
	params []string
}

var secretKinds = []string{"env", "file", "command"}

func addFieldFlags(cmd *cobra.Command) *fieldFlags {
	ff := &fieldFlags{flags: cmd.Flags()}
	for _, shape := range []*project.Shape{project.ServerShape, project.ClientShape} {
		for _, f := range shape.Fields {
			name := flagFor(f)
			switch {
			case name == "":
			case project.IsSecret(f):
				for _, kind := range secretKinds {
					ff.flags.String(name+"-"+kind, "", f.Doc+", from this "+map[string]string{"env": "environment `variable`", "file": "`file`", "command": "`command`'s first line of output"}[kind])
				}
			default:
				usage := f.Doc
				if f.Enum != nil {
					usage += " (" + strings.Join(f.Enum, ", ") + ")"
				}
				ff.flags.String(name, "", usage)
				if f.Enum != nil {
					_ = cmd.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(f.Enum, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
				}
			}
		}
	}
	ff.flags.StringArrayVar(&ff.params, "param", nil, "an extra request parameter, as NAME=VALUE; may be repeated")
	return ff
}

// flagFor is a field's flag: its name with dashes, unless the table says
// otherwise; "" when it has none.
func flagFor(f project.Field) string {
	switch f.Flag {
	case "-":
		return ""
	case "":
		return strings.ReplaceAll(f.Name, "_", "-")
	}
	return f.Flag
}

// given lists what was set, for one entry.
func (ff *fieldFlags) given(shape *project.Shape) ([]project.Given, error) {
	var out []project.Given
	for _, f := range shape.Fields {
		name := flagFor(f)
		if name == "" {
			continue
		}
		if !project.IsSecret(f) {
			if fl := ff.flags.Lookup(name); fl.Changed {
				out = append(out, project.Given{Field: f.Name, Value: fl.Value.String(), Flag: "--" + name})
			}
			continue
		}
		before := len(out)
		for _, kind := range secretKinds {
			fl := ff.flags.Lookup(name + "-" + kind)
			if !fl.Changed {
				continue
			}
			g := project.Given{Field: f.Name, Value: fl.Value.String(), Source: kind, Flag: "--" + fl.Name}
			if kind == "command" {
				var err error
				if g.Args, err = shellwords.Split(g.Value); err != nil || len(g.Args) == 0 {
					return nil, fault.New(fault.Usage, "%q is not a command", g.Value).At(g.Flag).Hint("give the program and its arguments, in one string")
				}
			}
			out = append(out, g)
		}
		if len(out) > before+1 {
			return nil, fault.New(fault.Usage, "the %s can come from one place only", f.Name).At(out[before+1].Flag)
		}
	}
	return out, nil
}

// any reports whether any field flag was set.
func (ff *fieldFlags) any() bool {
	s, err1 := ff.given(project.ServerShape)
	c, err2 := ff.given(project.ClientShape)
	return len(s)+len(c)+len(ff.params) > 0 || err1 != nil || err2 != nil
}

// lay puts the flags over a client and its server in a project.
func (ff *fieldFlags) lay(p *project.Project, client, server, leg string) error {
	forServer, err := ff.given(project.ServerShape)
	if err != nil {
		return err
	}
	forClient, err := ff.given(project.ClientShape)
	if err != nil {
		return err
	}
	if err := p.Override("servers", server, forServer); err != nil {
		return err
	}
	if err := p.Override("clients", client, forClient); err != nil {
		return err
	}
	for _, text := range ff.params {
		name, value, found := strings.Cut(text, "=")
		if !found || name == "" {
			return fault.New(fault.Usage, "%q is not NAME=VALUE", text).At("--param")
		}
		p.OverrideParam(client, leg, name, value, "--param")
	}
	return nil
}
