package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/landing"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

// DefaultPatience is how long a person has to sign in.
const DefaultPatience = 3 * time.Minute

// Person is how a grant reaches the person who signs in.
type Person struct {
	// Open shows the authorization URL to the person: in a browser, or in words.
	// The listener stands ready before it is called. note says how, for the rung.
	Open func(url string) (note string, err error)
	// Waiting is told until when the answer is waited for; it returns what to do
	// when the waiting is over. May be nil.
	Waiting func(until time.Time) (stop func())
	// Paste reads the pasted answer. When set, nothing is listened at.
	Paste func(ctx context.Context) (string, error)
	// Say narrates a line. May be nil.
	Say func(string)
	// Step is asked before each leg. May be nil.
	Step     func(what string) error
	Patience time.Duration
	Prompt   string
	// UntilCode stops with the code in hand.
	UntilCode bool
	// Code goes on from a code: one that was given, or HeldCode.
	Code string
}

// Authorization prepares the authorization request of a client, with fresh
// state, nonce and verifier.
func (s *Session) Authorization(c *project.Client, m *oauth.Metadata, who *Person, redirect string) (*attempt, error) {
	r := oauth.AuthorizationRequest{Endpoint: m.AuthorizationEndpoint, ResponseType: c.ResponseType.Value, ClientID: c.ClientID.Value,
		RedirectURI: redirect, Scope: c.Scope.Values, ResponseMode: c.ResponseMode.Value, Prompt: who.Prompt, Extra: c.Params("authorization")}
	if r.ResponseType == "" {
		r.ResponseType = "code"
	}
	a := &attempt{At: s.e.Now()}
	var err error
	if r.State, err = oauth.RandomText(s.e.Random, 24); err != nil {
		return nil, err
	}
	if hasScope(c, "openid") {
		if r.Nonce, err = oauth.RandomText(s.e.Random, 24); err != nil {
			return nil, err
		}
	}
	method := c.CodeChallengeMethod.Value
	if method == "" {
		method = oauth.PKCES256
	}
	if method != oauth.PKCENone && r.ResponseType == "code" {
		if a.Verifier, err = oauth.RandomText(s.e.Random, 32); err != nil {
			return nil, err
		}
		r.CodeChallenge, r.CodeChallengeMethod = oauth.Challenge(method, a.Verifier), method
	}
	a.Request = r
	return a, nil
}

func hasScope(c *project.Client, scope string) bool {
	for _, v := range c.Scope.Values {
		if v == scope {
			return true
		}
	}
	return false
}

// ObtainWithPerson runs the authorization code grant, or the implicit form
// where response_type asks for it.
func (s *Session) ObtainWithPerson(ctx context.Context, c *project.Client, who *Person) (*Obtained, error) {
	s.about(c)
	if err := checkClient(c); err != nil {
		return nil, err
	}
	if err := s.readSecret(ctx, c); err != nil { // before anything is sent
		return nil, err
	}
	switch {
	case c.ResponseType.Value == "token":
		s.Run.Detail = "implicit"
	case c.CodeChallengeMethod.Value != oauth.PKCENone:
		s.Run.Detail = "PKCE"
	}
	if s.e.OnStart != nil {
		s.e.OnStart(s.Run)
	}
	m, err := s.metadata(ctx, c, "authorization_endpoint", "token_endpoint")
	if err != nil {
		return nil, err
	}
	var a *attempt
	if who.Code != "" {
		a, err = s.resume(c, who.Code)
	} else {
		a, err = s.askPerson(ctx, c, m, who)
	}
	if err != nil {
		return nil, err
	}
	if who.UntilCode {
		return nil, s.hold(c, a)
	}
	if s.Evidence.Person.Response != nil && s.Evidence.Person.Response.AccessToken != "" {
		return s.keepImplicit(c, a)
	}
	if err := step(who, "token request"); err != nil {
		return nil, err
	}
	return s.exchange(ctx, c, m, a)
}

func step(who *Person, what string) error {
	if who.Step == nil {
		return nil
	}
	return who.Step(what)
}

