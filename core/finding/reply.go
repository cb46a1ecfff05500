package finding

import (
	"bytes"
	"encoding/json"
	"html"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	"tidycourier/core/bearer"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// Servers word a refusal in their own way: in the RFC's members or their own, in
// a page, in a header, with a code nobody else has, or not at all. Here it is
// read into one form: the RFC's code where one can be told, and of the words
// only those that tell something.

// codes are the error codes that rules look for (RFC 6749 4.1.2.1 and 5.2, RFC
// 8707 2, RFC 8628 3.5, RFC 9449 5 and 8, OpenID Connect Core 3.1.2.6, RFC 9101).
var codes = []string{oauth.ErrInvalidRequest, oauth.ErrInvalidClient, oauth.ErrInvalidGrant, oauth.ErrUnauthorizedClient, oauth.ErrUnsupportedGrantType,
	oauth.ErrInvalidScope, oauth.ErrAccessDenied, oauth.ErrUnsupportedResponseType, oauth.ErrServerError, oauth.ErrTemporarilyUnavailable, oauth.ErrLoginRequired,
	oauth.ErrConsentRequired, oauth.ErrInteractionRequired, oauth.ErrAccountSelection, "invalid_target", "authorization_pending", "slow_down", "expired_token",
	"invalid_dpop_proof", "use_dpop_nonce", "invalid_request_uri", "invalid_request_object", "invalid_token", "insufficient_scope"}

// rawReply reads the error of an answer as the server gave it, from whichever
// place it stands in; nil when it says nothing at all.
func rawReply(r *wire.Response) *oauth.Error {
	if r == nil {
		return nil
	}
	o := bodyReply(r)
	if o == nil || o.Code == "" {
		if c := challengeReply(r); c != nil {
			if o != nil && c.Description == "" {
				c.Description = o.Description
			}
			o = c
		}
	}
	if o != nil {
		o.Status = r.Status
	}
	return o
}

func bodyReply(r *wire.Response) *oauth.Error {
	body := bytes.TrimSpace(r.Body[:min(len(r.Body), 256<<10)])
	switch {
	case len(body) == 0:
		return nil
	case body[0] == '{' || body[0] == '[':
		return jsonReply(body)
	case isHTML(r):
		if text := pageText(body); text != "" {
			return &oauth.Error{Description: text}
		}
		return nil
	case bytes.Contains(body, []byte("error=")) && !bytes.ContainsAny(body, " \n<"):
		v, _ := url.ParseQuery(string(body))
		return &oauth.Error{Code: v.Get("error"), Description: v.Get("error_description"), URI: v.Get("error_uri")}
	}
	return &oauth.Error{Description: firstLine(body)}
}

func challengeReply(r *wire.Response) *oauth.Error {
	list, _ := bearer.ParseChallenges(r.Header.Values("WWW-Authenticate"))
	for _, c := range list {
		if c.Error() != "" {
			return &oauth.Error{Code: c.Error(), Description: c.Description()}
		}
	}
	return nil
}

// jsonReply reads the members that errors have: the RFC's, those of RFC 9457,
// and the ones that many servers share.
func jsonReply(body []byte) *oauth.Error {
	var v any
	if json.Unmarshal(body, &v) != nil {
		return nil
	}
	o := &oauth.Error{}
	readReply(o, v, 0)
	if o.Code == "" && o.Description == "" {
		return nil
	}
	return o
}

var (
	codeNames = []string{"error", "error_code", "errorcode", "errorkey", "code", "type", "reason"}
	textNames = []string{"error_description", "errordescription", "errorsummary", "error_message", "errormessage", "message", "detail", "details", "msg", "description", "title", "faultstring", "error_reason", "error_hint", "error_debug"}
)

func readReply(o *oauth.Error, v any, depth int) {
	if depth > 3 {
		return
	}
	switch v := v.(type) {
	case []any:
		for _, x := range v[:min(len(v), 4)] {
			readReply(o, x, depth+1)
		}
	case map[string]any:
		lower := map[string]any{}
		for k, x := range v {
			lower[strings.ToLower(k)] = x
		}
		for _, n := range codeNames {
			switch x := lower[n].(type) {
			case string:
				if o.Code == "" && !strings.Contains(x, "://") {
					o.Code = x
				}
			case map[string]any:
				readReply(o, x, depth+1)
			}
		}
		for _, n := range textNames {
			if s, ok := lower[n].(string); ok && s != "" && !strings.Contains(o.Description, s) {
				if o.Description != "" {
					o.Description += ". "
				}
				o.Description += s
			}
		}
		for _, n := range []string{"errors", "fault", "detail", "errorcauses", "error_details"} {
			if _, text := lower[n].(string); !text {
				readReply(o, lower[n], depth+1)
			}
		}
	}
	if strings.ContainsAny(o.Code, " ") { // a sentence in the place of a code
		o.Code, o.Description = "", strings.TrimSpace(o.Code+". "+o.Description)
	}
}

func isHTML(r *wire.Response) bool {
	head := strings.ToLower(string(bytes.TrimSpace(r.Body[:min(len(r.Body), 256)])))
	return r.MediaType() == "text/html" || r.MediaType() == "application/xhtml+xml" || strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html")
}

var (
	silentParts = lazy(`(?is)<(script|style|head|noscript|svg)\b.*?</(script|style|head|noscript|svg)>|<!--.*?-->`)
	tags        = lazy(`(?s)<[^>]*>`)
	spaces      = lazy(`\s+`)
	examples    = lazy(`(?i)[(\[](e\.?g\.?|for example|such as|i\.e\.)[^)\]]*[)\]]`)
	sentences   = lazy(`[.;!?](\s+|$)|\n|\s[-–—|]\s`)
	advice      = lazy(`(?i)^(please )?(make sure|ensure|be sure|check|verify that|try)\b`)
	words       = lazy(`[\p{L}\p{N}]+`)
	camel       = lazy(`([a-z])([A-Z])`)
)

func lazy(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}

// pageText is what a person reads on an HTML page, with its title first, at
// most 1,000 bytes.
func pageText(body []byte) string {
	text := silentParts().ReplaceAllString(string(body[:min(len(body), 64<<10)]), " ")
	text = strings.TrimSpace(spaces().ReplaceAllString(html.UnescapeString(tags().ReplaceAllString(text, ". ")), " "))
	for strings.Contains(text, ". . ") {
		text = strings.ReplaceAll(text, ". . ", ". ")
	}
	text = strings.Trim(text, ". ")
	if t := title(body); t != "" && !strings.Contains(text, t) {
		text = t + ". " + text
	}
	if len(text) > 1000 {
		text = strings.ToValidUTF8(text[:1000], "")
	}
	return text
}

// rfcSentences are the RFC's own words for its codes. A server that repeats
// them says no more than the code does.
var rfcSentences = []string{
	"The request is missing a required parameter, includes an unsupported parameter value (other than grant type), repeats a parameter, includes multiple credentials, utilizes more than one mechanism for authenticating the client, or is otherwise malformed",
	"The request is missing a required parameter, includes an invalid parameter value, includes a parameter more than once, or is otherwise malformed",
	"Client authentication failed (e.g., unknown client, no client authentication included, or unsupported authentication method)",
	"The provided authorization grant (e.g., authorization code, resource owner credentials) or refresh token is invalid, expired, revoked, does not match the redirection URI used in the authorization request, or was issued to another client",
	"The authenticated client is not authorized to use this authorization grant type",
	"The client is not authorized to request an authorization code using this method",
	"The authorization grant type is not supported by the authorization server",
	"The requested scope is invalid, unknown, malformed, or exceeds the scope granted by the resource owner",
	"The resource owner or authorization server denied the request",
	"The authorization server does not support obtaining an authorization code using this method",
	"The access token provided is expired, revoked, malformed, or invalid for other reasons",
	"The request requires higher privileges than provided by the access token",
}

var rfcBags = sync.OnceValue(func() []map[string]bool {
	var out []map[string]bool
	for _, s := range rfcSentences {
		out = append(out, bag(s))
	}
	return out
})

func bag(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range words().FindAllString(strings.ToLower(s), -1) {
		out[w] = true
	}
	return out
}

// copied reports whether a sentence is one of the RFC's own, with little changed.
func copied(sentence string) bool {
	b := bag(sentence)
	if len(b) < 6 {
		return false
	}
	for _, r := range rfcBags() {
		shared := 0
		for w := range b {
			if r[w] {
				shared++
			}
		}
		if float64(shared) >= 0.6*float64(len(b)+len(r)-shared) {
			return true
		}
	}
	return false
}

// alternatives are causes that one sentence may name beside each other ("invalid
// or expired"); one that names several decides between none of them.
var alternatives = [][]string{{"invalid", "incorrect", "malformed", "not valid", "bad ", "wrong"}, {"expired"}, {"revoked"}, {"already used", "already been used", "been used", "redeemed", "consumed"},
	{"another client", "different client"}, {"redirect"}, {"not found", "unknown", "does not exist"},
	{"signature", "signed"}, {"issuer"}, {"audience"}, {"not yet"}}

func undecided(sentence string) bool {
	s := " " + strings.ToLower(sentence) + " "
	if !strings.Contains(s, " or ") && !strings.Contains(s, "/") {
		return false
	}
	n := 0
	for _, group := range alternatives {
		if slices.ContainsFunc(group, func(w string) bool { return strings.Contains(s, w) }) {
			n++
		}
	}
	return n > 1
}

// telling is what of a server's words tells more than its code: without
// examples in brackets, without the RFC's own sentences, without those that leave
// several causes open, and without general advice.
func telling(text string) string {
	var out, counsel []string
	for _, s := range splitSentences(text) {
		if copied(s) {
			continue
		}
		s = strings.TrimSpace(examples().ReplaceAllString(s, ""))
		switch {
		case s == "" || copied(s) || undecided(s):
		case advice().MatchString(s):
			counsel = append(counsel, s)
		default:
			out = append(out, s)
		}
	}
	if len(out) == 0 && len(counsel) == 1 {
		return counsel[0] // said by itself it points somewhere
	}
	return strings.Join(out, ". ")
}

// splitSentences keeps an "e.g." together.
func splitSentences(text string) []string {
	text = strings.NewReplacer("e.g.", "e\x00g\x00", "i.e.", "i\x00e\x00", "E.g.", "e\x00g\x00").Replace(text)
	var out []string
	for _, s := range sentences().Split(text, -1) {
		if s = strings.TrimSpace(strings.ReplaceAll(s, "\x00", ".")); s != "" {
			out = append(out, s)
		}
	}
	return out
}

// curt reports words so few that they can only be about what the code is about.
func curt(o *oauth.Error) bool {
	n := len(words().FindAllString(plainWords(o.Description), 4))
	return n > 0 && n < 4
}

// reply is rawReply made fit for rules: Code is one of codes, or "" when none
// can be told, Description holds what is telling.
func reply(r *wire.Response, grant string) *oauth.Error {
	raw := rawReply(r)
	if raw == nil {
		return nil
	}
	o := &oauth.Error{Code: strings.ToLower(raw.Code), Status: raw.Status, Description: telling(raw.Description)}
	if slices.Contains(codes, o.Code) {
		return o
	}
	if raw.Code != "" { // a code of its own says something like any other word
		own := spelt(raw.Code)
		o.Description = strings.TrimSpace(own + ". " + o.Description)
	}
	o.Code = likeCode(o, raw, grant)
	return o
}

// spelt writes a code out as words: redirectUriMismatch, REDIRECT_URI_MISMATCH.
func spelt(code string) string {
	code = camel().ReplaceAllString(code, "$1 $2")
	return strings.ToLower(strings.Join(strings.FieldsFunc(code, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }), " "))
}

