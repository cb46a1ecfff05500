package finding

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// responseTypes are what a response type is made of (OAuth 2.0 Multiple Response
// Type Encoding Practices 3 and 5).
var responseTypes = []string{"code", "token", "id_token", "none"}

// responseTypeUnheard is a refused request whose response type no standard has.
func responseTypeUnheard(e *Evidence) *Match {
	leg := e.last(run.Authorization)
	if leg == nil || e.Person == nil || e.Person.Request == nil || e.Person.Code() != "" {
		return nil
	}
	sent := sentParam(e.Person.Request, "response_type")
	if !slices.ContainsFunc(strings.Fields(sent), func(s string) bool { return !slices.Contains(responseTypes, s) }) {
		return nil
	}
	if s := leg.Status(); s < 400 && (e.Person.Response == nil || e.Person.Response.Err == nil) {
		return nil
	}
	return certain(leg, run.Item{What: "response_type", Where: e.authPlace(), Value: sent}, run.Item{What: "known are", Value: strings.Join(responseTypes, ", ") + ", and combinations"})
}

// wronglySeparated is the same in a token request.
func wronglySeparated(e *Evidence) *Match {
	leg, o := e.refusedWith(true, oauth.ErrInvalidScope, oauth.ErrInvalidRequest)
	if leg == nil || e.AnswerOnly {
		return nil
	}
	if scope := form(leg)["scope"]; strings.ContainsAny(scope, ",+;") && (o.Code == oauth.ErrInvalidScope || said(o.Description, "scope")) {
		return certain(leg, run.Item{What: "scope", Where: legPlace(leg), Value: scope}, e.answerItem(leg, o))
	}
	return nil
}

// lackingAtToken is a parameter that the token endpoint asks for and that was
// not sent.
func lackingAtToken(name string) func(*Evidence) *Match {
	return refused(func(e *Evidence, f map[string]string, leg *run.Leg) *Match {
		_, o := e.refusal()
		if o == nil || f[name] != "" || !said(o.Description, name) || !said(o.Description, "missing", "required", "must", "need", "empty", "provide", "specif") && o.Code != oauth.ErrInvalidScope {
			return nil
		}
		return certain(leg, run.Item{What: name, Where: legPlace(leg), Value: "not sent"}, e.answerItem(leg, o))
	})
}

// requestParamRule explains a request that lacks a parameter the server wants.
func requestParamRule(id, title, meaning, name, remedy, reference string) Rule {
	return Rule{ID: id, Title: title, Meaning: meaning, Proof: "The parameter was not sent, and the server's words name it.", Remedy: []string{remedy}, References: []string{reference},
		Judge: either(func(e *Evidence) *Match {
			if name == "scope" {
				return lackingAtToken(name)(e)
			}
			return nil
		}, func(e *Evidence) *Match {
			leg := e.failedAuthorization()
			if leg == nil || e.AnswerOnly || e.Person == nil || e.Person.Request == nil || e.Person.Unasked || sentParam(e.Person.Request, name) != "" || sentParam(e.Person.Request, "request") != "" {
				return nil
			}
			o := e.pageSays()
			if name != "response_type" && !said(o.Description, name) || o.Code != "" && o.Code != oauth.ErrInvalidRequest && o.Code != oauth.ErrInvalidScope && o.Code != oauth.ErrUnsupportedResponseType {
				return nil
			}
			return certain(leg, run.Item{What: name, Where: legPlace(leg), Value: "not sent"}, e.pageItem(leg))
		})}
}

// person runs a judge over runs that have a request and an answer.
func person(judge func(e *Evidence, p *Person, leg *run.Leg) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg := e.last(run.Landing)
		if leg == nil || e.Person == nil || e.Person.Request == nil || e.Person.Response == nil {
			return nil
		}
		return judge(e, e.Person, leg)
	}
}

// trusted is the error of an answer that belongs to the request: with a wrong
// state or issuer not even its error is to be believed.
func trusted(e *Evidence, p *Person) *oauth.Error {
	r := p.Response
	if r.Err == nil || r.State != p.Request.State || r.Issuer != "" && e.Metadata != nil && e.Metadata.Issuer != "" && r.Issuer != e.Metadata.Issuer {
		return nil
	}
	return r.Err
}

