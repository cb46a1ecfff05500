package flow

import (
	"context"
	"os"
	"slices"
	"strings"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// Question is a token to look at, and how closely.
type Question struct {
	Text   string // as it was pasted
	Which  string // access, id or refresh: which token of an answer or set; "" for the first
	Client string // the client whose it is; "" to find it by the token's own client_id
	For    string // the API or call it is meant for; "" for those that use the client
	Keys   Keys
	Verify bool
}

// Keys says where the keys to verify or decrypt with are.
type Keys struct {
	JWKS     string // URL or file of a JWK Set
	File     string // PEM, JWK, JWK Set or shared secret
	Issuer   string // whose metadata names the key set; also the issuer to expect
	Audience []string
}

// Answered is a token that was looked at.
type Answered struct {
	Pasted       token.Pasted
	Token        *token.Token // as it came
	Inside       *token.Token // the innermost one that could be read: claims are here
	Client       string
	Verification *token.Verification
	Needs        []finding.Need
	Findings     []run.Finding
}

// members of a token answer by what --which calls them.
var members = map[string]string{"": "", "access": "access_token", "id": "id_token", "refresh": "refresh_token"}

// Examine decodes a token, holds it against the project, and verifies it when
// asked. Nothing is sent unless it has to be verified with keys from the net.
func (s *Session) Examine(ctx context.Context, q Question) (*Answered, error) {
	out, err := s.read(q)
	if err != nil {
		return nil, err
	}
	ex := &finding.Examined{Token: out.Inside, TakenOff: out.Pasted.TakenOff, Stages: s.e.Project.OtherIssuers()}
	s.Evidence.Examined = ex
	c, err := s.clientOf(q.Client, out.Inside)
	if err != nil {
		return nil, err
	}
	if c != nil {
		out.Client, ex.Opaque, ex.ClientID, ex.Issuer = c.Name, c.Name, c.ClientID, c.Server.Issuer
		s.Run.Client = c.Name
	}
	if q.Keys.Issuer != "" {
		ex.Issuer = project.Setting{Value: q.Keys.Issuer, Where: "--issuer"}
	}
	if out.Needs, err = s.needs(q, c, out.Inside); err != nil {
		return nil, err
	}
	ex.Needs = out.Needs
	if q.Verify {
		v, err := s.verify(ctx, q, out, c)
		if err != nil {
			return out, err
		}
		out.Verification, ex.Verification = v, v
	}
	return out, nil
}

// read takes the token out of what was pasted and decodes it, down to the
// innermost one that can be read.
func (s *Session) read(q Question) (*Answered, error) {
	member, known := members[q.Which]
	if !known {
		return nil, fault.New(fault.Usage, "%q is not one of access, id, refresh", q.Which).At("--which")
	}
	out := &Answered{Pasted: token.Paste(q.Text, member)}
	s.e.Mask.Add(out.Pasted.Token)
	t, err := token.Decode(out.Pasted.Token)
	if err != nil {
		f := fault.New(fault.Usage, "%s", err.Error()).Hint("paste the token from its first character to its last; a token that a program showed shortened cannot be read")
		if len(out.Pasted.TakenOff) > 0 {
			f.Message += " (taken off before: " + strings.Join(out.Pasted.TakenOff, ", ") + ")"
		}
		return nil, f
	}
	out.Token, out.Inside = t, t
	if q.Keys.File != "" && t.Form == token.JWE {
		keys, err := readKeys(q.Keys.File, "--key")
		if err != nil {
			return nil, err
		}
		open, err := token.Decrypt(t, keys)
		if err != nil {
			return nil, fault.Wrap(fault.Expectation, err, "the token is not decrypted").At("--key").Hint("the private key, or the shared secret, of whoever the token is for")
		}
		out.Token, out.Inside = open, open
	}
	for out.Inside.Inner != nil {
		out.Inside = out.Inside.Inner
	}
	return out, nil
}

// readKeys reads a file of keys.
func readKeys(path, flag string) (*token.KeySet, error) {
	info, err := os.Stat(path)
	if err == nil && info.Size() > token.MaxKeySetSize {
		return nil, fault.New(fault.Usage, "%s is larger than any key file", path).At(flag)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "the key file could not be read").At(flag)
	}
	keys, err := token.ParseKey(raw)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "%s holds no key that can be used", path).At(flag).Hint("a PEM file, a JWK or JWK Set, or the text of a shared secret")
	}
	keys.Source = path
	return keys, nil
}

