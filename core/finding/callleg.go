package finding

import (
	"encoding/json"
	"fmt"
	"mime"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// refusedCall is the last call leg when the API refused it with one of the
// statuses.
func (e *Evidence) refusedCall(statuses ...int) *run.Leg {
	leg := e.last(run.Call)
	if leg == nil {
		leg = e.last(run.Userinfo) // a protected resource like any other
	}
	if leg == nil || !slices.Contains(statuses, leg.Status()) {
		return nil
	}
	return leg
}

func (e *Evidence) apiItem(leg *run.Leg) run.Item {
	value := fmt.Sprint(leg.Status())
	if _, ok := challenge(leg); ok {
		value += " " + leg.Exchange.Response.Header.Get("WWW-Authenticate")
	} else if len(leg.Exchange.Response.Body) > 0 && !looksHTML(leg) {
		value += " " + firstLine(leg.Exchange.Response.Body)
	}
	return run.Item{What: "the API said", Where: fmt.Sprintf("leg %d", leg.N), Value: value}
}

// carries reports whether a token travels in the URL or the body.
func carries(leg *run.Leg, access string) bool {
	if access == "" {
		return false
	}
	encoded := url.QueryEscape(access)
	return strings.Contains(leg.URL, encoded) || strings.Contains(string(leg.Exchange.Request.Body), encoded)
}

func noToken(e *Evidence) *Match {
	leg := e.refusedCall(401, 403)
	if leg == nil {
		leg = e.unauthenticated()
	}
	if leg == nil || e.Access != "" || carries(leg, e.Access) || sentToken(leg) != "" || leg.Exchange.Request.Header.Get("Authorization") != "" || strings.Contains(leg.URL, "access_token=") {
		return nil
	}
	if c, ok := challenge(leg); e.AnswerOnly && (!ok || c.Error() != "") {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "Authorization", Where: fmt.Sprintf("leg %d", leg.N), Value: "not sent"}, e.apiItem(leg)}}
	if e.AnswerOnly {
		m.Certainty, m.Items = run.Likely, []run.Item{{What: "a challenge without error", Where: legPlace(leg), Value: "is what a call without token gets (RFC 6750 3.1)"}, e.apiItem(leg)}
	}
	if e.HeadersLeftOut {
		m.Certainty, m.Items[0].Value = run.Possible, "left out of the record, sent or not"
		if c, ok := challenge(leg); ok && c.Error() != "" {
			return nil // that is about a token
		}
	}
	if e.Call != nil && !e.Call.SendToken {
		m.Items[0] = run.Item{What: "send_token", Where: e.Call.Where, Value: "false"}
		m.Remedy = []string{"this call is meant to be refused; the others send a token"}
	}
	return m
}

// unauthenticated is a call refused with 400 whose answer asks for a token: a
// bare challenge, or words that say that none came.
func (e *Evidence) unauthenticated() *run.Leg {
	leg := e.refusedCall(400)
	if leg == nil {
		return nil
	}
	c, ok := challenge(leg)
	o := callReply(leg)
	if ok && c.Error() == "" || o != nil && said(o.Description, "no access token", "missing token", "token is missing", "missing access token", "token required", "no token", "no bearer", "missing authorization") {
		return leg
	}
	return nil
}

func tokenExpired(e *Evidence) *Match {
	leg := e.refusedCall(401, 403, 400)
	t := decoded(e.Access)
	if leg == nil || e.Access == "" && !e.AnswerOnly {
		return nil
	}
	if t == nil {
		if life, ok := e.lifetime(); ok && !e.AnsweredAt.IsZero() && e.sentAt(leg).After(e.AnsweredAt.Add(life)) {
			return certain(leg, run.Item{What: "given", Where: "the token answer", Value: e.AnsweredAt.UTC().Format(time.RFC3339)}, run.Item{What: "for", Where: "expires_in", Value: life.String()},
				run.Item{What: "sent", Where: legPlace(leg), Value: e.sentAt(leg).UTC().Format(time.RFC3339)}, e.apiItem(leg))
		}
		return e.saidToBe(leg, "expired")
	}
	exp, ok := t.Time("exp")
	if !ok || e.Now.Before(exp) {
		return e.saidToBe(leg, "expired")
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "exp", Where: "the token " + t.Fingerprint(), Value: exp.Format(time.RFC3339)},
		{What: "now", Where: "the clock", Value: e.Now.UTC().Format(time.RFC3339)}, e.apiItem(leg)}}
}

