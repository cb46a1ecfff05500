package cli

import (
	"context"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/flow"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
	"tidycourier/show"
)

// decodeFlags are how a token is looked at.
type decodeFlags struct {
	client, which string
	q             flow.Question
	lines         bool
}

func (a *app) decodeCommand() *cobra.Command {
	var f decodeFlags
	cmd := &cobra.Command{
		Use: "decode [TOKEN | -]", Short: "Explain a token: who it is for and about, what it may do, claims, times, signature",
		Long: `Reads a token from the argument, from standard input (-), or from the pouch
(--client NAME), and explains it. It may be pasted as it was found: with Bearer
or quotes around it, as a header, a whole token answer, broken over lines.

With a courier file the token is held against what the API or call needs. Nothing
is verified, and nothing sent, without --verify: then the key comes from the
issuer's metadata, or from --jwks or --key, and signature, time, issuer and
audience are judged one by one. Exit status 7 when one of them fails.`,
		Example: `  tidy-courier decode --client nightly-forecast --verify
  tidy-courier decode --client pilot-desk --which id
  tidy-courier pouch take nightly-forecast | tidy-courier decode - --for post-notice
  tidy-courier decode --lines --verify --client nightly-forecast < tokens.txt`,
		Args: takes(0, 1, "one token at most"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.lines {
				return a.decodeLines(cmd.Context(), args, &f)
			}
			return a.decodeOne(cmd.Context(), args, &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.client, "client", "", "the token that the pouch holds for this client")
	fl.StringVar(&f.which, "which", "", "of a token set or answer: access, id or refresh (default access)")
	fl.StringVar(&f.q.For, "for", "", "the API or call that the token is meant for, to hold it against what that needs")
	fl.BoolVar(&f.q.Verify, "verify", false, "check signature, time, issuer and audience")
	fl.StringVar(&f.q.Keys.JWKS, "jwks", "", "verify with the keys of this JWK Set, a `URL or file`")
	fl.StringVar(&f.q.Keys.File, "key", "", "verify or decrypt with the key in this `file`: PEM, JWK, or a shared secret")
	fl.StringVar(&f.q.Keys.Issuer, "issuer", "", "the issuer to expect; its metadata names the keys")
	fl.StringArrayVar(&f.q.Keys.Audience, "audience", nil, "the audience to expect; may be repeated, one of them must fit")
	fl.BoolVar(&f.lines, "lines", false, "read a token a line from standard input, write a JSON object a line")
	a.completeFlag(cmd, "client", "clients")
	a.completeFlag(cmd, "for", "calls")
	_ = cmd.RegisterFlagCompletionFunc("which", cobra.FixedCompletions([]string{"access", "id", "refresh"}, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	return cmd
}

// looking makes the engine to look at tokens with. A courier file that cannot
// be read does not stand in the way of a token that has nothing to do with it.
func (a *app) looking(f *decodeFlags) (*flow.Engine, error) {
	if f.client != "" || f.q.For != "" {
		_, e, err := a.opened()
		return e, err
	}
	p, err := a.project()
	if err != nil {
		if a.g.file != "" || a.g.stage != "" {
			return nil, err
		}
		a.say("    the courier file is left out: %s", err)
		opt, bad := a.options()
		if bad != nil {
			return nil, bad
		}
		opt.Stage = ""
		p = project.Empty(opt)
	}
	return a.engine(p)
}

func (f *decodeFlags) settle(a *app) {
	if f.q.Keys.JWKS != "" && !strings.Contains(f.q.Keys.JWKS, "://") {
		f.q.Keys.JWKS = a.path(f.q.Keys.JWKS)
	}
	if f.q.Keys.File != "" {
		f.q.Keys.File = a.path(f.q.Keys.File)
	}
	f.q.Client, f.q.Which = f.client, f.which
	// naming a key is asking for it to be used
	f.q.Verify = f.q.Verify || f.q.Keys.JWKS != "" || f.q.Keys.Issuer != "" || len(f.q.Keys.Audience) > 0
}

func (a *app) decodeOne(ctx context.Context, args []string, f *decodeFlags) error {
	f.settle(a)
	e, err := a.looking(f)
	if err != nil {
		return err
	}
	if f.q.Text, err = a.tokenToDecode(args, f); err != nil {
		return err
	}
	a.watch(e, a.Err)
	s := e.Begin("decode")
	f.q.Verify = f.q.Verify || f.q.Keys.File != "" && !isEncrypted(f.q.Text, f.which)
	got, err := s.Examine(ctx, f.q)
	if err == nil && got.Verification != nil && got.Verification.Failed() {
		err = untrusted(got.Verification)
	}
	err = s.Finish(err)
	if got == nil {
		return err
	}
	a.doc = show.NewDecodeView(got, s.Run.Findings)
	if a.g.json {
		return err
	}
	pen := a.outPen()
	pen.Token(got)
	// what was taken off stands above already
	drawn := slices.DeleteFunc(slices.Clone(s.Run.Findings), func(f run.Finding) bool { return f.ID == "token-garbled" })
	if len(drawn) > 0 {
		pen.Gap()
	}
	pen.Findings(drawn)
	a.drawn = len(drawn) > 0
	return err
}

// isEncrypted tells whether a key is for opening the token rather than for
// verifying it.
func isEncrypted(text, which string) bool {
	t, err := token.Decode(token.Paste(text, which).Token)
	return err == nil && t.Form == token.JWE
}

// untrusted is a verification that failed, in one line.
func untrusted(v *token.Verification) error {
	for _, c := range v.Checks() {
		if c.Outcome == token.Fail {
			return fault.New(fault.Expectation, "the token is not to be accepted: %s: %s", c.Name, c.Reason)
		}
	}
	return nil
}

func (a *app) tokenToDecode(args []string, f *decodeFlags) (string, error) {
	switch {
	case f.client != "" && len(args) > 0 && args[0] != "-":
		return args[0], nil // a token from elsewhere, said to be this client's
	case f.client != "" && len(args) == 0:
		return a.tokenFromPouch(f.client, f.which)
	case len(args) == 0 && isTerminal(a.In):
		return "", fault.New(fault.Usage, "decode needs a token").Hint("as argument, on standard input with -, or from the pouch with --client NAME")
	case len(args) == 0 || args[0] == "-":
		raw, err := a.readInput(1 << 20)
		return string(raw), err
	}
	return args[0], nil
}

func (a *app) tokenFromPouch(client, which string) (string, error) {
	if which == "" {
		which = "access"
	}
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

// decodeLines explains a stream of tokens, a JSON object a line.
func (a *app) decodeLines(ctx context.Context, args []string, f *decodeFlags) error {
	if len(args) > 0 && args[0] != "-" {
		return fault.New(fault.Usage, "--lines reads standard input").At("--lines").Hint("tidy-courier decode --lines < %s", args[0])
	}
	f.settle(a)
	f.q.Verify = f.q.Verify || f.q.Keys.File != ""
	w := &lineWorker{now: a.Now}
	e, err := a.looking(f)
	if err != nil {
		return err
	}
	s := e.Begin("decode")
	if f.q.Verify {
		source, x, err := s.LineKeys(ctx, f.q)
		if err == nil {
			w.expect = x
			err = w.keys.load(source)
		}
		if err != nil {
			return s.Finish(err)
		}
	}
	debug.SetGCPercent(600) // a stream makes garbage at a steady rate; a little more memory buys a third of the time
	bad := token.Lines(ctx, a.In, a.Out, w.line)
	if err := s.Finish(nil); err != nil {
		return err
	}
	a.g.json = false // the lines are the documents
	switch {
	case bad != nil && ctx.Err() == nil:
		return fault.Wrap(fault.Usage, bad, "the lines could not be read or written")
	case bad != nil:
		return bad
	case w.failed.Load() > 0:
		return fault.New(fault.Expectation, "tokens that are not to be accepted: %d", w.failed.Load()).Hint("their lines have failed: [ … ]")
	case w.unread.Load() > 0:
		return fault.New(fault.Usage, "lines that could not be read as a token: %d", w.unread.Load()).Hint("their lines have error: { … }")
	}
	return nil
}

// lineWorker explains one line; it is used from several goroutines.
type lineWorker struct {
	decoder        token.Decoder
	keys           lineKeys
	expect         token.Expect
	now            func() time.Time
	unread, failed atomic.Int64
}

func (w *lineWorker) line(dst []byte, n int, text string, bad error) []byte {
	l := show.LineOfToken{N: n, Err: bad}
	if bad == nil {
		if !token.Bare(text) {
			p := token.Paste(text, "")
			text, l.TakenOff = p.Token, p.TakenOff
		}
		l.Token, l.Err = w.decoder.Decode(text)
	}
	if l.Err != nil {
		w.unread.Add(1)
		return show.AppendLine(dst, l)
	}
	now := w.now()
	if verifier := w.keys.verifier(l.Token.KeyID()); verifier != nil {
		x := w.expect
		x.Now = now
		v := verifier.Verify(l.Token, x)
		l.Verification = &v
		if v.Failed() {
			w.failed.Add(1)
		}
	}
	looked := evidence.Get().(*lookedAt) // only these are put in
	looked.examined = finding.Examined{Token: l.Token, TakenOff: l.TakenOff, Verification: l.Verification}
	looked.Now, looked.Examined = now, &looked.examined
	l.Findings = finding.JudgeToken(&looked.Evidence)
	evidence.Put(looked)
	dst = show.AppendLine(dst, l)
	w.decoder.Done(l.Token)
	return dst
}

// lookedAt is the evidence of one line, used again for the next.
type lookedAt struct {
	finding.Evidence
	examined finding.Examined
}

var evidence = sync.Pool{New: func() any { return &lookedAt{} }}

// lineKeys are the keys of a stream. One that is missing has the key set
// fetched again, once: keys rotate, and a stream of foreign kids must not become
// a stream of requests.
type lineKeys struct {
	mu     sync.RWMutex
	source func(kid string) (*token.KeySet, error)
	known  map[string]bool
	asked  bool
	by     *token.Verifier
}

func (k *lineKeys) load(source func(string) (*token.KeySet, error)) error {
	set, err := source("")
	if err != nil {
		return err
	}
	k.source = source
	k.use(set)
	return nil
}

func (k *lineKeys) use(set *token.KeySet) {
	k.known, k.by = map[string]bool{"": true}, token.NewVerifier(set)
	for _, id := range set.IDs() {
		k.known[id] = true
	}
	if !set.Named {
		k.asked = true // a file does not change by being read again
	}
}

func (k *lineKeys) verifier(kid string) *token.Verifier {
	k.mu.RLock()
	by, fine := k.by, k.asked || k.by == nil || k.known[kid]
	k.mu.RUnlock()
	if fine {
		return by
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	if !k.asked && !k.known[kid] {
		k.asked = true
		if set, err := k.source(kid); err == nil {
			k.use(set)
		}
	}
	return k.by
}
