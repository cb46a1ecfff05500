package mask

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net/url"
	"regexp"
	"strings"
	"sync"
)

// carriers are the parameter and member names whose value is a credential:
// RFC 6749, 7009, 7521, 7591, 8628, 8693, OpenID Connect, and the names servers
// commonly give the same things.
var carriers = map[string]bool{
	"access_token": true, "refresh_token": true, "id_token": true, "token": true, "code": true,
	"client_secret": true, "client_assertion": true, "assertion": true, "code_verifier": true,
	"device_code": true, "subject_token": true, "actor_token": true, "id_token_hint": true,
	"registration_access_token": true, "logout_token": true, "api_key": true, "apikey": true,
	"secret": true, "accesstoken": true, "refreshtoken": true, "idtoken": true, "clientsecret": true,
	"session_state": true, "request": true, "saml_response": true,
}

// passwords are names whose value is hidden without a fingerprint.
var passwords = map[string]bool{"password": true, "passwd": true, "passphrase": true, "pin": true, "otp": true}

// headers whose whole value is a credential. Authorization and its kin keep
// their scheme, since a wrong scheme is a common cause.
var headers = map[string]bool{
	"cookie": true, "set-cookie": true, "x-api-key": true, "api-key": true, "x-auth-token": true,
	"x-access-token": true, "dpop": true,
}

// Named reports whether a parameter or member of that name carries a credential.
func Named(name string) bool {
	n := strings.ToLower(name)
	return carriers[n] || passwords[n]
}

// Value masks a value by the name of the parameter or member that carries it;
// other values pass unchanged.
func Value(name, value string) string { return byName(name, value, false) }

func byName(name, value string, data bool) string {
	n := strings.ToLower(name)
	switch {
	case data && ambiguous[n] && !tokenShaped(value):
		return value
	case value == "", value == Hidden, strings.HasPrefix(value, "[masked ") && strings.HasSuffix(value, "]"):
		return value // masked before
	case passwords[n]:
		return Hidden
	case carriers[n] || tokenShaped(value):
		return Text(value)
	}
	return value
}

// tokenShaped tells a compact JWS or JWE (RFC 7515 3.1, RFC 7516 3.1) by its
// first bytes: base64url of `{"` and at least two dots.
func tokenShaped(v string) bool {
	return strings.HasPrefix(v, "eyJ") && strings.Count(v, ".") >= 2 && !strings.ContainsAny(v, " \t\n")
}

// Header masks one header value by its name. placed names a further header
// that carries the token in this project (token_placement), or is empty.
func Header(name, value, placed string) string {
	n := strings.ToLower(name)
	switch {
	case n == "authorization" || n == "proxy-authorization":
		return authorization(value)
	case placed != "" && n == strings.ToLower(placed):
		return authorization(value)
	case headers[n]:
		return Text(value)
	case n == "location" || n == "content-location" || n == "referer":
		return URL(value)
	}
	return Value("", value)
}

// authorization keeps the scheme word, and of Basic the user part (the client
// id, which is not secret), so that what was sent can be judged.
func authorization(value string) string {
	scheme, rest, found := strings.Cut(value, " ")
	if !found {
		return Text(value)
	}
	if strings.EqualFold(scheme, "basic") {
		if raw, err := base64.StdEncoding.DecodeString(rest); err == nil {
			if user, pass, ok := strings.Cut(string(raw), ":"); ok {
				return scheme + " [" + user + ":" + Text(pass) + "]"
			}
		}
	}
	return scheme + " " + Text(rest)
}

// Form masks an application/x-www-form-urlencoded text, keeping its order and
// spelling otherwise.
func Form(body string) string { return form(body, false) }

func form(body string, data bool) string {
	if body == "" {
		return body
	}
	pairs := strings.Split(body, "&")
	for i, p := range pairs {
		name, value, found := strings.Cut(p, "=")
		if !found {
			continue
		}
		plain, err := url.QueryUnescape(value)
		if err != nil {
			plain = value
		}
		key, err := url.QueryUnescape(name)
		if err != nil {
			key = name
		}
		if m := byName(key, plain, data); m != plain {
			pairs[i] = name + "=" + m
		}
	}
	return strings.Join(pairs, "&")
}

// URL masks credentials in the query, fragment and user part of a URL.
func URL(raw string) string {
	head, fragment, hasFragment := strings.Cut(raw, "#")
	head, query, hasQuery := strings.Cut(head, "?")
	if at := strings.Index(head, "@"); at > 0 {
		if sep := strings.Index(head, "://"); sep >= 0 && sep < at && !strings.Contains(head[sep+3:at], "/") {
			head = head[:sep+3] + Hidden + head[at:]
		}
	}
	if hasQuery {
		head += "?" + Form(query)
	}
	if hasFragment {
		head += "#" + Form(fragment)
	}
	return head
}