// askPerson sends the person to the authorization endpoint and takes the answer.
func (s *Session) askPerson(ctx context.Context, c *project.Client, m *oauth.Metadata, who *Person) (*attempt, error) {
	redirect := c.RedirectURI.Value
	if redirect == "" {
		return nil, fault.New(fault.Settings, "the client %q has no redirect_uri", c.Name).At(c.Where).Hint("add the one that is registered; without a courier file --redirect-uri")
	}
	s.Evidence.Person = &finding.Person{}
	var listener *landing.Listener
	var current *attempt
	if who.Paste == nil {
		if err := landing.Listenable(redirect); err != nil {
			return nil, fault.New(fault.Settings, "the redirect cannot be received here: %s", err.Error()).At(c.RedirectURI.Where).
				Hint("run it with --paste, and paste the address the browser ends up at")
		}
		var err error
		listener, err = landing.Listen(redirect, c.Secret == nil, func(a landing.Arrival) landing.Verdict { return s.verdict(current, m, a) })
		if err != nil {
			return nil, at(err, c.RedirectURI.Where)
		}
		defer listener.Close()
		redirect = listener.RedirectURI()
	}
	a, err := s.Authorization(c, m, who, redirect)
	if err != nil {
		return nil, err
	}
	current = a
	s.remember(a)
	if err := step(who, "authorization request"); err != nil {
		return nil, err
	}
	if err := s.send1(a, who); err != nil {
		return nil, err
	}
	return a, s.receive(ctx, a, m, who, listener)
}

// at gives an error the place of the setting, when it has none.
func at(err error, where string) error {
	f := fault.As(err)
	if f.Where == "" {
		f.Where = where
	}
	return f
}

// remember makes the attempt's secrets known to the mask and the evidence.
func (s *Session) remember(a *attempt) {
	s.e.Mask.Add(a.Verifier, a.Code)
	s.Evidence.Person.Request, s.Evidence.Person.Verifier, s.Evidence.Person.At = &a.Request, a.Verifier, a.At
}

// send1 is the first leg: the browser takes the request.
func (s *Session) send1(a *attempt, who *Person) error {
	target, err := a.Request.URL()
	if err != nil {
		return fault.New(fault.Settings, "%s", err.Error()).Hint("correct authorization_endpoint")
	}
	l := s.leg(run.Leg{Kind: run.Authorization, Method: http.MethodGet, URL: target, At: s.e.Now()})
	note, err := who.Open(target)
	l.Note = note
	s.tell(l)
	return err
}

// receive waits for the answer and checks what ties it to the request.
func (s *Session) receive(ctx context.Context, a *attempt, m *oauth.Metadata, who *Person, listener *landing.Listener) error {
	began := s.e.Now()
	var resp oauth.AuthorizationResponse
	l := run.Leg{Kind: run.Landing, Inbound: true, Method: http.MethodGet, URL: a.Request.RedirectURI}
	if who.Paste != nil {
		pasted, err := who.Paste(ctx)
		if err != nil {
			return err
		}
		s.maskPasted(pasted)
		var said string
		if resp, said, err = oauth.ReadPasted(pasted); err != nil {
			return fault.New(fault.Usage, "%s", err.Error()).At("--paste").Hint("paste the whole address the browser ended up at, its query, or the code alone")
		}
		s.Evidence.Person.Pasted = pasted
		if who.Say != nil {
			who.Say("taken as " + said)
		}
		if strings.Contains(pasted, "://") {
			l.URL = strings.TrimSpace(pasted)
		}
	} else {
		arrival, err := s.await(ctx, who, listener)
		if err != nil {
			return err
		}
		resp = oauth.ReadAuthorizationValues(arrival.Values, arrival.Via)
		l.URL, l.Method = arrival.URL, arrival.Method
	}
	s.e.Mask.Add(resp.Code, resp.AccessToken, resp.IDToken)
	l.Took, l.At, l.Answer = s.e.Now().Sub(began), s.e.Now(), &resp
	s.Evidence.Person.Response = &resp
	err := checkResponse(a, m, resp)
	l.Note = responseNote(a, resp, err)
	s.tell(s.leg(l))
	a.Code = resp.Code
	return err
}

// maskPasted keeps what was pasted out of every message, even when it cannot
// be read.
func (s *Session) maskPasted(pasted string) {
	text := strings.TrimSpace(pasted)
	s.e.Mask.Add(text)
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune("?&#", r) }) {
		if name, value, found := strings.Cut(part, "="); found && mask.Named(name) {
			if plain, err := url.QueryUnescape(value); err == nil {
				value = plain
			}
			s.e.Mask.Add(value)
		}
	}
}

