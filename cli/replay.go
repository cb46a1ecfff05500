package cli

import (
	"github.com/spf13/cobra"

	"tidycourier/core/exhibit"
	"tidycourier/core/fault"
	"tidycourier/show"
	"tidycourier/standin"
)

// replay serves a record in place of the simulated provider.
func (a *app) replay(cmd *cobra.Command, f *standinFlags) error {
	for _, name := range []string{"project", "fault", "approve", "as-user", "rotate-keys", "tls"} {
		if cmd.Flags().Changed(name) {
			return fault.New(fault.Usage, "--%s belongs to the Tide Office, which --replay does not serve", name).Hint("leave it away; name the server by --issuer or --token-endpoint")
		}
	}
	b, _, err := a.readHAR(f.replay, exhibit.Settings{Now: a.Now()})
	if err != nil {
		return err
	}
	if len(b.Legs) == 0 {
		return fault.New(fault.Usage, "the record holds nothing that belongs to OAuth or its calls").At(f.replay)
	}
	l, _, err := listenAt(f.listen)
	if err != nil {
		return err
	}
	base := "http://" + l.Addr().String()
	p := standin.NewReplay(b, base, func(format string, args ...any) { a.say("    "+format, safely(args)...) })
	if a.g.json {
		servers := []map[string]string{}
		for _, o := range p.Origins() {
			servers = append(servers, map[string]string{"recorded": o[0], "served": o[1]})
		}
		if err := show.JSONLine(a.Out, map[string]any{"answers": p.Len(), "servers": servers}); err != nil {
			return err
		}
	} else {
		a.outPen().Replay(p.Len(), p.Origins())
		a.say("Ctrl-C stops it")
	}
	return serve(cmd.Context(), p, l)
}

// safely makes foreign text among arguments harmless.
func safely(args []any) []any {
	out := make([]any, len(args))
	for i, x := range args {
		if s, ok := x.(string); ok {
			x = show.Safe(s)
		}
		out[i] = x
	}
	return out
}
