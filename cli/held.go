package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/show"
)

// about runs a command about one client's token: the legs are narration, the
// answer is data.
func (a *app) about(client, command string, ask func(s *flow.Session, c *project.Client) (any, error)) error {
	e, c, err := a.openedFor(client)
	if err != nil {
		return err
	}
	a.watch(e, a.Err)
	s := e.Begin(command)
	got, err := ask(s, c)
	err = s.Finish(err)
	rec := s.Run.Record(&a.secrets)
	view := heldView{Run: rec.N, Client: client, Answer: got, Legs: rec.Legs, Findings: rec.Findings, Error: rec.Error}
	a.doc = view
	a.explain(s)
	return err
}

// heldView is the --json document of introspect, revoke, userinfo and logout.
type heldView struct {
	Run      int64           `json:"run"`
	Client   string          `json:"client"`
	Answer   any             `json:"answer"`
	Legs     []run.LegRecord `json:"legs"`
	Findings []run.Finding   `json:"findings"`
	Error    *run.Failure    `json:"error"`
}

func (a *app) introspectCommand() *cobra.Command {
	var which string
	cmd := &cobra.Command{
		Use: "introspect CLIENT", Short: "Ask the server what a token stands for (RFC 7662)",
		Long: `Asks the server's introspection endpoint about the token that the pouch holds for
a client, with that client's authentication. It is the way to look into an opaque
token. That a token is not active is an answer; the server never says why.`,
		Example: `  tidy-courier introspect kiosk
  tidy-courier introspect relay --which refresh --json`,
		Args: takes(1, 1, "a client"), ValidArgsFunction: a.complete("clients"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.about(args[0], "introspect", func(s *flow.Session, c *project.Client) (any, error) {
				got, err := s.Introspect(cmd.Context(), c, which)
				if err != nil {
					return nil, err
				}
				if !a.g.json {
					a.outPen().Introspection(got)
				}
				return got.Answer.Members, nil
			})
		},
	}
	cmd.Flags().StringVar(&which, "which", "access", "which token: access or refresh")
	_ = cmd.RegisterFlagCompletionFunc("which", cobra.FixedCompletions([]string{"access", "refresh"}, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	return cmd
}

func (a *app) revokeCommand() *cobra.Command {
	var which string
	cmd := &cobra.Command{
		Use: "revoke CLIENT", Short: "End a client's tokens at the server; the pouch forgets them (RFC 7009)",
		Long: `Ends the refresh token and the access token that the pouch holds for a client, and
forgets each as soon as the server has ended it. An API that reads JWTs by itself
may take the access token until its end all the same.`,
		Example: `  tidy-courier revoke kiosk
  tidy-courier revoke pilot-desk --which access`,
		Args: takes(1, 1, "a client"), ValidArgsFunction: a.complete("clients"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.about(args[0], "revoke", func(s *flow.Session, c *project.Client) (any, error) {
				got, err := s.Revoke(cmd.Context(), c, which)
				if got == nil {
					return nil, err
				}
				if len(got.Kinds) > 0 {
					rest := "the pouch has forgotten the token set"
					if got.Left != "" {
						rest = "the pouch keeps the " + got.Left
					}
					a.say(" ✔  revoked: %s; %s", strings.Join(got.Kinds, " and "), rest)
				}
				return map[string]any{"revoked": got.Kinds, "left": got.Left}, err
			})
		},
	}
	cmd.Flags().StringVar(&which, "which", "both", "which token: access, refresh or both")
	_ = cmd.RegisterFlagCompletionFunc("which", cobra.FixedCompletions([]string{"access", "refresh", "both"}, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	return cmd
}

func (a *app) userinfoCommand() *cobra.Command {
	return &cobra.Command{
		Use: "userinfo CLIENT", Short: "Ask the server about the person who signed in (OpenID Connect)",
		Long: `Calls the userinfo endpoint with the client's access token. A signed answer is
verified. The answer's sub must be that of the id token, or it is not used.`,
		Example: `  tidy-courier userinfo pilot-desk
  tidy-courier userinfo harbour-portal --json`,
		Args: takes(1, 1, "a client"), ValidArgsFunction: a.complete("clients"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.about(args[0], "userinfo", func(s *flow.Session, c *project.Client) (any, error) {
				got, err := s.Userinfo(cmd.Context(), c)
				if got == nil {
					return nil, err
				}
				if err == nil && !a.g.json {
					a.outPen().Userinfo(got)
				}
				return map[string]any{"claims": got.Claims, "verification": got.Verification, "expected_sub": got.Expected}, err
			})
		},
	}
}

func (a *app) logoutCommand() *cobra.Command {
	var back, state, browse string
	var open bool
	cmd := &cobra.Command{
		Use: "logout CLIENT", Short: "The URL that signs the person out at the server (OpenID Connect RP-Initiated Logout)",
		Long: `Prints the logout URL: where a browser goes to end the person's session at the
server. It carries the id token as a hint, so it is shown masked unless --reveal;
--open sends the browser there. Tokens that were handed out may live on: revoke
ends those.`,
		Example: `  tidy-courier logout pilot-desk --open
  tidy-courier logout pilot-desk --redirect-uri http://127.0.0.1:8651/goodbye --reveal`,
		Args: takes(1, 1, "a client"), ValidArgsFunction: a.complete("clients"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.about(args[0], "logout", func(s *flow.Session, c *project.Client) (any, error) {
				url, err := s.Logout(cmd.Context(), c, back, state)
				if err != nil {
					return nil, err
				}
				shown := url
				if !a.g.reveal {
					shown = a.secrets.Replace(url)
				}
				if open || browse != "" {
					if browse == "" && !a.hasDisplay() {
						return nil, fault.New(fault.Usage, "there is no display to open a browser at").At("--open").Hint("--reveal prints the whole URL instead; --browser COMMAND names what opens it")
					}
					note, err := a.openBrowser(&personFlags{browser: browse}, url)
					if err != nil {
						return nil, err
					}
					a.say("    %s", note)
				}
				if !a.g.json {
					fmt.Fprintln(a.Out, show.Safe(shown))
				}
				return map[string]any{"url": shown}, nil
			})
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&back, "redirect-uri", "", "where the browser returns afterwards (post_logout_redirect_uri)")
	fl.StringVar(&state, "return-state", "", "a value to come back with in the parameter state")
	fl.BoolVar(&open, "open", false, "send the browser there")
	fl.StringVar(&browse, "browser", "", "the `command` to open it with; the URL is its last argument")
	return cmd
}