// lifetime is how long the token lives, by the answer it came in.
func (e *Evidence) lifetime() (time.Duration, bool) {
	if e.Answer == nil {
		return 0, false
	}
	return e.Answer.Lifetime()
}

// saidToBe is what the API says about the token when it refuses it as invalid.
func (e *Evidence) saidToBe(leg *run.Leg, words ...string) *Match {
	o := callReply(leg)
	if o == nil || !said(o.Description, words...) || !said(o.Description+o.Code, "token", "jwt", "signature") || leg.Status() != 401 && o.Code != "invalid_token" {
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.apiItem(leg)}}
}

// aboutToken runs a judge over calls whose token the API refused.
func aboutToken(judge func(e *Evidence, leg *run.Leg, t *token.Token) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg := e.refusedCall(400, 401, 403)
		if leg == nil || e.Access == "" && !e.AnswerOnly {
			return nil
		}
		return judge(e, leg, decoded(e.Access))
	}
}

func insufficientScope(e *Evidence) *Match {
	leg := e.refusedCall(403, 401)
	if leg == nil || e.Access == "" && !e.AnswerOnly {
		return nil
	}
	c, ok := challenge(leg)
	named := ok && c.Error() == "insufficient_scope"
	if o := callReply(leg); o != nil && !named {
		named = o.Code == "insufficient_scope" || leg.Status() == 403 && said(o.Description, "scope") && !said(o.Description, "role")
	}
	if leg.Status() == 401 && !named {
		return nil
	}
	needed, place := c.Scope(), fmt.Sprintf("the challenge, leg %d", leg.N)
	if len(needed) == 0 {
		needed, place = e.neededScope()
	}
	held, known := e.heldScope()
	lacking, _ := oauth.ScopeDifference(needed, held)
	if !named && (len(lacking) == 0 || !known) {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Certain}
	if !named {
		m.Certainty = run.Likely
	}
	if len(needed) > 0 {
		m.Items = append(m.Items, run.Item{What: "scope needed", Where: place, Value: strings.Join(needed, " ")})
	}
	if known {
		m.Items = append(m.Items, run.Item{What: "scope in the token", Where: "the token", Value: strings.Join(held, " ")})
	}
	m.Items = append(m.Items, e.apiItem(leg))
	if e.Client != nil && e.Client.Scope.Where != "" && len(lacking) > 0 {
		if _, add := oauth.ScopeDifference(e.Client.Scope.Values, lacking); len(add) > 0 {
			m.Remedy = []string{fmt.Sprintf("add %s to the client's scope at %s, and obtain again", strings.Join(add, " "), e.Client.Scope.Where),
				"when the server then does not grant it, have the provider allow it to this client"}
		}
	}
	return m
}

func (e *Evidence) neededScope() ([]string, string) {
	if e.Call != nil && len(e.Call.Needs.Scope.Values) > 0 {
		return e.Call.Needs.Scope.Values, e.Call.Needs.Scope.Where
	}
	if e.API != nil && len(e.API.Needs.Scope.Values) > 0 {
		return e.API.Needs.Scope.Values, e.API.Needs.Scope.Where
	}
	return nil, ""
}

// heldScope is the scope and roles the token carries; false when it cannot be
// told (an opaque token).
func (e *Evidence) heldScope() ([]string, bool) {
	if t := decoded(e.Access); t != nil {
		return append(t.Scope(), t.Roles()...), true
	}
	if e.Answer != nil && e.Answer.Scope != nil {
		return e.Answer.Scope, true
	}
	return nil, false
}

