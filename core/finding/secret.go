package finding

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"tidycourier/core/project"
	"tidycourier/core/run"
)

// What the client secret itself gives away, for the rules of client.go.

func edgeWhitespace(e *Evidence) *Match {
	leg, o := e.aboutTheClient()
	edge := project.EdgeWhitespace(e.Secret)
	if leg == nil || edge == "" {
		return nil
	}
	it := e.secretItem()
	it.Value = fmt.Sprintf("%s, %d characters, %s", it.Value, len([]rune(e.Secret)), edge)
	m := &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{it, e.answerItem(leg, o)}}
	if e.Client != nil && e.Client.Secret != nil && e.Client.Secret.Env != "" {
		m.Remedy = []string{fmt.Sprintf("set %s without it: export %s='…', or a line %s=… in .env", e.Client.Secret.Env, e.Client.Secret.Env, e.Client.Secret.Env)}
	}
	return m
}

func quoted(e *Evidence) *Match {
	leg, o := e.aboutTheClient()
	if n := len(e.Secret); leg == nil || n < 3 || e.Secret[0] != e.Secret[n-1] || !strings.ContainsRune("\"'`", rune(e.Secret[0])) {
		return nil
	}
	it := e.secretItem()
	it.Value += fmt.Sprintf(", begins and ends with %c", e.Secret[0])
	return &Match{Leg: leg.N, Certainty: run.Certain, Items: []run.Item{it, e.answerItem(leg, o)}}
}

var uuidPattern = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[0-9a-fA-F]{8}-([0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}$`)
})

// LikeUUID reports whether a text has the form of a UUID (RFC 9562 4).
func LikeUUID(s string) bool { return uuidPattern().MatchString(s) }

func secretIsID(e *Evidence) *Match {
	leg, o := e.aboutTheClient()
	if leg == nil {
		return nil
	}
	id := sentClientID(leg, form(leg))
	if id == "" && e.Client != nil {
		id = e.Client.ClientID.Value
	}
	it := e.secretItem()
	switch {
	case e.Secret == id:
		it.Value += ", is the client id itself"
	case LikeUUID(e.Secret):
		it.Value += ", has the form of a UUID"
	default:
		return nil
	}
	return &Match{Leg: leg.N, Certainty: run.Likely, Items: []run.Item{it, e.answerItem(leg, o)}}
}

func secretExpired(e *Evidence) *Match {
	leg, o := e.aboutTheClient()
	if leg == nil {
		return nil
	}
	items := []run.Item{e.answerItem(leg, o)}
	if e.Client != nil && e.Client.SecretExpires.Value != "" {
		if day, err := time.Parse(time.DateOnly, e.Client.SecretExpires.Value); err == nil && e.Now.After(day) {
			items = append([]run.Item{{What: "secret_expires", Where: e.Client.SecretExpires.Where, Value: e.Client.SecretExpires.Value},
				{What: "today", Where: "the clock", Value: e.Now.UTC().Format(time.DateOnly)}}, items...)
			return &Match{Leg: leg.N, Certainty: run.Certain, Items: items}
		}
	}
	if said(o.Description, "expired", "no longer valid", "has lapsed") && !said(o.Description, "code", "token") {
		return &Match{Leg: leg.N, Certainty: run.Likely, Items: append([]run.Item{e.secretItem()}, items...)}
	}
	return nil
}