// clientOf is the client whose token it is: the one named, or the one of the
// courier file that the token says it was issued to.
func (s *Session) clientOf(name string, t *token.Token) (*project.Client, error) {
	if name != "" {
		return s.e.Project.Client(name)
	}
	id, _ := t.ClientID()
	if id == "" {
		return nil, nil
	}
	for _, n := range s.e.Project.Names("clients") {
		if c, err := s.e.Project.Client(n); err == nil && c.ClientID.Value == id {
			return c, nil
		}
	}
	return nil, nil
}

// needs lists what the API or call named, or those that use the client, need
// of a token. A token can be for one API only: where one of several fits its
// audience, the others are left out.
func (s *Session) needs(q Question, c *project.Client, t *token.Token) ([]finding.Need, error) {
	if q.For != "" {
		return s.needsOf(q.For)
	}
	if c == nil || q.Which == "id" || q.Which == "refresh" || t.Claims == nil || t.Read().Kind == token.IDToken {
		return nil, nil
	}
	var out []finding.Need
	for _, name := range s.e.Project.Names("apis") {
		if a, err := s.e.Project.API(name); err == nil && a.Client.Value == c.Name {
			out = add(out, "API "+name, a.Needs)
		}
	}
	for _, name := range s.e.Project.Names("calls") {
		if call, err := s.e.Project.Call(name); err == nil && call.Client.Value == c.Name {
			out = add(out, "call "+name, merged(call))
		}
	}
	fits := func(n finding.Need) bool { return slices.Contains(t.Audience(), n.Audience.Value) }
	if slices.ContainsFunc(out, fits) {
		out = slices.DeleteFunc(out, func(n finding.Need) bool { return n.Audience.Value != "" && !fits(n) })
	}
	return out, nil
}

func (s *Session) needsOf(name string) ([]finding.Need, error) {
	p := s.e.Project
	for _, section := range p.Find(name) {
		switch section {
		case "apis":
			a, err := p.API(name)
			if err != nil {
				return nil, err
			}
			return add(nil, "API "+name, a.Needs), nil
		case "calls":
			c, err := p.Call(name)
			if err != nil {
				return nil, err
			}
			return add(nil, "call "+name, merged(c)), nil
		}
	}
	return nil, fault.New(fault.Settings, "there is no API or call %q to hold the token against", name).At("--for").Hint("there are: %s", strings.Join(append(p.Names("apis"), p.Names("calls")...), ", "))
}

func add(list []finding.Need, of string, n project.Needs) []finding.Need {
	if n.Audience.Value == "" && len(n.Scope.Values) == 0 && len(n.Roles.Values) == 0 {
		return list
	}
	return append(list, finding.Need{Of: of, Audience: n.Audience, Scope: n.Scope, Roles: n.Roles})
}

// merged is what a call needs: its own words where it has some, else its API's.
func merged(c *project.Call) project.Needs {
	n := c.Needs
	if n.Audience.Value == "" {
		n.Audience = c.API.Needs.Audience
	}
	if len(n.Scope.Values) == 0 {
		n.Scope = c.API.Needs.Scope
	}
	if len(n.Roles.Values) == 0 {
		n.Roles = c.API.Needs.Roles
	}
	return n
}

// verify gets the keys and judges the token. A key set from the net that lacks
// the token's key is fetched once more.
func (s *Session) verify(ctx context.Context, q Question, a *Answered, c *project.Client) (*token.Verification, error) {
	source, err := s.keySource(ctx, q.Keys, c, a.Inside.Text("iss"))
	if err != nil {
		return nil, err
	}
	keys, err := source(a.Inside.KeyID())
	if err != nil {
		return nil, err
	}
	v := token.NewVerifier(keys).Verify(a.Inside, s.expect(q, a, c))
	return &v, nil
}

// expect is what the token is held against besides its keys.
func (s *Session) expect(q Question, a *Answered, c *project.Client) token.Expect {
	x := token.Expect{Now: s.e.Now(), Issuer: s.Evidence.Examined.Issuer.Value, Audience: q.Keys.Audience}
	if len(x.Audience) > 0 {
		return x
	}
	if c != nil && a.Inside.Read().Kind == token.IDToken && q.For == "" {
		x.Audience = []string{c.ClientID.Value}
		if set, err := s.e.held(s.e.Key(c.Name)); err == nil && set != nil && set.IDToken == a.Pasted.Token {
			x.AccessToken = set.AccessToken
		}
		return x
	}
	for _, n := range a.Needs {
		if n.Audience.Value != "" {
			x.Audience = append(x.Audience, n.Audience.Value)
		}
	}
	return x
}

