package finding

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// What goes wrong at the authorization endpoint before the server trusts the
// redirect URI is told on a page of its own, or in the answer to a program that
// fetched the address.

// failedAuthorization is the authorization request that did not lead to a code:
// the browser came back with an error, the server showed its own page, or
// refused. Nil when it worked, or when nothing tells.
func (e *Evidence) failedAuthorization() *run.Leg {
	leg := e.last(run.Authorization)
	if leg == nil {
		leg = e.last(run.Pushed)
	}
	if leg == nil {
		return nil
	}
	p := e.Person
	if p != nil && p.Response != nil {
		if p.Response.Err != nil {
			return leg
		}
		return nil
	}
	if p != nil && p.OwnPage != nil || leg.Status() >= 400 {
		return leg
	}
	return nil
}

// pageSays is what the server said at the authorization endpoint, wherever: in
// the redirect, on its page, or in JSON. Never nil.
func (e *Evidence) pageSays() *oauth.Error {
	p := e.Person
	if p != nil && p.Response != nil && p.Response.Err != nil {
		if trusted(e, p) == nil {
			return &oauth.Error{}
		}
		return &oauth.Error{Code: p.Response.Err.Code, Description: telling(p.Response.Err.Description)}
	}
	if p != nil && p.OwnPage != nil {
		return &oauth.Error{Code: p.OwnPage.Code, Description: telling(strings.TrimSpace(spelt(p.OwnPage.Code) + ". " + p.OwnPage.Description))}
	}
	leg := e.failedAuthorization()
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil {
		return &oauth.Error{}
	}
	raw := rawReply(leg.Exchange.Response)
	if raw == nil {
		return &oauth.Error{}
	}
	o := &oauth.Error{Code: raw.Code, Description: telling(raw.Description), Status: raw.Status}
	if raw.Code != "" && !slices.Contains(codes, raw.Code) {
		o.Description = spelt(raw.Code) + ". " + o.Description
	}
	return o
}

func (e *Evidence) pageItem(leg *run.Leg) run.Item {
	value := ""
	switch p := e.Person; {
	case p != nil && p.Response != nil && p.Response.Err != nil:
		value = said1(p.Response.Err)
	case p != nil && p.OwnPage != nil:
		value = "on its own page: " + said1(p.OwnPage)
	case leg.Exchange != nil && leg.Exchange.Response != nil:
		value = fmt.Sprint(leg.Status())
		if raw := rawReply(leg.Exchange.Response); raw != nil {
			value += " " + said1(raw)
		}
	}
	return run.Item{What: "the server said", Where: legPlace(leg), Value: value}
}

// onPage runs a judge over authorization requests that ended on the server's
// own page.
func onPage(judge func(e *Evidence, r *oauth.AuthorizationRequest, leg *run.Leg, o *oauth.Error) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg := e.failedAuthorization()
		if leg == nil || e.AnswerOnly || e.Person == nil || e.Person.Request == nil || e.Person.Response != nil {
			return nil
		}
		return judge(e, e.Person.Request, leg, e.pageSays())
	}
}

// registeredRedirect compares the redirect URI that was sent with the settings'.
func registeredRedirect(e *Evidence, r *oauth.AuthorizationRequest) (string, bool) {
	if !e.Foreign || e.Client == nil || e.Client.RedirectURI.Value == "" || r.ClientID != e.Client.ClientID.Value {
		return "", false
	}
	set := e.Client.RedirectURI.Value
	if set == r.RedirectURI || loopbackPort(set, r.RedirectURI) {
		return "", false
	}
	return set, true
}

// loopbackPort reports that two loopback redirect URIs differ in the port alone,
// which a native client may choose (RFC 8252 7.3).
func loopbackPort(a, b string) bool {
	x, err1 := url.Parse(a)
	y, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && x.Scheme == "http" && x.Scheme == y.Scheme && x.Hostname() == y.Hostname() && x.Path == y.Path && x.Port() == "0"
}

var redirectWords = []string{"redirect uri", "redirect url", "redirecturi", "redirecturl", "redirection uri", "callback url", "callback uri", "reply url", "return url", "redirect_uri"}

// pageRedirect is a redirect URI that the server does not accept: it never
// redirects there, so only its page, its words or the settings tell.
func pageRedirect(e *Evidence) *Match {
	return onPage(func(e *Evidence, r *oauth.AuthorizationRequest, leg *run.Leg, o *oauth.Error) *Match {
		items := []run.Item{{What: "redirect_uri sent", Where: legPlace(leg), Value: orNone(r.RedirectURI)}, e.pageItem(leg)}
		if set, differs := registeredRedirect(e, r); differs {
			return certain(leg, append(pair("in the settings", e.Client.RedirectURI.Where, set, "as sent", legPlace(leg), r.RedirectURI), e.pageItem(leg))...)
		}
		switch {
		case said(o.Description, redirectWords...):
			return certain(leg, items...)
		case e.pageSilent(leg, o) && (e.unknownIDSent(r) == "" && r.RedirectURI != ""):
			return &Match{Leg: leg.N, Certainty: run.Possible, Items: items}
		}
		return nil
	})(e)
}