// likeCode tells from a server's own words which of the RFC's codes they stand for.
func likeCode(o, raw *oauth.Error, grant string) string {
	text := strings.NewReplacer("_", " ", "-", " ").Replace(o.Description)
	if text == "" {
		text = raw.Description
	}
	wrong := said(text, "invalid", "incorrect", "wrong", "bad", "mismatch", "not match", "failed", "unauthorized", "denied", "expired", "not found", "unknown", "missing", "required", "not allowed", "unsupported", "not supported", "not valid", "already", "revoked", "rejected", "must", "cannot", "could not")
	switch {
	case !wrong && o.Status < 400:
		return ""
	case grant == oauth.GrantPassword && said(text, "username", "password", "user credentials", "login", "account"):
		return oauth.ErrInvalidGrant
	case said(text, "grant") && said(text, "unsupported", "not supported"):
		return oauth.ErrUnsupportedGrantType
	case said(text, "grant type", "not allowed for", "not permitted for"):
		return oauth.ErrUnauthorizedClient
	case said(text, "redirect uri", "redirect url", "redirecturi", "verifier", "pkce", "authorization code", "auth code", "verification code", "refresh token", "code passed"):
		return oauth.ErrInvalidGrant
	case said(text, "scope"):
		return oauth.ErrInvalidScope
	case said(text, "secret", "credential", "client", "application"), o.Status == 401 && wrong:
		return oauth.ErrInvalidClient
	case said(text, "missing", "required", "parameter", "malformed"):
		return oauth.ErrInvalidRequest
	}
	return ""
}

// said reports whether a text holds one of the words, case and the marks between
// words aside; a word may go on, but not begin in the middle of another. It
// weighs, it never decides alone.
func said(text string, list ...string) bool {
	text = plainWords(text)
	return slices.ContainsFunc(list, func(w string) bool { return begins(text, plainWords(w)) })
}

func begins(text, w string) bool {
	for from := 0; ; {
		i := strings.Index(text[from:], w)
		if i < 0 {
			return false
		}
		if i += from; i == 0 || !unicode.IsLetter(rune(text[i-1])) || !unicode.IsLetter(rune(w[0])) {
			return true
		}
		from = i + 1
	}
}

// plainWords is a text in lower case with single spaces for underscores and
// hyphens, so that redirect_uri and redirect URI are the same words.
func plainWords(s string) string {
	return strings.NewReplacer("_", " ", "-", " ", "'", "", "’", "", "`", "", "\"", "").Replace(strings.ToLower(s))
}

// SentSecret is the client secret that a request carried, in header or body.
func SentSecret(x *wire.Exchange) string {
	if _, secret, ok := BasicCredentials(x.Request.Header.Get("Authorization")); ok {
		return secret
	}
	leg := &run.Leg{Exchange: x}
	return form(leg)["client_secret"]
}