// keySource settles where keys come from; the result gives the key set for a kid.
func (s *Session) keySource(ctx context.Context, k Keys, c *project.Client, iss string) (func(kid string) (*token.KeySet, error), error) {
	fixed := func(set *token.KeySet, err error) (func(string) (*token.KeySet, error), error) {
		return func(string) (*token.KeySet, error) { return set, err }, err
	}
	at := func(url string) (func(string) (*token.KeySet, error), error) {
		return func(kid string) (*token.KeySet, error) { return s.KeysAt(ctx, url, kid) }, nil
	}
	switch {
	case k.JWKS != "" && k.File != "":
		return nil, fault.New(fault.Usage, "the key can come from one place only").At("--jwks").Hint("give --jwks or --key, not both")
	case strings.Contains(k.JWKS, "://"):
		return at(k.JWKS)
	case k.JWKS != "":
		return fixed(readKeys(k.JWKS, "--jwks"))
	case k.File != "":
		return fixed(readKeys(k.File, "--key"))
	}
	m, err := s.issuerMetadata(ctx, k.Issuer, c, iss)
	if err != nil {
		return nil, err
	}
	if m.JWKSURI == "" {
		return nil, fault.New(fault.Authorization, "the metadata of %s names no jwks_uri", m.Issuer).Hint("give the keys with --jwks URL or FILE, or --key FILE")
	}
	return at(m.JWKSURI)
}

// issuerMetadata finds the issuer whose keys are to be trusted: the one named,
// the client's server, else the one that the token itself names, which proves
// only that the token is what that issuer made.
func (s *Session) issuerMetadata(ctx context.Context, issuer string, c *project.Client, iss string) (*oauth.Metadata, error) {
	if issuer == "" && c != nil {
		return s.metadata(ctx, c, "jwks_uri")
	}
	if issuer == "" {
		issuer = iss
	}
	if issuer == "" {
		return nil, fault.New(fault.Usage, "the token names no issuer, so it is not known whose key to verify it with").At("--verify").
			Hint("name it with --issuer URL, or give the key with --jwks URL or FILE, or --key FILE")
	}
	found, err := s.Discover(ctx, issuer, "iss in the token")
	if err != nil {
		return nil, err
	}
	return found.Metadata, nil
}

// LineKeys settles the keys for a stream of tokens, which all come from one
// issuer; the result is called with a kid that is missing, and fetches again
// once.
func (s *Session) LineKeys(ctx context.Context, q Question) (func(kid string) (*token.KeySet, error), token.Expect, error) {
	x := token.Expect{Now: s.e.Now(), Issuer: q.Keys.Issuer, Audience: q.Keys.Audience}
	var c *project.Client
	if q.Client != "" {
		var err error
		if c, err = s.e.Project.Client(q.Client); err != nil {
			return nil, x, err
		}
		if x.Issuer == "" {
			x.Issuer = c.Server.Issuer.Value
		}
	}
	if c == nil && q.Keys.JWKS == "" && q.Keys.File == "" && q.Keys.Issuer == "" {
		names := s.e.Project.Names("servers")
		if len(names) != 1 {
			return nil, x, fault.New(fault.Usage, "whose keys verify these tokens is not said").At("--verify").Hint("name --client, --issuer URL, --jwks URL or FILE, or --key FILE")
		}
		server, err := s.e.Project.Server(names[0])
		if err != nil {
			return nil, x, err
		}
		c = &project.Client{Server: server}
		x.Issuer = server.Issuer.Value
	}
	source, err := s.keySource(ctx, q.Keys, c, "")
	return source, x, err
}

// SideOf is a token set as compare takes it.
func SideOf(set *pouch.Set) token.Held {
	return token.Held{Access: set.AccessToken, Refresh: set.RefreshToken, ID: set.IDToken, TokenType: set.TokenType, Scope: set.Scope, Server: set.Server, Grant: set.Grant,
		ObtainedAt: set.ObtainedAt, ExpiresAt: set.ExpiresAt}
}