// await waits at the listener, with what the person sees meanwhile.
func (s *Session) await(ctx context.Context, who *Person, listener *landing.Listener) (landing.Arrival, error) {
	patience := who.Patience
	if patience <= 0 {
		patience = DefaultPatience
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	stop := func() {}
	if who.Waiting != nil {
		stop = who.Waiting(time.Now().Add(patience))
	}
	arrival, err := listener.Wait(ctx)
	stop()
	if err == nil {
		return arrival, nil
	}
	if !errors.Is(err, context.DeadlineExceeded) {
		return arrival, fault.New(fault.Interrupted, "stopped while waiting for the answer")
	}
	s.Evidence.Person.TimedOut = patience
	for _, st := range listener.Strays() {
		s.Evidence.Person.Strays = append(s.Evidence.Person.Strays, fmt.Sprintf("%s %s%s (%s)", st.Method, st.Host, mask.URL(st.Path), st.Why))
	}
	return arrival, fault.New(fault.Authorization, "no answer came to %s within %s", listener.RedirectURI(), patience)
}

// verdict is what the browser's page says about an answer.
func (s *Session) verdict(a *attempt, m *oauth.Metadata, arrival landing.Arrival) landing.Verdict {
	resp := oauth.ReadAuthorizationValues(arrival.Values, arrival.Via)
	err := checkResponse(a, m, resp)
	switch {
	case err == nil:
		return landing.Verdict{Good: true, Title: "The answer has arrived", Text: "You can close this page and go back to the terminal, which goes on by itself."}
	case resp.Err != nil:
		return landing.Verdict{Title: "The server said no", Text: "It answered " + resp.Err.Error() + ". The terminal explains it and says what to do."}
	}
	return landing.Verdict{Title: "This answer was not accepted", Text: err.Error() + ". Nothing was done with it. Start again from the terminal."}
}

// checkResponse refuses an answer that does not belong to the request: state
// (RFC 6749 10.12) and issuer (RFC 9207 2.4) first, since an answer with a wrong
// one is not even to be believed in its error.
func checkResponse(a *attempt, m *oauth.Metadata, r oauth.AuthorizationResponse) error {
	no := func(format string, args ...any) *fault.Error { return fault.New(fault.Authorization, format, args...) }
	bare := r.Via == "code" // a bare code was pasted: there is nothing to compare
	switch {
	case a == nil:
		return no("an answer came before any request was sent")
	case !bare && r.State == "" && (r.Code != "" || r.Err != nil || r.AccessToken != ""):
		return no("the answer carries no state")
	case !bare && r.State != "" && r.State != a.Request.State:
		return no("the state of the answer is not the one that was sent")
	case r.Issuer != "" && m.Issuer != "" && r.Issuer != m.Issuer:
		return no("the answer comes from the issuer %s, and %s was asked", r.Issuer, m.Issuer)
	case r.Err != nil:
		f := no("the authorization server refused: %s", r.Err.Error())
		f.Code, f.Description = r.Err.Code, r.Err.Description
		return f
	case r.Code == "" && r.AccessToken == "":
		return no("the answer carries neither a code nor an error")
	}
	return nil
}

func responseNote(a *attempt, r oauth.AuthorizationResponse, err error) string {
	var parts []string
	switch {
	case r.Err != nil:
		parts = append(parts, r.Err.Code)
	case r.Code != "":
		parts = append(parts, "code "+mask.Fingerprint(r.Code))
	case r.AccessToken != "":
		parts = append(parts, "token "+mask.Fingerprint(r.AccessToken))
	default:
		parts = append(parts, "no code")
	}
	switch {
	case r.State != "" && r.State == a.Request.State:
		parts = append(parts, "state matches")
	case r.State != "":
		parts = append(parts, "state differs")
	default:
		parts = append(parts, "no state")
	}
	if err != nil {
		return "✘ " + strings.Join(parts, ", ")
	}
	return strings.Join(parts, ", ")
}

// exchange redeems the code.
func (s *Session) exchange(ctx context.Context, c *project.Client, m *oauth.Metadata, a *attempt) (*Obtained, error) {
	auth, chosen, err := s.clientAuth(c, m)
	if err != nil {
		return nil, err
	}
	out, err := s.redeem(ctx, c, m, oauth.TokenRequest{Grant: oauth.GrantCode, Auth: auth, Code: a.Code, RedirectURI: a.Request.RedirectURI,
		CodeVerifier: a.Verifier, Extra: c.Params("token")})
	if out != nil {
		out.Chosen = chosen
	}
	return out, err
}

// keepImplicit keeps a token that came in the redirect itself.
func (s *Session) keepImplicit(c *project.Client, a *attempt) (*Obtained, error) {
	r := s.Evidence.Person.Response
	body, err := json.Marshal(map[string]string{"access_token": r.AccessToken, "token_type": r.TokenType, "expires_in": r.ExpiresIn, "id_token": r.IDToken, "scope": strings.Join(r.Scope, " ")})
	if err != nil {
		return nil, err
	}
	answer, err := oauth.ParseTokenResponse(http.StatusOK, "application/json", body)
	if err != nil {
		return nil, refusal(err, 0)
	}
	answer.Oddities = nil // every value in a fragment is text
	s.Evidence.Answer = answer
	return s.keep(c, answer)
}
