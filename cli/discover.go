package cli

import (
	"os"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

func (a *app) discoverCommand() *cobra.Command {
	var save string
	cmd := &cobra.Command{
		Use: "discover URL", Short: "Read a server's metadata: endpoints, grants, client authentication, PKCE",
		Long: `Reads the metadata of an authorization server from its issuer, first where
RFC 8414 puts it and then where OpenID Connect Discovery does. Each try is shown.

The argument is an issuer, a whole metadata URL, or the name of a server in the
courier file.`,
		Example: `  tidy-courier discover http://127.0.0.1:8650
  tidy-courier discover http://127.0.0.1:8650 --save northmark`,
		Args: takes(1, 1, "an issuer URL or a server's name"), ValidArgsFunction: a.complete("servers"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, e, err := a.opened()
			if err != nil {
				return err
			}
			issuer, where := args[0], "the URL given"
			if len(p.Find(issuer)) > 0 {
				s, err := p.Server(issuer)
				if err != nil {
					return err
				}
				issuer, where = s.Issuer.Value, s.Issuer.Where
			}
			a.watch(e, a.Err)
			s := e.Begin("discover")
			s.Run.Server = args[0]
			if e.OnStart != nil {
				e.OnStart(s.Run)
			}
			found, err := s.Discover(cmd.Context(), issuer, where)
			err = s.Finish(err)
			a.discovered(s, found)
			a.explain(s)
			if err == nil && save != "" {
				return a.saveServer(save, found.Metadata)
			}
			return err
		},
	}
	cmd.Flags().StringVar(&save, "save", "", "put the server into the courier file under this `name`")
	a.completeFlag(cmd, "save", "servers")
	return cmd
}

type discoverView struct {
	Run      int64          `json:"run"`
	Issuer   string         `json:"issuer"`
	Source   string         `json:"source"`
	Metadata map[string]any `json:"metadata"`
	Findings []run.Finding  `json:"findings"`
}

func (a *app) discovered(s *flow.Session, found *flow.Discovered) {
	view := discoverView{Run: s.Run.N, Findings: run.MaskFindings(s.Run.Findings, &a.secrets)}
	if found != nil {
		view.Issuer, view.Source, view.Metadata = found.Metadata.Issuer, found.Source, found.Metadata.Raw
		if !a.g.json {
			a.outPen().Metadata(found.Metadata, found.Source)
		}
	}
	a.doc = view
}

// saveServer writes the issuer and the endpoints into the courier file.
func (a *app) saveServer(name string, m *oauth.Metadata) error {
	fields := []project.KV{{Name: "issuer", YAML: project.Quote(m.Issuer)}}
	for _, n := range oauth.EndpointNames {
		if v := m.Endpoint(n); v != "" {
			fields = append(fields, project.KV{Name: n, YAML: project.Quote(v)})
		}
	}
	path, err := a.editCourierFile("servers", name, fields)
	if err == nil {
		a.say("saved as server %s in %s", name, path)
	}
	return err
}

// editCourierFile puts fields of an entry into the courier file, which is made
// when there is none. It returns the file's path.
func (a *app) editCourierFile(section, name string, fields []project.KV) (string, error) {
	path := a.courierPath()
	if path == "" {
		path = a.Dir + string(os.PathSeparator) + project.FileName
	}
	src, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		src, err = []byte("version: 1\n"), nil
	}
	if err != nil {
		return path, fault.Wrap(fault.Settings, err, "the courier file cannot be read").At(path)
	}
	out, err := project.Put(src, path, section, name, fields)
	if err != nil {
		return path, err
	}
	return path, project.WriteFile(path, out, 0o644)
}