func refusedBy(c run.Certainty, codes ...string) func(*Evidence) *Match {
	return person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
		o := trusted(e, p)
		if o == nil || !slices.Contains(codes, o.Code) {
			return nil
		}
		m := &Match{Leg: leg.N, Certainty: c, Items: []run.Item{answerOf(e, leg)}}
		if p.Request.Prompt != "" {
			m.Items = append(m.Items, run.Item{What: "prompt", Where: e.authPlace(), Value: p.Request.Prompt})
		}
		return m
	})
}

func refusedScope(judge func(e *Evidence, leg *run.Leg) *Match) func(*Evidence) *Match {
	return person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
		if o := trusted(e, p); o == nil || o.Code != oauth.ErrInvalidScope {
			return nil
		}
		return judge(e, leg)
	})
}

// refusedRequest runs a judge over requests that the server finds wrong: told in
// the redirect, or on its own page when its words fit.
func refusedRequest(judge func(e *Evidence, p *Person, leg *run.Leg, says string) *Match) func(*Evidence) *Match {
	return either(onPage(func(e *Evidence, r *oauth.AuthorizationRequest, leg *run.Leg, o *oauth.Error) *Match {
		if o.Description == "" || o.Code != "" && o.Code != oauth.ErrInvalidRequest || said(o.Description, redirectWords...) {
			return nil
		}
		return judge(e, e.Person, leg, o.Description)
	}), refusedRedirect(judge))
}

func refusedRedirect(judge func(e *Evidence, p *Person, leg *run.Leg, says string) *Match) func(*Evidence) *Match {
	return person(func(e *Evidence, p *Person, leg *run.Leg) *Match {
		o := trusted(e, p)
		if o == nil || o.Code != oauth.ErrInvalidRequest || p.Unasked {
			return nil
		}
		return judge(e, p, leg, telling(o.Description))
	})
}

func answerOf(e *Evidence, leg *run.Leg) run.Item {
	if e.Person.Response == nil || e.Person.Response.Err == nil {
		return e.pageItem(leg)
	}
	return run.Item{What: "the server said", Where: legPlace(leg), Value: e.Person.Response.Err.Error()}
}

func legPlace(leg *run.Leg) string { return fmt.Sprintf("leg %d", leg.N) }

func certain(leg *run.Leg, items ...run.Item) *Match {
	return &Match{Leg: leg.N, Certainty: run.Certain, Items: items}
}

// pair is two values that differ, drawn one above the other.
func pair(what1, where1, value1, what2, where2, value2 string) []run.Item {
	return []run.Item{{What: what1, Where: where1, Value: value1, Compare: true}, {What: what2, Where: where2, Value: value2, Compare: true}}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (e *Evidence) challengePlace() string {
	if e.Client != nil && e.Client.CodeChallengeMethod.Where != "" {
		return e.Client.CodeChallengeMethod.Where
	}
	return "the default"
}

func notReceived(e *Evidence) *Match {
	leg := e.last(run.Authorization)
	if leg == nil || e.Person == nil || e.Person.TimedOut == 0 || e.Person.Request == nil {
		return nil
	}
	place := e.authPlace()
	if e.Client != nil && e.Client.RedirectURI.Where != "" {
		place = e.Client.RedirectURI.Where
	}
	m := &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "waited at", Where: place, Value: e.Person.Request.RedirectURI},
		{What: "waited for", Where: "--timeout", Value: e.Person.TimedOut.String()}}}
	if len(e.Person.Strays) == 0 {
		m.Items = append(m.Items, run.Item{What: "what arrived", Where: "the listener", Value: "nothing at all"})
		return m
	}
	for _, s := range e.Person.Strays {
		m.Items = append(m.Items, run.Item{What: "what arrived instead", Where: "the listener", Value: s})
	}
	if u, err := url.Parse(e.Person.Request.RedirectURI); err == nil {
		m.Remedy = []string{"the browser was sent to another address than " + u.Host + u.Path + ": make redirect_uri and the registration the same, to the letter"}
	}
	return m
}