// pageSilent reports that nothing on the page speaks of something else.
func (e *Evidence) pageSilent(leg *run.Leg, o *oauth.Error) bool {
	return leg.Status() < 500 && leg.Status() != 404 && leg.Status() != 429 && (o.Code == "" || o.Code == oauth.ErrInvalidRequest) &&
		!said(o.Description, "client", "scope", "response type", "pkce", "challenge", "request uri", "pushed", "nonce", "grant", "session", "cookie")
}

// unknownIDSent is the client id of the settings, when another one was sent.
func (e *Evidence) unknownIDSent(r *oauth.AuthorizationRequest) string {
	if e.Foreign && e.Client != nil && e.Client.ClientID.Value != "" && r.ClientID != "" && r.ClientID != e.Client.ClientID.Value {
		return e.Client.ClientID.Value
	}
	return ""
}

func pageUnknownClient(e *Evidence) *Match {
	return onPage(func(e *Evidence, r *oauth.AuthorizationRequest, leg *run.Leg, o *oauth.Error) *Match {
		items := []run.Item{{What: "client_id sent", Where: legPlace(leg), Value: orNone(r.ClientID)}, e.pageItem(leg)}
		if set := e.unknownIDSent(r); set != "" && !said(o.Description, redirectWords...) {
			return certain(leg, append(pair("in the settings", e.Client.ClientID.Where, set, "as sent", legPlace(leg), r.ClientID), e.pageItem(leg))...)
		}
		if r.ClientID == "" || said(o.Description, redirectWords...) {
			return nil
		}
		switch {
		case o.Code == oauth.ErrInvalidClient, said(o.Description, "client", "application", "app id") && (said(o.Description, "unknown", "invalid", "unrecognized", "unrecognised") || said(o.Description, unknownWords...)):
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
		case o.Code == oauth.ErrUnauthorizedClient && !said(o.Description, "response", "grant", "flow"):
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
		case e.pageSilent(leg, o):
			return &Match{Leg: leg.N, Certainty: run.Possible, Items: items}
		}
		return nil
	})(e)
}

// ownPage lends the rules of the redirect's errors to errors on the server's own
// page: the same codes, told elsewhere.
func ownPage(codes ...string) func(*Evidence) *Match {
	return onPage(func(e *Evidence, r *oauth.AuthorizationRequest, leg *run.Leg, o *oauth.Error) *Match {
		if !slices.Contains(codes, o.Code) || said(o.Description, redirectWords...) {
			return nil
		}
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.pageItem(leg)}}
	})
}

var pageRules = []Rule{
	{
		ID: "html-instead-of-redirect", Title: "An authorization address was fetched as if it were an API",
		Meaning: "The authorization endpoint shows pages to a person in a browser. A program that fetches it gets the sign-in page, or a redirect to it, and never a code.", Proof: "The request has no trace of a person's browser going there: a script's fetch, or an Accept that wants no page.",
		Remedy:     []string{"open the address in a browser, and receive the answer at the redirect URI: tidy-courier obtain CLIENT does both", "where no person is there, use client_credentials"},
		References: []string{"RFC 6749 3.1", "RFC 6749 4.1.1"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Authorization)
			if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil || e.Person == nil || e.Person.Response != nil || e.last(run.Token) != nil || leg.Status() >= 400 {
				return nil
			}
			h := leg.Exchange.Request.Header
			accept, dest, mode := h.Get("Accept"), h.Get("Sec-Fetch-Dest"), h.Get("Sec-Fetch-Mode")
			script := dest == "empty" || mode == "cors" || strings.EqualFold(h.Get("X-Requested-With"), "XMLHttpRequest")
			program := dest == "" && accept != "" && !strings.Contains(accept, "text/html") && (strings.Contains(accept, "json") || accept == "*/*" && !strings.Contains(h.Get("User-Agent"), "Mozilla"))
			page := isHTML(leg.Exchange.Response) || leg.Status()/100 == 3
			if !script && !program || !page {
				return nil
			}
			what := "Accept: " + accept
			if script {
				what = "a script's fetch"
			}
			return certain(leg, run.Item{What: "asked by", Where: legPlace(leg), Value: what}, run.Item{What: "what came", Where: legPlace(leg), Value: fmt.Sprintf("%d %s", leg.Status(), leg.Exchange.Response.Header.Get("Content-Type"))})
		},
	},
	{
		ID: "request-uri-unknown-or-used", Title: "The pushed request is not known any more",
		Meaning: "A request_uri works once, and lives for a minute or so. An address that is opened twice, or late, names nothing.", Proof: "invalid_request_uri, or the server's words about the request_uri that was sent.",
		Remedy:     []string{"push the request again and open the new address at once"},
		References: []string{"RFC 9126 2.2", "RFC 9126 4"},
		Judge: func(e *Evidence) *Match {
			leg := e.failedAuthorization()
			if leg == nil || e.Person == nil || e.Person.Request == nil || e.AnswerOnly {
				return nil
			}
			uri := sentParam(e.Person.Request, "request_uri")
			if uri == "" {
				uri = e.PushedAs
			}
			o := e.pageSays()
			if uri == "" || o.Code != "invalid_request_uri" && !said(o.Description, "request uri", "request_uri", "pushed", "par ") {
				return nil
			}
			return certain(leg, run.Item{What: "request_uri", Where: legPlace(leg), Value: uri}, e.pageItem(leg))
		},
	},
}
