package project

import (
	"sort"
	"strings"

	"tidycourier/core/bearer"
	"tidycourier/core/fault"
	"tidycourier/core/oauth"
)

// Setting is a resolved value with its place and the sources of its placeholders.
type Setting struct {
	Value string
	Where string   // "courier.yaml:31:5", or the flag it came from; "" when it is a default
	From  []string // "${host} from stage production (courier.yaml:7:18)"
}

// List is a resolved list of texts.
type List struct {
	Values []string
	Where  string
	From   []string
}

// Named is a setting in an open mapping; the file's order is kept.
type Named struct {
	Name string
	Setting
}

// Server is a resolved entry of servers.
type Server struct {
	Name      string
	Issuer    Setting
	Endpoints map[string]Setting // by RFC 8414 name; only those that are given
}

// Given is the endpoint settings as plain text, for oauth.Metadata.Overlay.
func (s *Server) Given() map[string]string {
	out := map[string]string{}
	for name, v := range s.Endpoints {
		out[name] = v.Value
	}
	return out
}

// Client is a resolved entry of clients.
type Client struct {
	Name                string
	Where               string
	Server              *Server
	ClientID            Setting
	Secret              *Secret
	SecretExpires       Setting // YYYY-MM-DD
	AuthMethod          Setting
	Grant               Setting
	ResponseType        Setting
	ResponseMode        Setting
	RedirectURI         Setting
	Scope               List
	CodeChallengeMethod Setting
	Username            Setting
	Password            *Secret
	RefreshToken        *Secret
	Parameters          map[string][]Named // by leg: authorization, token, refresh
}

// Params is the extra parameters of a leg.
func (c *Client) Params(leg string) []oauth.Param {
	var out []oauth.Param
	for _, n := range c.Parameters[leg] {
		out = append(out, oauth.Param{Name: n.Name, Value: n.Value})
	}
	return out
}

// Needs is what a token must carry.
type Needs struct {
	Audience Setting
	Scope    List
	Roles    List
}

// API is a resolved entry of apis.
type API struct {
	Name      string
	BaseURL   Setting
	Client    Setting
	Headers   []Named
	Placement bearer.Placement
	Needs     Needs
}

// resolver gathers the first error, so that fields can be read one after the other.
type resolver struct {
	p   *Project
	err error
}

func (r *resolver) text(n *node, field string) Setting {
	v := n.get(field)
	if v == nil || r.err != nil {
		return Setting{}
	}
	return r.value(v, field)
}

func (r *resolver) value(v *node, field string) Setting {
	text, from, err := r.p.expand(v.text, field, v.where)
	if err != nil && r.err == nil {
		r.err = err
	}
	return Setting{Value: text, Where: v.where, From: from}
}

func (r *resolver) list(n *node, field string) List {
	v := n.get(field)
	if v == nil || r.err != nil {
		return List{}
	}
	out := List{Where: v.where}
	items := v.items
	if v.kind == nodeScalar {
		items = []*node{v}
	}
	for _, item := range items {
		s := r.value(item, field)
		out.Values, out.From = append(out.Values, s.Value), append(out.From, s.From...)
	}
	return out
}

func (r *resolver) named(n *node) []Named {
	var out []Named
	for _, e := range n.entries() {
		out = append(out, Named{e.name, r.value(e.value, e.name)})
	}
	return out
}

func (r *resolver) secret(n *node, field string) *Secret {
	if r.err != nil {
		return nil
	}
	s, err := r.p.secret(n, field)
	if err != nil {
		r.err = err
	}
	return s
}

// section finds an entry, or says what is there instead.
func (p *Project) section(section, what, name, where string) (*node, error) {
	e := p.root.get(section).entry(name)
	if e == nil {
		if p.path == "" {
			return nil, fault.New(fault.Settings, "there is no courier file, so no %s %q", what, name).
				Hint("tidy-courier init writes one; --file names one that is elsewhere")
		}
		return nil, missing(name, what, where, p.root.get(section).names())
	}
	return e.value, nil
}

// Server resolves an entry of servers.
func (p *Project) Server(name string) (*Server, error) {
	n, err := p.section("servers", "server", name, p.Display())
	if err != nil {
		return nil, err
	}
	r := &resolver{p: p}
	s := &Server{Name: name, Issuer: r.text(n, "issuer"), Endpoints: map[string]Setting{}}
	for _, f := range oauth.EndpointNames {
		if v := r.text(n, f); v.Value != "" {
			s.Endpoints[f] = v
		}
	}
	return s, r.err
}

