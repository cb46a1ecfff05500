package finding

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// refreshRules are causes at the refresh of a token, and in what an answer says
// about refreshing.
var refreshRules = []Rule{
	{
		ID: "refresh-token-reused", Title: "The refresh token was spent before",
		Try:        Test{"tidy-courier journal list --client CLIENT --command refresh", "shows whether it was spent before"},
		Meaning:    "Where refresh tokens rotate, each works once. A second use is refused, and a careful server then revokes everything that came from the same sign-in.",
		Proof:      "The journal has an earlier run that sent the same refresh token, or the server's words say so.",
		Remedy:     []string{"sign in again: tidy-courier obtain CLIENT", "when two programs share one refresh token, give each its own"},
		References: []string{"RFC 9700 4.14.2", "RFC 6749 10.4"},
		Judge: refresh(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			return e.spentOrSaid(leg, o, "refresh_token", f["refresh_token"], "replay", "more than once", "maximum allowed", "used before", "already used", "already been used", "reuse", "rotated", "already been redeemed")
		}),
	},
	{
		ID: "refresh-scope-widened", Title: "The refresh asks for more scope than was granted",
		Meaning: "A refresh may ask for the same scope or less, never for more.", Proof: "The scope in the request against the one that was granted.",
		Remedy:     []string{"sign in again with the wider scope: tidy-courier obtain CLIENT", "remove scope from parameters: { refresh: … }"},
		References: []string{"RFC 6749 6"},
		Judge: func(e *Evidence) *Match {
			leg, o := e.refusedWith(true, oauth.ErrInvalidScope, oauth.ErrInvalidGrant, oauth.ErrInvalidRequest)
			if leg == nil {
				return nil
			}
			f := form(leg)
			if f["grant_type"] != oauth.GrantRefresh || f["scope"] == "" {
				return nil
			}
			items := []run.Item{{What: "scope asked", Where: legPlace(leg), Value: f["scope"]}, e.answerItem(leg, o)}
			if e.Granted != nil {
				if wider, _ := oauth.ScopeDifference(strings.Fields(f["scope"]), e.Granted); len(wider) > 0 {
					return certain(leg, append(items, run.Item{What: "scope granted", Where: "the answer before", Value: strings.Join(e.Granted, " ")})...)
				}
			}
			if e.RefreshOf != nil {
				if wider, _ := oauth.ScopeDifference(strings.Fields(f["scope"]), e.RefreshOf.Scope); len(wider) > 0 {
					return certain(leg, append(items, run.Item{What: "scope granted", Where: "the pouch", Value: strings.Join(e.RefreshOf.Scope, " ")})...)
				}
			}
			if o.Code == oauth.ErrInvalidScope {
				return &Match{Leg: leg.N, Certainty: run.Likely, Items: items}
			}
			return nil
		},
	},
	{
		ID: "refresh-token-of-other-client", Title: "The refresh token belongs to another client",
		Try:     Test{"tidy-courier introspect CLIENT --which refresh", "the server says whose it is"},
		Meaning: "A refresh token is bound to the client it was given to.", Proof: "The server's words.",
		Remedy:     []string{"use the client it was given to, or sign in with this one: tidy-courier obtain CLIENT"},
		References: []string{"RFC 6749 6", "RFC 6749 10.4"},
		Judge: refresh(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if sent := sentClientID(leg, f); e.GivenTo != "" && sent != "" && e.GivenTo != sent {
				return certain(leg, append(pair("given to", "the answer before", e.GivenTo, "spent by", legPlace(leg), sent), e.answerItem(leg, o))...)
			}
			if !said(o.Description, otherClientWords...) {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.clientIDItem(leg), e.answerItem(leg, o)}}
		}),
	},
	{
		ID: "refresh-token-expired-or-revoked", Title: "The refresh token is not valid any more",
		Try:        Test{"tidy-courier introspect CLIENT --which refresh", "the server says whether it is active"},
		Meaning:    "It has expired, was revoked (by the person, by a password change, by a new sign-in where only one is allowed), or belongs to another server or stage.",
		Proof:      "invalid_grant for a refresh token that this project did not send before.",
		Remedy:     []string{"sign in again: tidy-courier obtain CLIENT", "a token handed out at registration: ask the provider for a new one, then tidy-courier pouch drop CLIENT"},
		References: []string{"RFC 6749 5.2", "RFC 6749 1.5"},
		Judge: refresh(func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match {
			if f["refresh_token"] == "" || o.Code == oauth.ErrInvalidRequest && !said(o.Description, "refresh", "token", "session", "expired") {
				return nil
			}
			m := &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{{What: "refresh token", Where: legPlace(leg), Value: shown(f["refresh_token"])}, e.answerItem(leg, o)}}
			if t := decoded(f["refresh_token"]); t != nil {
				if exp, ok := t.Time("exp"); ok && e.sentAt(leg).After(exp) {
					m.Certainty = run.Certain
					m.Items = append(m.Items, run.Item{What: "exp of the refresh token", Where: "the token " + t.Fingerprint(), Value: exp.Format(time.RFC3339)})
				}
			}
			return m
		}),
	},
	{
		ID: "no-refresh-token-given", Title: "The server gave no refresh token",
		Meaning:    "When this access token ends, the person has to sign in again. Many servers give a refresh token only for the scope offline_access, or only to clients registered for it.",
		Proof:      "The answer has none.",
		Remedy:     []string{"ask for the scope offline_access, and obtain again"},
		References: []string{"RFC 6749 5.1", "OpenID Connect Core 11"},
		Judge:      noRefreshToken,
	},
	{
		ID: "refresh-token-not-rotated", Title: "The server did not rotate the refresh token of a public client",
		Meaning:    "A public client cannot prove who it is, so its refresh tokens must be bound to it or change with each use; otherwise a stolen one works until its end.",
		Proof:      "The answer of a refresh has no new refresh token, and the client has no secret.",
		Remedy:     []string{"tell the provider; nothing has to be changed here"},
		References: []string{"RFC 9700 4.14.2"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Token)
			if leg == nil || e.Answer == nil || e.Client == nil || e.Client.Secret != nil {
				return nil
			}
			f := form(leg)
			if f["grant_type"] != oauth.GrantRefresh || e.Answer.RefreshToken != "" && e.Answer.RefreshToken != f["refresh_token"] {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Items: []run.Item{{What: "refresh token", Where: legPlace(leg), Value: "the same as before"}}}
		},
	},
}

