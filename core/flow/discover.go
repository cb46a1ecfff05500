package flow

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"tidycourier/core/fault"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// Discovered is a server's metadata and where it was found.
type Discovered struct {
	Metadata *oauth.Metadata
	Source   string
}

// Discover reads an issuer's metadata from the well-known places, in order,
// until one has it. Each try is a leg. A document that is there and cannot be
// used is an error of kind authorization; none at all as well.
func (s *Session) Discover(ctx context.Context, issuer, where string) (*Discovered, error) {
	places, err := oauth.WellKnown(issuer)
	if err != nil {
		return nil, fault.New(fault.Settings, "the issuer cannot be looked up: %s", err.Error()).At(where).Hint("an issuer is a URL such as https://login.tides.example")
	}
	s.Evidence.Asked = issuer
	if strings.Contains(issuer, "/.well-known/") {
		s.Evidence.Asked = "" // the document was named, not an issuer
	}
	for _, place := range places {
		found, err := s.metadataAt(ctx, place)
		if found != nil || err != nil {
			return found, err
		}
	}
	return nil, fault.New(fault.Authorization, "no metadata under %s: neither well-known place has a document", issuer).At(where).
		Hint("check the issuer, or name the endpoints yourself (token_endpoint and the others)")
}

// metadataAt asks one place. Nil without error means: not here, try the next.
func (s *Session) metadataAt(ctx context.Context, place string) (*Discovered, error) {
	l, err := s.send(ctx, run.Discovery, wire.Request{Method: http.MethodGet, URL: place, Header: http.Header{"Accept": {"application/json"}}}, "")
	if err != nil {
		return nil, err
	}
	defer s.tell(l)
	r := l.Exchange.Response
	if r.Status != http.StatusOK {
		l.Note = "not here"
		return nil, nil
	}
	m, err := oauth.ParseMetadata(r.Body)
	if err != nil {
		if strings.Contains(r.MediaType(), "html") {
			l.Note = "a web page, not metadata"
			return nil, nil
		}
		l.Note = "unreadable"
		return nil, fault.Wrap(fault.Authorization, err, "the document at %s cannot be used", place)
	}
	l.Note = "metadata found"
	s.Evidence.Metadata = m
	return &Discovered{m, place}, nil
}

// metadata gives what a flow needs to know of a server: what the courier file
// says, and from discovery what it leaves open. need lists the endpoints; when
// all of them are given, nothing is fetched.
func (s *Session) metadata(ctx context.Context, c clientSettings, need ...string) (*oauth.Metadata, error) {
	given := c.Server.Given()
	complete := true
	for _, n := range need {
		complete = complete && given[n] != ""
	}
	m := &oauth.Metadata{Issuer: c.Server.Issuer.Value}
	if !complete {
		if c.Server.Issuer.Value == "" {
			return nil, fault.New(fault.Settings, "the server %s has neither an issuer nor a %s", c.Server.Name, strings.Join(need, " and ")).At(c.Where).
				Hint("set issuer: to find the endpoints by discovery, or name them; without a courier file --issuer or --token-endpoint")
		}
		if s.found == nil || s.foundFor != c.Server.Issuer.Value {
			found, err := s.Discover(ctx, c.Server.Issuer.Value, c.Server.Issuer.Where)
			if err != nil {
				return nil, err
			}
			s.found, s.foundFor = found.Metadata, c.Server.Issuer.Value
		}
		m = s.found
	}
	m = m.Overlay(given)
	s.Evidence.Metadata = m
	for _, n := range need {
		if m.Endpoint(n) == "" {
			return nil, fault.New(fault.Authorization, "the metadata of %s does not name a %s", m.Issuer, n).At(c.Server.Issuer.Where).
				Hint("add %s: under the server in the courier file", n)
		}
	}
	return m, nil
}

// choiceNote says which client authentication was chosen, and why.
func choiceNote(method, reason string) string { return fmt.Sprintf("%s (%s)", method, reason) }
