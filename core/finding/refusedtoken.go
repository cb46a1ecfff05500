package finding

import (
	"strings"
	"time"

	"tidycourier/core/run"
	"tidycourier/core/token"
)

// What a refused call shows of the token it carried: the judges here go beside
// those of a token that somebody merely looks at.

func claimItem(t *token.Token, name, value string) run.Item {
	return run.Item{What: name, Where: "the token " + t.Fingerprint(), Value: value}
}

// early is a token that was sent before it is valid, by the clock of the request.
var early = aboutToken(func(e *Evidence, leg *run.Leg, t *token.Token) *Match {
	if t == nil {
		return nil
	}
	nbf, ok := t.Time("nbf")
	if !ok || !nbf.After(e.sentAt(leg).Add(clockTolerance)) {
		return nil
	}
	return certain(leg, claimItem(t, "nbf", nbf.Format(time.RFC3339)), run.Item{What: "sent", Where: legPlace(leg), Value: e.sentAt(leg).UTC().Format(time.RFC3339)}, e.apiItem(leg))
})

// skewed is a token that is in time by this machine's clock, and not by the
// server's, which its Date header tells.
var skewed = aboutToken(func(e *Evidence, leg *run.Leg, t *token.Token) *Match {
	there := serverDate(leg)
	if t == nil || there.IsZero() {
		return nil
	}
	here := e.sentAt(leg)
	off := there.Sub(here)
	if off.Abs() < clockTolerance {
		return nil
	}
	exp, hasEnd := t.Time("exp")
	ended := hasEnd && exp.After(here) && there.After(exp)
	begun := false
	for _, name := range []string{"nbf", "iat"} {
		if at, ok := t.Time(name); ok && at.After(there.Add(clockTolerance/2)) {
			begun = true
		}
	}
	if !ended && !begun {
		return nil
	}
	return certain(leg, run.Item{What: "this clock", Where: legPlace(leg), Value: here.UTC().Format(time.RFC3339)}, run.Item{What: "the server's", Where: "Date, " + legPlace(leg), Value: there.UTC().Format(time.RFC3339)}, e.apiItem(leg))
})

// apiSaid is what the API says of a token it refuses, when the words name the cause.
func apiSaid(claim string, words ...string) func(*Evidence) *Match {
	return aboutToken(func(e *Evidence, leg *run.Leg, t *token.Token) *Match {
		m := e.saidToBe(leg, words...)
		if m == nil || tokenExpired(e) != nil && tokenExpired(e).Certainty == run.Certain {
			return nil
		}
		if t != nil && claim != "" {
			value := t.Text(claim)
			if claim == "kid" {
				value = orAbsent(t.KeyID())
			}
			m.Items = append([]run.Item{claimItem(t, claim, value)}, m.Items...)
		}
		return m
	})
}

// foreignIssuer is a refused token whose issuer is not the one of the client's
// server in the settings.
var foreignIssuer = aboutToken(func(e *Evidence, leg *run.Leg, t *token.Token) *Match {
	if t == nil || e.Client == nil || e.Client.Server == nil || leg.Status() == 403 && e.invalidToken() == nil {
		return nil
	}
	want, got := e.Client.Server.Issuer, t.Text("iss")
	if want.Value == "" || got == "" || strings.TrimRight(want.Value, "/") == strings.TrimRight(got, "/") {
		return nil
	}
	return certain(leg, append(pair("issuer in the settings", want.Where, want.Value, "iss in the token", "the token "+t.Fingerprint(), got), e.apiItem(leg))...)
})

// unsignedSent is a token without signature that was sent and refused.
var unsignedSent = aboutToken(func(e *Evidence, leg *run.Leg, t *token.Token) *Match {
	if t == nil || !strings.EqualFold(t.Alg(), "none") || !e.Foreign {
		return nil
	}
	return certain(leg, claimItem(t, "alg", t.Alg()), e.apiItem(leg))
})

// roleLacking is a role that the API names, or that the call needs, and the
// token has not.
var roleLacking = aboutToken(func(e *Evidence, leg *run.Leg, t *token.Token) *Match {
	if leg.Status() != 403 || e.invalidToken() != nil {
		return nil
	}
	if o := callReply(leg); o == nil || !said(o.Description, "role", "application permission", "app permission") || said(o.Description, "scope") {
		return nil
	}
	m := &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{e.apiItem(leg)}}
	if t != nil {
		m.Items = append([]run.Item{claimItem(t, "roles", orNone(strings.Join(t.Roles(), " ")))}, m.Items...)
	}
	return m
})

// unsigned lets a rule about a token without signature see one in a refused call.
func unsigned(r Rule) Rule {
	r.Judge = either(unsignedSent, r.Judge)
	return r
}