func wrongAudience(e *Evidence) *Match {
	leg := e.refusedCall(401, 403, 400)
	t := decoded(e.Access)
	if leg == nil || t == nil || len(t.Audience()) == 0 {
		return nil
	}
	if e.API == nil || e.API.Needs.Audience.Value == "" {
		m := e.saidToBe(leg, "audience", "aud claim", " aud ")
		if m != nil {
			m.Items = append([]run.Item{{What: "aud in the token", Where: "the token " + t.Fingerprint(), Value: strings.Join(t.Audience(), " ")}}, m.Items...)
		}
		return m
	}
	need := e.API.Needs.Audience
	if slices.Contains(t.Audience(), need.Value) {
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "audience needed", Where: need.Where, Value: need.Value, Compare: true},
		{What: "aud in the token", Where: "the token " + t.Fingerprint(), Value: strings.Join(t.Audience(), " "), Compare: true}, e.apiItem(leg)}}
}

func notAccepted(e *Evidence) *Match {
	leg := e.refusedCall(401)
	if o := e.invalidToken(); leg == nil && o != nil {
		leg = e.refusedCall(400, 403)
	}
	if leg == nil || sentToken(leg) == "" && !e.AnswerOnly && !e.HeadersLeftOut || tokenExpired(e) != nil || wrongAudience(e) != nil || insufficientScope(e) != nil || headerMissing(e) != nil || sentIDToken(e) != nil || noToken(e) != nil && !e.HeadersLeftOut {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.apiItem(leg)}}
	if t := decoded(e.Access); t != nil {
		m.Items = append([]run.Item{{What: "iss in the token", Where: "the token " + t.Fingerprint(), Value: t.Text("iss")}}, m.Items...)
	}
	return m
}

// invalidToken is the API's word that the token itself is invalid, whatever the
// status.
func (e *Evidence) invalidToken() *oauth.Error {
	leg := e.refusedCall(400, 401, 403)
	if leg == nil {
		return nil
	}
	if o := callReply(leg); o != nil && o.Code == "invalid_token" {
		return o
	}
	return nil
}

