package finding

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"tidycourier/core/bearer"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// last returns the last leg of a kind, or nil.
func (e *Evidence) last(kind run.Kind) *run.Leg {
	for i := len(e.Legs) - 1; i >= 0; i-- {
		if e.Legs[i].Kind == kind {
			return &e.Legs[i]
		}
	}
	return nil
}

// refusal reads the token endpoint's answer when it was not a success: as an
// error in the form rules read, or nil with its leg when nothing was said.
func (e *Evidence) refusal() (*run.Leg, *oauth.Error) {
	if r := e.refused; r != nil {
		return r.leg, r.o
	}
	leg := e.last(run.Token)
	if leg == nil {
		leg = e.last(run.Device)
	}
	if leg == nil {
		leg = e.last(run.Pushed)
	}
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil {
		return nil, nil
	}
	r := leg.Exchange.Response
	if leg.Kind != run.Token {
		if r.Status < 400 {
			return nil, nil
		}
		return leg, reply(r, "")
	}
	if _, err := oauth.ParseTokenResponse(r.Status, r.Header.Get("Content-Type"), r.Body); err == nil {
		return nil, nil
	}
	return leg, reply(r, form(leg)["grant_type"])
}

// heldRefusal is a refusal by the introspection or revocation endpoint, where a
// client authenticates as at the token endpoint.
func (e *Evidence) heldRefusal() (*run.Leg, *oauth.Error) {
	leg := e.last(run.Revocation)
	if leg == nil {
		leg = e.last(run.Introspection)
	}
	if leg == nil || leg.Status() < 400 {
		return nil, nil
	}
	return leg, reply(leg.Exchange.Response, "")
}

// refusedWith is refusal for rules that fit certain codes only. A leg is
// returned too when the server gave no code at all and silent is true: many
// answer with an empty 400 or 401.
func (e *Evidence) refusedWith(silent bool, codes ...string) (*run.Leg, *oauth.Error) {
	leg, o := e.refusal()
	if leg == nil && slices.Contains(codes, oauth.ErrInvalidClient) {
		leg, o = e.heldRefusal()
	}
	switch {
	case leg == nil:
		return nil, nil
	case o == nil || o.Code == "":
		if s := leg.Status(); silent && (s == 400 || s == 401 || s == 403) {
			if o != nil {
				return leg, o
			}
			return leg, &oauth.Error{Status: s}
		}
		return nil, nil
	case slices.Contains(codes, o.Code):
		return leg, o
	}
	return nil, nil
}

// form reads the parameters that a leg sent in its body; of a doubled one the
// first counts. A body of another type than a form is read too, since what was
// meant is evidence.
func form(leg *run.Leg) map[string]string {
	out := map[string]string{}
	if leg == nil || leg.Exchange == nil {
		return out
	}
	if leg.Unseen {
		return unseenForm(leg)
	}
	body := leg.Exchange.Request.Body
	if head := bytes.TrimLeft(body, " \t\r\n"); len(head) > 0 && head[0] == '{' {
		var members map[string]any
		if json.Unmarshal(body, &members) == nil {
			for k, v := range members {
				if s, ok := v.(string); ok {
					out[k] = s
				}
			}
			return out
		}
	}
	for _, p := range strings.Split(string(body), "&") {
		name, value, _ := strings.Cut(p, "=")
		if name = unescape(name); name != "" {
			if _, met := out[name]; !met {
				out[name] = unescape(value)
			}
		}
	}
	return out
}

// notPasted stands for a value that was sent and is not known.
const notPasted = "not-pasted"

// MaskedWord begins a word that stands in a record for a value which was masked
// there; its fingerprint follows.
const MaskedWord = "masked-"

// unknown reports whether a value that was sent is not known.
func unknown(v string) bool { return v == notPasted || strings.HasPrefix(v, MaskedWord) }

// shown is a secret value as it may be quoted.
func shown(v string) string {
	if v == notPasted {
		return "not known here"
	}
	if fingerprint, masked := strings.CutPrefix(v, MaskedWord); masked {
		return "[masked " + fingerprint + "]"
	}
	return mask.Text(v)
}

// unseenForm is what a token request must have held, of which only the answer is
// known: the grant by the server's words, and whatever such a grant sends.
func unseenForm(leg *run.Leg) map[string]string {
	f := map[string]string{"grant_type": oauth.GrantCode}
	if raw := rawReply(leg.Exchange.Response); raw != nil {
		text := telling(raw.Description)
		switch {
		case said(text, "refresh"):
			f["grant_type"] = oauth.GrantRefresh
		case said(text, "user", "password", "login", "mfa", "multi factor", "account"):
			f["grant_type"] = oauth.GrantPassword
		}
	}
	for _, n := range map[string][]string{oauth.GrantCode: {"code", "redirect_uri", "code_verifier"}, oauth.GrantRefresh: {"refresh_token"}, oauth.GrantPassword: {"username", "password"}}[f["grant_type"]] {
		f[n] = notPasted
	}
	return f
}

// challenge is the API's Bearer challenge, if it gave one.
func challenge(leg *run.Leg) (bearer.Challenge, bool) {
	if leg == nil || leg.Exchange == nil || leg.Exchange.Response == nil {
		return bearer.Challenge{}, false
	}
	list, _ := bearer.ParseChallenges(leg.Exchange.Response.Header.Values("WWW-Authenticate"))
	for _, c := range list {
		if c.Bearer() {
			return c, true
		}
	}
	return bearer.Challenge{}, false
}

// sentToken is the token a call leg carried, however it was placed.
func sentToken(leg *run.Leg) string {
	if leg == nil || leg.Exchange == nil {
		return ""
	}
	name := leg.Placed
	if name == "" {
		name = "Authorization"
	}
	return leg.Exchange.Request.Header.Get(name)
}

func decoded(raw string) *token.Token {
	if raw == "" {
		return nil
	}
	t, err := token.Decode(raw)
	if err != nil || t.Form != token.JWT {
		return nil
	}
	return t
}

// where is a setting's place, or what to say when it has none.
func where(s string) string {
	if s == "" {
		return "not set"
	}
	return s
}