// JSON masks the credential members of a JSON text at any depth, keeping the
// order and spacing of everything else. Text that is not JSON comes back as it
// is, with false.
func JSON(body string) (string, bool) { return jsonText(body, false) }

func jsonText(body string, data bool) (string, bool) {
	raw := []byte(body)
	if !suspicious(body) {
		return body, json.Valid(raw)
	}
	if !json.Valid(raw) {
		return body, false
	}
	var out bytes.Buffer
	out.Grow(len(raw))
	m := jsonMasker{dec: json.NewDecoder(bytes.NewReader(raw)), raw: raw, out: &out, data: data}
	m.dec.UseNumber()
	if err := m.value(""); err != nil {
		return body, false
	}
	out.Write(raw[m.done:])
	return out.String(), true
}

// hints are parts of every name in carriers and passwords, and the beginning of
// a JWT. A text with none of them has nothing to mask by name, which spares most
// API answers a second parse.
var hints = []string{"token", "secret", "code", "assertion", "verifier", "key", "passw", "passphrase", "pin", "otp", "session_state", "request", "saml", "eyj", "\\u"}

func suspicious(body string) bool {
	lower := strings.ToLower(body)
	for _, h := range hints {
		if strings.Contains(lower, h) {
			return true
		}
	}
	return false
}

// jsonMasker copies JSON text through, replacing string values by member name.
type jsonMasker struct {
	dec  *json.Decoder
	raw  []byte
	done int // how much of raw is already in out
	out  *bytes.Buffer
	data bool
}

func (m *jsonMasker) value(name string) error {
	tok, err := m.dec.Token()
	if err != nil {
		return err
	}
	switch t := tok.(type) {
	case json.Delim:
		for m.dec.More() {
			member := name
			if t == '{' {
				key, err := m.dec.Token()
				if err != nil {
					return err
				}
				member, _ = key.(string)
			}
			if err := m.value(member); err != nil {
				return err
			}
		}
		_, err := m.dec.Token() // the closing bracket
		return err
	case string:
		if masked := byName(name, t, m.data); masked != t {
			m.replace(masked)
		}
	}
	return nil
}

// replace swaps the string literal that the decoder has just read.
func (m *jsonMasker) replace(masked string) {
	end := int(m.dec.InputOffset())
	start := end - 1 // at the closing quote
	for start--; start >= m.done; start-- {
		if m.raw[start] == '"' && !escaped(m.raw, start) {
			break
		}
	}
	m.out.Write(m.raw[m.done:start])
	quoted, _ := json.Marshal(masked)
	m.out.Write(quoted)
	m.done = end
}

// escaped reports whether the quote at i follows an odd number of backslashes.
func escaped(raw []byte, i int) bool {
	n := 0
	for i--; i >= 0 && raw[i] == '\\'; i-- {
		n++
	}
	return n%2 == 1
}

var tokenPattern = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`eyJ[A-Za-z0-9_-]{6,}\.[A-Za-z0-9_-]*\.[A-Za-z0-9_-]*(\.[A-Za-z0-9_-]*){0,2}`)
})

// Loose masks anything shaped like a JWT inside free text (a page, XML).
func Loose(text string) string {
	if !strings.Contains(text, "eyJ") {
		return text
	}
	return tokenPattern().ReplaceAllStringFunc(text, Text)
}

// Body masks a message body by its media type: JSON and form by member name,
// everything else by shape.
func Body(mediaType, body string) string { return masked(mediaType, body, false) }

func masked(mediaType, body string, data bool) string {
	switch {
	case body == "":
		return body
	case strings.Contains(mediaType, "x-www-form-urlencoded"):
		return form(body, data)
	}
	if first := strings.TrimLeft(body, " \t\r\n"); first != "" && (first[0] == '{' || first[0] == '[' || first[0] == '"') {
		if text, ok := jsonText(body, data); ok {
			return text
		}
	}
	if strings.HasPrefix(mediaType, "text/plain") && strings.Contains(body, "=") && !strings.ContainsAny(body, " <") {
		return form(body, data) // a token answer as form-encoded text
	}
	return Loose(body)
}

// ambiguous are names that carry credentials in OAuth messages, and anything at
// all in an API's own data.
var ambiguous = map[string]bool{"code": true, "request": true, "pin": true, "otp": true, "session_state": true, "saml_response": true, "assertion": true}

// Data is Body for what an API itself answers or is sent: there a member named
// code is data.
func Data(mediaType, body string) string { return masked(mediaType, body, true) }
