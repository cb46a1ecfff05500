package cli

import (
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tidycourier/core/bearer"
	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/project"
	"tidycourier/core/wire"
	"tidycourier/show"
)

// callFlags are what a call can be given on the command line.
type callFlags struct {
	client, token, body, save, pick, api string
	headers, query, form, upload         []string
	bare, dryRun, table, pages           bool
	columns                              []string
	next, cursor, as, versus             string
	maxPages                             int
}

func (a *app) callCommand() *cobra.Command {
	var f callFlags
	cmd := &cobra.Command{
		Use: "call NAME | METHOD URL", Short: "Send a protected call; the body goes to standard output",
		Long: `Sends a call of the courier file, or one given by method and URL. The token comes
from the pouch while enough of its life remains, and is obtained by itself when no
person is needed. The body goes to standard output as it came; on a terminal it is
laid out.

A URL that is only a path is put under the base_url of the API (--api NAME where
there are several). --table draws an array of objects, --pages goes on to the next
pages (RFC 8288, or --next JSONPATH), --save writes the body to a file as it comes,
--as writes the request for use elsewhere, and --versus sends the same call as
another client and shows where the answers differ.`,
		Example: `  tidy-courier call stations
  tidy-courier call stations --pick '$.stations[*].name'
  tidy-courier call readings --table --pages
  tidy-courier call harbours --client nightly-forecast --versus pilot-desk
  tidy-courier call GET /harbours --api gauges
  tidy-courier call GET http://127.0.0.1:8650/api/me --client nightly-forecast --header 'Accept: application/json'`,
		Args: takes(1, 2, "the name of a call, or a method and a URL"), ValidArgsFunction: a.complete("calls"),
		RunE: func(cmd *cobra.Command, args []string) error {
			p, e, err := a.opened()
			if err != nil {
				return err
			}
			plan, err := a.plan(p, args, &f)
			if err != nil {
				return err
			}
			if f.versus != "" {
				return a.runVersus(cmd, e, plan, &f)
			}
			return a.runCall(cmd, e, plan, &f)
		},
	}
	fl := cmd.Flags()
	fl.StringVar(&f.client, "client", "", "whose token to send")
	fl.StringVar(&f.api, "api", "", "the API a path belongs to")
	fl.StringVar(&f.token, "token", "", "- reads a token from standard input")
	fl.BoolVar(&f.bare, "bare", false, "send no token")
	fl.StringArrayVarP(&f.headers, "header", "H", nil, "a header, as 'NAME: VALUE'; may be repeated")
	fl.StringArrayVar(&f.query, "query", nil, "a query parameter, as NAME=VALUE; may be repeated")
	fl.StringVar(&f.body, "body", "", "the body: text, @FILE, or - for standard input")
	fl.StringArrayVar(&f.form, "form", nil, "a form field of the body, as NAME=VALUE; may be repeated")
	fl.StringArrayVar(&f.upload, "upload", nil, "a part of a multipart body, as NAME=VALUE or NAME=@FILE; may be repeated")
	fl.BoolVar(&f.table, "table", false, "draw an array of objects as columns; tab-separated when piped")
	fl.StringSliceVar(&f.columns, "columns", nil, "with --table: which members, as id,name,place.lat")
	fl.BoolVar(&f.pages, "pages", false, "go on to the next pages")
	fl.StringVar(&f.next, "next", "", "with --pages: the `JSONPath` to the next page's URL or cursor (default: the Link header, RFC 8288)")
	fl.StringVar(&f.cursor, "cursor", "", "with --next: the query `parameter` that takes the cursor")
	fl.IntVar(&f.maxPages, "max-pages", 100, "with --pages: how many at most")
	fl.StringVar(&f.as, "as", "", "write the request for use elsewhere, and send nothing: http, sh or har")
	fl.StringVar(&f.versus, "versus", "", "send it as this `client` too, and show where the answers differ")
	fl.StringVar(&f.save, "save", "", "write the body to this `file`, as it comes")
	fl.StringVar(&f.pick, "pick", "", "print only what this `JSONPath` finds, one a line")
	fl.BoolVar(&f.dryRun, "dry-run", false, "show the request as it would be sent, and send nothing")
	a.completeFlag(cmd, "client", "clients")
	a.completeFlag(cmd, "versus", "clients")
	a.completeFlag(cmd, "api", "apis")
	_ = cmd.RegisterFlagCompletionFunc("as", cobra.FixedCompletions(show.RequestForms, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	return cmd
}

// plan makes the request of a saved call or of METHOD URL, with flags laid over.
func (a *app) plan(p *project.Project, args []string, f *callFlags) (*flow.CallPlan, error) {
	c, err := a.callMeant(p, args, f)
	if err != nil {
		return nil, err
	}
	plan, err := flow.Plan(c)
	if err != nil {
		return nil, err
	}
	if len(args) == 2 {
		plan.Saved, plan.Name = nil, c.Method+" "+plan.URL
	}
	return plan, a.layOver(plan, f)
}

func (a *app) callMeant(p *project.Project, args []string, f *callFlags) (*project.Call, error) {
	if len(args) == 1 {
		if strings.Contains(args[0], "://") || strings.HasPrefix(args[0], "/") {
			return nil, fault.New(fault.Usage, "a URL needs a method before it").Hint("tidy-courier call GET %s", args[0])
		}
		return p.Call(args[0])
	}
	method := args[0]
	if !isMethod(method) {
		return nil, fault.New(fault.Usage, "%q is not an HTTP method", method).Hint("methods are in capitals: tidy-courier call %s %s", strings.ToUpper(method), args[1])
	}
	c := &project.Call{Method: method, Path: args[1], SendToken: true, API: &project.API{}, Where: "the URL given"}
	name := f.api
	if name == "" && !strings.Contains(args[1], "://") {
		names := p.Names("apis")
		if len(names) != 1 {
			err := fault.New(fault.Usage, "%q is only a path, and it is not clear which API it belongs to", args[1])
			if len(names) == 0 {
				return nil, err.Hint("give a whole URL, or add an API with a base_url to the courier file")
			}
			return nil, err.Hint("add --api with one of %s", strings.Join(names, ", "))
		}
		name = names[0]
	}
	if name == "" {
		return c, nil
	}
	var err error
	c.API, err = p.API(name)
	return c, err
}

func isMethod(s string) bool {
	for _, r := range s {
		if r < 'A' || r > 'Z' {
			return false
		}
	}
	return s != ""
}

func (a *app) layOver(plan *flow.CallPlan, f *callFlags) error {
	for _, h := range f.headers {
		name, value, found := strings.Cut(h, ":")
		if !found || strings.TrimSpace(name) == "" || strings.ContainsAny(name, " \t") {
			return fault.New(fault.Usage, "%q is not a header", h).At("--header").Hint("as in --header 'Harbour-Id: skarvik'")
		}
		plan.Header.Set(name, strings.TrimSpace(value))
	}
	var pairs []bearer.Pair
	for _, q := range f.query {
		name, value, _ := strings.Cut(q, "=")
		pairs = append(pairs, bearer.Pair{Name: name, Value: value})
	}
	var err error
	if plan.URL, err = bearer.Join("", plan.URL, pairs); err != nil {
		return fault.New(fault.Usage, "%s", err.Error()).At("--query")
	}
	if f.client != "" {
		plan.Client = f.client
		plan.SendToken = true
	}
	if f.bare {
		plan.SendToken = false
	}
	plan.WantsJSON = plan.WantsJSON || f.pick != "" || f.table
	if err := f.check(); err != nil {
		return err
	}
	if err := a.tokenGiven(plan, f); err != nil {
		return err
	}
	return a.bodyGiven(plan, f)
}

func (a *app) tokenGiven(plan *flow.CallPlan, f *callFlags) error {
	switch {
	case f.token == "":
		return nil
	case f.token != "-":
		return fault.New(fault.Usage, "a token is not given as an argument, where other processes see it").At("--token").
			Hint("pipe it: … | tidy-courier call … --token -")
	case f.bare || f.client != "":
		return fault.New(fault.Usage, "--token goes with neither --bare nor --client").At("--token")
	case f.body == "-":
		return fault.New(fault.Usage, "standard input can be the token or the body, not both").At("--token")
	}
	raw, err := a.readInput(64 << 10)
	if err != nil {
		return err
	}
	plan.Token = strings.TrimSpace(string(raw))
	if plan.Token == "" {
		return fault.New(fault.Usage, "standard input held no token").At("--token")
	}
	if strings.ContainsAny(plan.Token, " \t\r\n") {
		return fault.New(fault.Usage, "what came on standard input has white space inside: it is not a token alone").At("--token").Hint("leave out \"Bearer\" and anything around the token")
	}
	plan.SendToken = true
	return nil
}

// check refuses flags that do not go together.
func (f *callFlags) check() error {
	for _, rule := range []struct {
		set  bool
		flag string
		says string
	}{
		{(f.next != "" || f.cursor != "") && !f.pages, "--next", "--next and --cursor go with --pages"},
		{f.cursor != "" && f.next == "", "--cursor", "--cursor needs --next, the JSONPath to the cursor"},
		{len(f.columns) > 0 && !f.table, "--columns", "--columns goes with --table"},
		{f.save != "" && (f.pages || f.table || f.pick != ""), "--save", "--save keeps the body as it comes: without --pages, --table and --pick"},
		{f.pages && f.maxPages < 1, "--max-pages", "there is at least one page"},
		{f.as != "" && !slices.Contains(show.RequestForms, f.as), "--as", "there are: " + strings.Join(show.RequestForms, ", ")},
		{f.versus != "" && (f.token != "" || f.bare || f.pages || f.save != "" || f.as != "" || f.dryRun), "--versus", "--versus sends the call as two clients, and goes with none of --token, --bare, --pages, --save, --as and --dry-run"},
		{countSet(f.body != "", len(f.form) > 0, len(f.upload) > 0) > 1, "--body", "a request has one body: --body, --form or --upload"},
	} {
		if rule.set {
			return fault.New(fault.Usage, "%s", rule.says).At(rule.flag)
		}
	}
	return nil
}

func countSet(list ...bool) int {
	n := 0
	for _, v := range list {
		if v {
			n++
		}
	}
	return n
}

// pairsGiven reads NAME=VALUE flags.
func pairsGiven(list []string, flag string) ([]bearer.Pair, error) {
	var out []bearer.Pair
	for _, text := range list {
		name, value, found := strings.Cut(text, "=")
		if !found || name == "" {
			return nil, fault.New(fault.Usage, "%q is not NAME=VALUE", text).At(flag)
		}
		out = append(out, bearer.Pair{Name: name, Value: value})
	}
	return out, nil
}

func (a *app) bodyGiven(plan *flow.CallPlan, f *callFlags) error {
	var err error
	contentType := ""
	switch {
	case len(f.form) > 0:
		pairs, bad := pairsGiven(f.form, "--form")
		if bad != nil {
			return bad
		}
		plan.Body, contentType = bearer.FormBody(pairs)
	case len(f.upload) > 0:
		pairs, bad := pairsGiven(f.upload, "--upload")
		if bad != nil {
			return bad
		}
		plan.Body, contentType, err = bearer.UploadBody(pairs, func(path string) ([]byte, error) { return bearer.ReadUpload(a.path(path)) })
	case f.body == "":
		return nil
	case f.body == "-":
		plan.Body, err = a.readInput(wire.DefaultLimits.Body)
	case strings.HasPrefix(f.body, "@"):
		plan.Body, err = os.ReadFile(a.path(f.body[1:]))
	default:
		plan.Body = []byte(f.body)
	}
	if err != nil {
		return fault.Wrap(fault.Usage, err, "the body could not be read").At("--body")
	}
	if head := strings.TrimSpace(string(plan.Body[:min(len(plan.Body), 64)])); contentType == "" && plan.Header.Get("Content-Type") == "" && (strings.HasPrefix(head, "{") || strings.HasPrefix(head, "[")) {
		contentType = "application/json"
	}
	if contentType != "" {
		plan.Header.Set("Content-Type", contentType)
	}
	return nil
}

func (a *app) runCall(cmd *cobra.Command, e *flow.Engine, plan *flow.CallPlan, f *callFlags) error {
	if f.dryRun || f.as != "" {
		return a.dryRun(e, plan, f.as)
	}
	a.watch(e, a.Err)
	s := e.Begin("call")
	s.Run.Call = plan.Name
	s.Run.Client = plan.Client
	if e.OnStart != nil {
		e.OnStart(s.Run)
	}
	req, used, err := s.Prepare(cmd.Context(), plan)
	if err != nil {
		err = s.Finish(err)
		a.doc = show.NewCallView(s.Run.Record(&a.secrets), nil, &a.secrets, nil)
		a.explain(s)
		return err
	}
	a.sayToken(used)
	if plan.Placement.Query != "" && used != nil {
		a.say("    the token travels in the URL, where logs and histories keep it (RFC 9700 4.3.2)")
	}
	out := a.newOutput(plan, f)
	req.Sink = out.sink()
	var res *flow.CallResult
	if f.pages {
		how := flow.Paging{Next: f.next, Cursor: f.cursor, Max: f.maxPages}
		res, err = s.Pages(cmd.Context(), plan, req, used, how, out.page)
	} else {
		res, err = s.Call(cmd.Context(), plan, req, used)
	}
	err = s.Finish(err)
	view := show.NewCallView(s.Run.Record(&a.secrets), res, &a.secrets, revealed(a.g.reveal, res))
	view.Pages, view.Saved = out.pages, out.saved(res)
	a.doc = view
	a.explain(s) // under its rung, before the body
	if bad := out.end(res, err); err == nil {
		err = bad
	}
	return err
}

// revealed is the answer as it came, when the user asked for it.
func revealed(reveal bool, res *flow.CallResult) *wire.Exchange {
	if !reveal || res == nil || res.Leg == nil {
		return nil
	}
	return res.Leg.Exchange
}

// sayToken says in one line which token a call uses, and how old it is.
func (a *app) sayToken(u *flow.Used) {
	if u == nil {
		a.say("    no token is sent")
		return
	}
	v := show.TokenLine{Client: u.Client, Token: u.Token, Age: u.Age(a.Now()), Fresh: u.Refreshed}
	if u.Set != nil && !u.Set.ExpiresAt.IsZero() {
		v.Left = u.Set.ExpiresAt.Sub(a.Now()).Round(time.Second)
	}
	a.say("    %s", v)
}

// dryRun shows the request; the token is the one in the pouch, if it holds one.
func (a *app) dryRun(e *flow.Engine, plan *flow.CallPlan, as string) error {
	header := plan.Header.Clone()
	if header == nil {
		header = http.Header{}
	}
	target, body := plan.URL, plan.Body
	if plan.SendToken && (plan.Token != "" || plan.Client != "") {
		tok := plan.Token
		if tok == "" {
			if _, err := e.Project.Client(plan.Client); err != nil {
				return err
			}
			tok = e.Peek(plan.Client)
		}
		a.secrets.Add(tok)
		if tok == "" {
			tok = "[to be obtained for " + plan.Client + "]"
		}
		var err error
		if target, body, err = plan.Placement.Place(plan.Method, plan.URL, header, plan.Body, tok); err != nil {
			return fault.New(fault.Settings, "%s", err.Error()).Hint("remove the header, or send the call with --bare, which adds no token")
		}
	}
	placed := plan.Placement.Header
	view := show.NewRequestView(plan.Method, target, header, body, placed, &a.secrets, a.g.reveal)
	a.doc = map[string]any{"request": view, "sent": false}
	if as != "" && !a.g.json {
		text, err := show.RequestAs(as, view, placed, plan.Client, a.g.reveal)
		if err == nil {
			_, err = a.Out.Write([]byte(text))
		}
		return err
	}
	if !a.g.json {
		a.outPen().Request(view)
		a.say("nothing was sent")
	}
	return nil
}