// headerName is a header's name as APIs write it in a sentence: two capitalised
// words with a dash, an X- name, or what stands beside the word header.
var headerName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\b([A-Z][A-Za-z0-9]*(?:-[A-Z][A-Za-z0-9]*)+|[Xx](?:-[A-Za-z0-9]+)+)\b`)
})

func headerMissing(e *Evidence) *Match {
	leg := e.refusedCall(400, 401, 403, 412, 422, 428)
	if leg == nil || looksHTML(leg) {
		return nil
	}
	body := string(leg.Exchange.Response.Body[:min(len(leg.Exchange.Response.Body), 8<<10)])
	if !said(body, "header", "required", "missing", "must") {
		return nil
	}
	for _, m := range headerName().FindAllStringSubmatch(body, 8) {
		name := m[1]
		if strings.EqualFold(name, "WWW-Authenticate") || strings.EqualFold(name, "Content-Type") || leg.Exchange.Request.Header.Get(name) != "" {
			continue
		}
		c := run.Likely
		if said(body, "header") && said(body, "required", "missing", "must", "without") {
			c = run.Certain
		}
		return &Match{Leg: leg.N, Certainty: c, Items: []run.Item{{What: name, Where: fmt.Sprintf("leg %d", leg.N), Value: "not sent"}, e.apiItem(leg)},
			Remedy: []string{fmt.Sprintf("add %s under headers: of the API in the courier file, or give --header '%s: VALUE'", name, name)}}
	}
	return nil
}

func xmlCame(e *Evidence) *Match {
	leg := e.last(run.Call)
	if leg == nil || leg.Status() == 0 {
		return nil
	}
	mt := leg.Exchange.Response.MediaType()
	accept := leg.Exchange.Request.Header.Get("Accept")
	if mt != "application/xml" && mt != "text/xml" && !strings.HasSuffix(mt, "+xml") || mt == "application/xhtml+xml" || mt == "image/svg+xml" || strings.Contains(accept, "json") {
		return nil
	}
	sent := accept
	if sent == "" {
		sent = "not sent"
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Note: !e.JSONWanted, Odd: true, Items: []run.Item{{What: "Accept", Where: fmt.Sprintf("leg %d", leg.N), Value: sent},
		{What: "Content-Type of the answer", Where: fmt.Sprintf("leg %d", leg.N), Value: mt}}}
}

func forbidden(e *Evidence) *Match {
	leg := e.refusedCall(403)
	if leg == nil || sentToken(leg) == "" && !e.AnswerOnly && !e.HeadersLeftOut || e.invalidToken() != nil || insufficientScope(e) != nil || wrongAudience(e) != nil || tokenExpired(e) != nil || headerMissing(e) != nil {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.apiItem(leg)}}
	if t := decoded(e.Access); t != nil {
		m.Items = append([]run.Item{{What: "sub in the token", Where: "the token " + t.Fingerprint(), Value: t.Text("sub")}}, m.Items...)
	}
	return m
}

// saidJSON is a success whose type says JSON.
func saidJSON(e *Evidence) *run.Leg {
	leg := e.last(run.Call)
	if leg == nil || leg.Status() < 200 || leg.Status() > 299 || leg.Exchange.Response.Truncated || leg.Exchange.Response.Streamed > 0 || len(leg.Exchange.Response.Body) == 0 {
		return nil
	}
	mt := leg.Exchange.Response.MediaType()
	if mt != "application/json" && !strings.HasSuffix(mt, "+json") {
		return nil
	}
	return leg
}

func brokenJSON(e *Evidence) *Match {
	leg := saidJSON(e)
	if leg == nil || json.Valid(leg.Exchange.Response.Body) || wrongCharset(e) != nil {
		return nil
	}
	var any json.RawMessage
	err := json.Unmarshal(leg.Exchange.Response.Body, &any)
	text := "it does not parse"
	if err != nil {
		text = err.Error()
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Note: !e.JSONWanted, Odd: true, Items: []run.Item{{What: "Content-Type", Where: fmt.Sprintf("leg %d", leg.N), Value: leg.Exchange.Response.Header.Get("Content-Type")},
		{What: "the body", Where: fmt.Sprintf("leg %d", leg.N), Value: text}}}
}

// wrongCharset is text whose bytes are not in the encoding they should be in:
// JSON is UTF-8 always (RFC 8259 8.1), other text as charset says.
func wrongCharset(e *Evidence) *Match {
	leg := e.last(run.Call)
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil || leg.Exchange.Response.Truncated || utf8.Valid(leg.Exchange.Response.Body) {
		return nil
	}
	_, params, _ := mime.ParseMediaType(leg.Exchange.Response.Header.Get("Content-Type"))
	mt, said := leg.Exchange.Response.MediaType(), params["charset"]
	isJSON := mt == "application/json" || strings.HasSuffix(mt, "+json")
	if !isJSON && !strings.EqualFold(said, "utf-8") {
		return nil
	}
	due := "UTF-8, as charset says"
	if isJSON {
		due = "UTF-8, as JSON always is"
	}
	body := leg.Exchange.Response.Body
	at := 0
	for at < len(body) {
		r, n := utf8.DecodeRune(body[at:])
		if r == utf8.RuneError && n == 1 {
			break
		}
		at += n
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Note: !e.JSONWanted, Odd: true, Items: []run.Item{{What: "Content-Type", Where: fmt.Sprintf("leg %d", leg.N), Value: leg.Exchange.Response.Header.Get("Content-Type")},
		{What: "due", Value: due}, {What: "the body", Where: fmt.Sprintf("leg %d", leg.N), Value: fmt.Sprintf("byte %d is 0x%02x, which is not", at, body[at])}}}
}
