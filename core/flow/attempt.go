package flow

import (
	"encoding/json"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
)

// HeldCode as Person.Code means the one that UntilCode left.
const HeldCode = "held"

// attempt is one authorization request: what has to be known again when its
// answer comes. It is kept sealed between UntilCode and Code.
type attempt struct {
	Request  oauth.AuthorizationRequest `json:"request"`
	Verifier string                     `json:"verifier"`
	Code     string                     `json:"code,omitempty"`
	At       time.Time                  `json:"at"`
}

// attemptName is where a client's unfinished attempt is kept.
func attemptName(client string) string { return "#attempt:" + client }

// hold keeps an attempt, sealed, for --code to go on from.
func (s *Session) hold(c *project.Client, a *attempt) error {
	raw, err := json.Marshal(a)
	if err != nil {
		return err
	}
	p, err := s.e.Store.Pouch()
	if err != nil {
		return err
	}
	return p.Keep(s.e.Project.Key(), s.e.Project.Stage(), map[string]string{attemptName(c.Name): string(raw)})
}

// resume takes up the attempt that hold kept; a code that is given replaces the
// one it had.
func (s *Session) resume(c *project.Client, code string) (*attempt, error) {
	p, err := s.e.Store.Pouch()
	if err != nil {
		return nil, err
	}
	a, err := readAttempt(p, s.e.Key(c.Name))
	if err != nil {
		return nil, err
	}
	s.Evidence.Person = &finding.Person{Resumed: true}
	if code != HeldCode {
		resp, _, err := oauth.ReadPasted(code)
		if err != nil {
			return nil, fault.New(fault.Usage, "%s", err.Error()).At("--code")
		}
		if a == nil { // nothing was begun here: the code comes from elsewhere, without a verifier
			a = &attempt{Request: oauth.AuthorizationRequest{RedirectURI: c.RedirectURI.Value}}
		}
		a.Code = resp.Code
	}
	if a == nil || a.Code == "" {
		return nil, fault.New(fault.Usage, "no code of %s is held", c.Name).At("--code").Hint("tidy-courier obtain %s --until code leaves one; --code=CODE gives one", c.Name)
	}
	s.remember(a)
	return a, p.Forget(s.e.Project.Key(), s.e.Project.Stage(), attemptName(c.Name))
}

func readAttempt(p *pouch.Pouch, k pouch.Key) (*attempt, error) {
	kept, err := p.Kept(k.Project, k.Stage)
	if err != nil {
		return nil, err
	}
	raw, there := kept[attemptName(k.Client)]
	if !there {
		return nil, nil
	}
	a := &attempt{}
	return a, json.Unmarshal([]byte(raw), a)
}
