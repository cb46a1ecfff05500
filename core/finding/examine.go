package finding

import (
	"slices"
	"strings"
	"time"

	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// personInstead is a person's token where roles of an application are needed.
func personInstead(_ *Evidence, x *Examined) *Match {
	if len(x.Needs) == 0 {
		return nil
	}
	r := x.reading()
	if r.Person == nil || !*r.Person || len(x.Token.Roles()) > 0 || len(x.Token.Scope()) == 0 {
		return nil
	}
	for _, n := range x.Needs {
		if len(n.Roles.Values) > 0 {
			return &Match{Certainty: run.Likely, Items: []run.Item{{What: n.Of + " needs roles", Where: n.Roles.Where, Value: strings.Join(n.Roles.Values, " ")}, {What: "the token is about", Where: r.About.Why, Value: r.About.Text}}}
		}
	}
	return nil
}

// applicationInstead is an application's token where a person's scope is needed.
func applicationInstead(_ *Evidence, x *Examined) *Match {
	if len(x.Needs) == 0 {
		return nil
	}
	r := x.reading()
	if r.Person == nil || *r.Person || len(x.Token.Scope()) > 0 || len(x.Token.Roles()) == 0 {
		return nil
	}
	for _, n := range x.Needs {
		if len(n.Scope.Values) > 0 && len(n.Roles.Values) == 0 {
			return &Match{Certainty: run.Likely, Items: []run.Item{{What: n.Of + " needs scope", Where: n.Scope.Where, Value: strings.Join(n.Scope.Values, " ")}, {What: "the token is about", Where: r.About.Why, Value: r.About.Text}}}
		}
	}
	return nil
}

// onToken makes a rule's function that looks only at an examined token.
func onToken(judge func(e *Evidence, x *Examined) *Match) func(*Evidence) *Match {
	return func(e *Evidence) *Match {
		if e.Examined == nil || e.Examined.Token == nil {
			return nil
		}
		return judge(e, e.Examined)
	}
}

func (x *Examined) clockItems(e *Evidence, claim string, at time.Time) []run.Item {
	return []run.Item{{What: claim, Where: "the token " + x.Token.Fingerprint(), Value: at.Format(time.RFC3339)}, {What: "now", Where: "this machine's clock", Value: e.Now.UTC().Truncate(time.Second).Format(time.RFC3339)}}
}

func examinedExpired(e *Evidence, x *Examined) *Match {
	exp, ok := x.Token.Time("exp")
	if !ok || e.Now.Before(exp) {
		return nil
	}
	return &Match{Certainty: run.Certain, Items: x.clockItems(e, "exp", exp)}
}

func examinedAudience(e *Evidence, x *Examined) *Match {
	if examinedIDToken(nil, x) != nil || examinedStage(nil, x) != nil {
		return nil // that is the cause, and another audience its effect
	}
	if len(x.Token.Audience()) == 0 {
		return verificationFailed(token.CauseAudience)(e, x)
	}
	for _, n := range x.Needs {
		if n.Audience.Value != "" && !slices.Contains(x.Token.Audience(), n.Audience.Value) {
			return &Match{Certainty: run.Certain, Items: []run.Item{{What: n.Of + " needs", Where: n.Audience.Where, Value: n.Audience.Value, Compare: true},
				{What: "aud in the token", Where: "the token " + x.Token.Fingerprint(), Value: strings.Join(x.Token.Audience(), " "), Compare: true}}}
		}
	}
	return verificationFailed(token.CauseAudience)(e, x)
}

func examinedIssuer(e *Evidence, x *Examined) *Match {
	if x.Issuer.Value == "" {
		return nil
	}
	got := x.Token.Text("iss")
	if got == "" || x.Issuer.Value == "" || got == x.Issuer.Value || examinedStage(e, x) != nil {
		return nil
	}
	return &Match{Certainty: run.Certain, Items: []run.Item{{What: "issuer expected", Where: where(x.Issuer.Where), Value: x.Issuer.Value, Compare: true},
		{What: "iss in the token", Where: "the token " + x.Token.Fingerprint(), Value: got, Compare: true}}}
}

func examinedStage(_ *Evidence, x *Examined) *Match {
	if x.Issuer.Value == "" {
		return nil
	}
	got := x.Token.Text("iss")
	place, other := x.Stages[got]
	if got == "" || !other || x.Issuer.Value == "" || got == x.Issuer.Value || strings.HasPrefix(x.Issuer.Where, "--") {
		return nil // an issuer named by a flag belongs to no stage
	}
	return &Match{Certainty: run.Certain, Items: []run.Item{{What: "issuer of this stage", Where: where(x.Issuer.Where), Value: x.Issuer.Value, Compare: true},
		{What: "iss in the token", Where: place, Value: got, Compare: true}}}
}

// examinedIDToken needs somewhere the token is to be used: an id token by
// itself is fine.
func examinedIDToken(_ *Evidence, x *Examined) *Match {
	if len(x.Needs) == 0 {
		return nil
	}
	r := x.reading()
	if r.Kind != token.IDToken {
		return nil
	}
	return &Match{Certainty: run.Certain, Items: []run.Item{{What: "aud", Where: "the token " + x.Token.Fingerprint(), Value: strings.Join(x.Token.Audience(), " ")},
		{What: "it is an id token", Value: r.KindWhy}, {What: "meant for", Where: x.Needs[0].Audience.Where, Value: x.Needs[0].Of}}}
}

// sentIDToken is an id token that a call carried and the API refused.
func sentIDToken(e *Evidence) *Match {
	leg := e.refusedCall(400, 401, 403)
	t := decoded(e.Access)
	if leg == nil || t == nil {
		return nil
	}
	r := t.Read()
	if r.Kind != token.IDToken {
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{{What: "it is an id token", Where: "the token " + t.Fingerprint(), Value: r.KindWhy},
		{What: "aud", Value: strings.Join(t.Audience(), " ")}, e.apiItem(leg)}}
}

func lacking(x *Examined, needed func(Need) project.List, carried func(*token.Token) []string, what string) *Match {
	if len(x.Needs) == 0 || x.Token.Claims == nil || examinedIDToken(nil, x) != nil {
		return nil
	}
	held := carried(x.Token)
	for _, n := range x.Needs {
		list := needed(n)
		missing, _ := oauth.ScopeDifference(list.Values, held)
		if len(missing) == 0 {
			continue
		}
		value := strings.Join(held, " ")
		if value == "" {
			value = "none"
		}
		return &Match{Certainty: run.Certain, Items: []run.Item{{What: n.Of + " needs", Where: list.Where, Value: strings.Join(list.Values, " ")},
			{What: what + " in the token", Where: "the token " + x.Token.Fingerprint(), Value: value}, {What: "lacking", Value: strings.Join(missing, " ")}}}
	}
	return nil
}

// verificationFailed is a part of the verification that failed for a cause.
func verificationFailed(cause string) func(*Evidence, *Examined) *Match {
	return func(_ *Evidence, x *Examined) *Match {
		if x.Verification == nil || !x.Verification.Failed() {
			return nil
		}
		for _, c := range x.Verification.Checks() {
			if c.Outcome != token.Fail || c.Cause != cause {
				continue
			}
			items := []run.Item{{What: c.Name, Where: "the token " + x.Token.Fingerprint(), Value: c.Reason}}
			if c.Name == "signature" {
				items = append(items, run.Item{What: "alg", Value: x.Token.Alg()}, run.Item{What: "kid", Value: orAbsent(x.Token.KeyID())}, run.Item{What: "keys", Value: x.Verification.Keys})
			}
			return &Match{Certainty: run.Certain, Items: items}
		}
		return nil
	}
}

func orAbsent(s string) string {
	if s == "" {
		return "absent"
	}
	return s
}

func verifiedRule(sent func(*Evidence) *Match, cause, title, meaning, proof string, remedy, references []string) Rule {
	return Rule{Try: Test{"tidy-courier decode --client CLIENT --verify", "judges the token with the issuer's keys"}, ID: cause, Title: title, Meaning: meaning, Proof: proof, Remedy: remedy, References: references, Judge: either(onToken(verificationFailed(cause)), sent)}
}

// oddityRule is a rule about what the token room found odd.
func oddityRule(odd, id, title string, note bool, meaning string, remedy []string, references ...string) Rule {
	return Rule{ID: id, Title: title, Meaning: meaning, Proof: "The token as it stands.", Remedy: remedy, References: references,
		Judge: onToken(func(_ *Evidence, x *Examined) *Match {
			found := x.oddity(odd)
			if len(found) == 0 {
				return nil
			}
			m := &Match{Certainty: run.Certain, Note: note}
			for _, o := range found[:min(len(found), 6)] {
				value := o.Detail
				if o.Value != "" {
					value = o.Value + ": " + value
				}
				m.Items = append(m.Items, run.Item{What: o.Claim, Where: "the token " + x.Token.Fingerprint(), Value: value})
			}
			return m
		})}
}