// Client resolves an entry of clients and its server.
func (p *Project) Client(name string) (*Client, error) {
	n, err := p.section("clients", "client", name, p.Display())
	if err != nil {
		return nil, err
	}
	r := &resolver{p: p}
	c := &Client{Name: name, Where: n.where, ClientID: r.text(n, "client_id"), Secret: r.secret(n, "client_secret"),
		SecretExpires: r.text(n, "secret_expires"), AuthMethod: r.text(n, "token_endpoint_auth_method"), Grant: r.text(n, "grant"),
		ResponseType: r.text(n, "response_type"), ResponseMode: r.text(n, "response_mode"), RedirectURI: r.text(n, "redirect_uri"),
		Scope: r.list(n, "scope"), CodeChallengeMethod: r.text(n, "code_challenge_method"), Username: r.text(n, "username"),
		Password: r.secret(n, "password"), RefreshToken: r.secret(n, "refresh_token"), Parameters: map[string][]Named{}}
	for _, e := range n.get("parameters").entries() {
		c.Parameters[e.name] = r.named(e.value)
	}
	server := r.text(n, "server")
	if r.err != nil {
		return nil, r.err
	}
	if server.Value == "" {
		if names := p.Names("servers"); len(names) == 1 {
			server.Value = names[0]
		} else {
			return nil, fault.New(fault.Settings, "the client %q does not say at which server it is registered", name).At(n.where).
				Hint("add server: with one of %s", strings.Join(names, ", "))
		}
	}
	c.Server, err = p.Server(server.Value)
	return c, err
}

func (r *resolver) needs(n *node) Needs {
	v := n.get("needs")
	return Needs{Audience: r.text(v, "audience"), Scope: r.list(v, "scope"), Roles: r.list(v, "roles")}
}

// API resolves an entry of apis.
func (p *Project) API(name string) (*API, error) {
	n, err := p.section("apis", "API", name, p.Display())
	if err != nil {
		return nil, err
	}
	r := &resolver{p: p}
	a := &API{Name: name, BaseURL: r.text(n, "base_url"), Client: r.text(n, "client"), Headers: r.named(n.get("headers")), Needs: r.needs(n)}
	placement := n.get("token_placement")
	a.Placement = bearer.Placement{Header: r.text(placement, "header").Value, Prefix: r.text(placement, "prefix").Value,
		Query: r.text(placement, "query").Value, Form: r.text(placement, "form").Value}
	return a, r.err
}

// splitRequest reads "METHOD PATH".
func splitRequest(s Setting, where string) (method, path string, err error) {
	method, path, found := strings.Cut(strings.TrimSpace(s.Value), " ")
	if !found || method == "" || strings.ToUpper(method) != method || strings.ContainsAny(method, "/:") {
		if s.Where == "" {
			s.Where = where
		}
		return "", "", fault.New(fault.Settings, "a call's request is a method and a path, as in GET /stations, not %q", s.Value).At(s.Where)
	}
	return method, strings.TrimSpace(path), nil
}

// Find says which sections have an entry of that name.
func (p *Project) Find(name string) []string {
	var out []string
	for _, section := range []string{"servers", "clients", "apis", "calls"} {
		if p.root.get(section).entry(name) != nil {
			out = append(out, section)
		}
	}
	return out
}

// AllNames lists every entry of servers, clients, apis and calls, sorted.
func (p *Project) AllNames() []string {
	var out []string
	for _, section := range []string{"servers", "clients", "apis", "calls"} {
		out = append(out, p.Names(section)...)
	}
	sort.Strings(out)
	return out
}

// OtherIssuers maps the issuers of the stages that are not in force to where
// they are from, as "server NAME in stage NAME". Entries that cannot be resolved
// there are left out.
func (p *Project) OtherIssuers() map[string]string {
	out := map[string]string{}
	for _, stage := range append([]string{""}, p.Names("stages")...) {
		if stage == p.opt.Stage {
			continue
		}
		other := *p
		other.opt.Stage = stage
		place := "in stage " + stage
		if stage == "" {
			place = "without a stage"
		}
		for _, name := range p.Names("servers") {
			if s, err := other.Server(name); err == nil && s.Issuer.Value != "" {
				out[s.Issuer.Value] = "server " + name + " " + place
			}
		}
	}
	return out
}