func refresh(judge func(e *Evidence, f map[string]string, leg *run.Leg, o *oauth.Error) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg, o := e.refusedWith(true, oauth.ErrInvalidGrant, oauth.ErrInvalidRequest)
		if leg == nil {
			return nil
		}
		f := form(leg)
		if f["grant_type"] != oauth.GrantRefresh {
			return nil
		}
		return judge(e, f, leg, o)
	}
}

// noRefreshToken is a note after a grant with a person; applications simply ask
// again.
func noRefreshToken(e *Evidence) *Match {
	leg := e.last(run.Token)
	if leg == nil || e.Answer == nil || e.Answer.RefreshToken != "" {
		return nil
	}
	if g := form(leg)["grant_type"]; g != oauth.GrantCode && g != oauth.GrantPassword {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Items: []run.Item{{What: "scope asked", Where: legPlace(leg), Value: orNone(strings.Join(e.AskedScope, " "))}}}
	if e.Client != nil && e.Client.Scope.Where != "" {
		m.Items[0].Where = e.Client.Scope.Where
	}
	switch {
	case slices.Contains(e.AskedScope, "offline_access"):
		m.Odd = true
		m.Remedy = []string{"offline_access was asked for: have the refresh_token grant added to the client's registration"}
	case e.Metadata != nil && len(e.Metadata.ScopesSupported) > 0 && !slices.Contains(e.Metadata.ScopesSupported, "offline_access"):
		m.Remedy = []string{"this server does not list offline_access; ask the provider how its clients get refresh tokens"}
	}
	return m
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// passwordRules are causes of the password grant.
var passwordRules = []Rule{
	{
		ID: "user-needs-interaction", Title: "The server wants to ask the person something, which this grant can never do",
		Try:        Test{"tidy-courier obtain CLIENT --grant authorization_code", "the server's own page shows what it wants of the person"},
		Meaning:    "A second factor, a consent or a changed password needs a page. The password grant has none, so it will never work for this account.",
		Proof:      "The server's words or code speak of interaction, consent or a second factor.",
		Remedy:     []string{"use grant: authorization_code, where the person answers in the browser", "ask the provider for an account without a second factor, when one exists for machines"},
		References: []string{"RFC 9700 2.4"},
		Judge: password(func(e *Evidence, leg *run.Leg, o *oauth.Error) *Match {
			if !said(o.Code+" "+o.Description, "interaction", "consent", "mfa", "multi-factor", "multifactor", "second factor", "two-factor", "2fa", "otp", "required action", "set up", "verify your email", "email not verified", "must change", "must agree", "not agreed", "approve", "verification required", "password change", "change your password") {
				return nil
			}
			return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.answerItem(leg, o)}}
		}),
	},
	{
		ID: "wrong-user-password", Title: "The account or its password is wrong",
		Try:     Test{"tidy-courier obtain CLIENT --grant authorization_code", "the server's own page tells whether the password still works"},
		Meaning: "The client was recognised; the account and password do not go together. A locked account often looks the same.", Proof: "invalid_grant for a password grant.",
		Remedy:     []string{"sign in by hand with the same account to see whether the password still works", "check the password's source for white space or quotes at its edges"},
		References: []string{"RFC 6749 4.3.2", "RFC 6749 5.2"},
		Judge: password(func(e *Evidence, leg *run.Leg, o *oauth.Error) *Match {
			f := form(leg)
			if o.Code != oauth.ErrInvalidGrant && o.Code != oauth.ErrAccessDenied && (o.Code != "" || f["username"] == "") && !(o.Code == oauth.ErrInvalidRequest && said(o.Description, "username", "user credentials", "password")) || f["username"] == "" && !e.AnswerOnly {
				return nil
			}
			if basic, post := credentials(leg); o.Code == "" && leg.Status() == 401 && (basic || post) && !said(o.Description, "user", "password", "login") {
				return &Match{Leg: leg.N, Certainty: run.Possible, Items: []run.Item{{What: "username", Where: legPlace(leg), Value: f["username"]}, e.answerItem(leg, o)}}
			}
			items := []run.Item{{What: "username", Where: legPlace(leg), Value: form(leg)["username"]}}
			if e.Client != nil && e.Client.Username.Where != "" {
				items[0].Where = e.Client.Username.Where
			}
			c := run.Likely
			if trimmed := strings.TrimSpace(e.Password); trimmed != e.Password && e.Client != nil && e.Client.Password != nil {
				items = append(items, run.Item{What: "password", Where: e.Client.Password.Where, Value: "has white space at its edge"})
				c = run.Certain
			}
			return &Match{Leg: leg.N, Certainty: c, Items: append(items, e.answerItem(leg, o))}
		}),
	},
	{
		ID: "password-grant-discouraged", Title: "The password grant is discouraged",
		Meaning: "It hands the person's password to the client, trains people to type it anywhere, and knows no second factor. RFC 9700 says it must not be used.", Proof: "grant: password.",
		Remedy:     []string{"use grant: authorization_code where a person is there, client_credentials where none is"},
		References: []string{"RFC 9700 2.4"},
		Judge: func(e *Evidence) *Match {
			leg := e.last(run.Token)
			if leg == nil || e.Answer == nil || !e.First || form(leg)["grant_type"] != oauth.GrantPassword {
				return nil
			}
			it := run.Item{What: "grant", Where: legPlace(leg), Value: oauth.GrantPassword}
			if e.Client != nil && e.Client.Grant.Where != "" {
				it.Where = e.Client.Grant.Where
			}
			return &Match{Leg: leg.N, Certainty: run.Certain, Note: true, Items: []run.Item{it}}
		},
	},
}

func password(judge func(e *Evidence, leg *run.Leg, o *oauth.Error) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		leg, o := e.refusal()
		if leg != nil && o == nil && (leg.Status() == 400 || leg.Status() == 401 || leg.Status() == 403) {
			o = &oauth.Error{Status: leg.Status()}
		}
		if o == nil || form(leg)["grant_type"] != oauth.GrantPassword {
			return nil
		}
		return judge(e, leg, o)
	}
}
