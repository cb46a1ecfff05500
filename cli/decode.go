package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/token"
	"tidycourier/show"
)

func (a *app) decodeCommand() *cobra.Command {
	var client, which string
	cmd := &cobra.Command{
		Use: "decode [TOKEN | -]", Short: "Explain a token: header, claims with their meaning, times",
		Long: `Reads a token from the argument, from standard input (-), or from the pouch
(--client NAME), and explains it. Nothing is checked and nothing is sent: that the
signature was not verified is always said.`,
		Example: `  tidy-courier decode --client nightly-forecast
  tidy-courier pouch take nightly-forecast | tidy-courier decode -`,
		Args: takes(0, 1, "one token at most"),
		RunE: func(_ *cobra.Command, args []string) error {
			raw, err := a.tokenToDecode(args, client, which)
			if err != nil {
				return err
			}
			t, err := token.Decode(raw)
			if err != nil {
				return fault.New(fault.Usage, "%s", err.Error()).Hint("paste the token alone, from its first character to its last")
			}
			a.doc = show.NewDecodeView(t)
			if !a.g.json {
				a.outPen().Token(t)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&client, "client", "", "the token that the pouch holds for this client")
	cmd.Flags().StringVar(&which, "which", "access", "with --client: access, id or refresh")
	a.completeFlag(cmd, "client", "clients")
	return cmd
}

func (a *app) tokenToDecode(args []string, client, which string) (string, error) {
	switch {
	case client != "" && len(args) > 0:
		return "", fault.New(fault.Usage, "give a token or --client, not both")
	case client != "":
		return a.tokenFromPouch(client, which)
	case len(args) == 0 && isTerminal(a.In):
		return "", fault.New(fault.Usage, "decode needs a token").Hint("as argument, on standard input with -, or from the pouch with --client NAME")
	case len(args) == 0 || args[0] == "-":
		raw, err := a.readInput(1 << 20)
		return strings.TrimSpace(string(raw)), err
	}
	return args[0], nil
}

func (a *app) tokenFromPouch(client, which string) (string, error) {
	if kinds := []string{"access", "id", "refresh"}; !slices.Contains(kinds, which) {
		return "", fault.New(fault.Usage, "%q is not one of %s", which, strings.Join(kinds, ", ")).At("--which")
	}
	p, held, err := a.held()
	if err != nil {
		return "", err
	}
	set, err := a.set(p, held, client)
	if err != nil {
		return "", err
	}
	raw := map[string]string{"access": set.AccessToken, "id": set.IDToken, "refresh": set.RefreshToken}[which]
	if raw == "" {
		return "", fault.New(fault.Settings, "the token set of %q has no %s token", client, which)
	}
	return raw, nil
}
