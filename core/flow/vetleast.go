package flow

import (
	"fmt"
	"slices"
	"strings"

	"tidycourier/core/journal"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// notForAPIs are scopes that ask for something else than a permission at an API.
var notForAPIs = []string{"openid", "profile", "email", "address", "phone", "offline_access"}

// leastRuns is how many of the newest runs Least looks at.
const leastRuns = 1000

// Least reads the journal's rounds: which scope was granted and no call that
// passed needed, and which calls passed without the scope they declare.
func (e *Engine) Least() ([]Checked, error) {
	j, err := e.Store.Journal()
	if err != nil {
		return nil, err
	}
	list, err := j.List(e.Project.Key(), journal.Filter{Command: "round", Outcome: "ok", Limit: leastRuns})
	if err != nil {
		return nil, err
	}
	passed := map[string]map[string]bool{} // client to the calls that passed
	for _, r := range list {
		if r.Stage != e.Project.Stage() {
			continue
		}
		opened, err := j.Get(e.Project.Key(), r.N)
		if err != nil {
			return nil, err
		}
		rec, err := opened.Record()
		if err != nil {
			return nil, err
		}
		if last := lastCall(rec); rec.Client != "" && last != nil && last.Status < 300 {
			if passed[rec.Client] == nil {
				passed[rec.Client] = map[string]bool{}
			}
			passed[rec.Client][rec.Call] = true
		}
	}
	return e.least(passed), nil
}

func lastCall(r *run.Record) *run.LegRecord {
	for i := range slices.Backward(r.Legs) {
		if r.Legs[i].Name == run.Call {
			return &r.Legs[i]
		}
	}
	return nil
}

func (e *Engine) least(passed map[string]map[string]bool) []Checked {
	out := []Checked{}
	for _, client := range e.Project.Names("clients") {
		calls := passed[client]
		set := e.Held(client)
		if len(calls) == 0 || set == nil {
			continue
		}
		granted, scope := set.Scope, set.Scope
		if t, err := token.Decode(set.AccessToken); err == nil && t.Claims != nil {
			scope = t.Scope()
			granted = append(slices.Clone(scope), t.Roles()...)
		}
		var needed, silent []string
		for _, name := range e.Project.Names("calls") {
			call, err := e.Project.Call(name)
			if !calls[name] || err != nil {
				continue
			}
			need := merged(call)
			if len(need.Scope.Values)+len(need.Roles.Values) == 0 {
				silent = append(silent, name)
			}
			needed = append(append(needed, need.Scope.Values...), need.Roles.Values...)
			if missing, _ := oauth.ScopeDifference(need.Scope.Values, granted); len(missing) > 0 {
				out = append(out, Checked{Name: "scope enforced", Client: client, Outcome: VetWarn, Where: need.Scope.Where,
					Detail: fmt.Sprintf("%s passed without %s, which it declares to need", name, strings.Join(missing, " "))})
			}
		}
		out = append(out, leastOf(client, scope, needed, silent))
	}
	return out
}

func leastOf(client string, granted, needed, silent []string) Checked {
	extra, _ := oauth.ScopeDifference(granted, needed)
	extra = slices.DeleteFunc(extra, func(s string) bool { return slices.Contains(notForAPIs, s) })
	c := Checked{Name: "least scope", Client: client, Outcome: VetPass, Detail: "every scope that was granted is needed: " + orNone(granted)}
	if len(extra) > 0 {
		c.Outcome, c.Detail = VetWarn, "granted, and no call that passed needs it: "+strings.Join(extra, " ")
	}
	if len(silent) > 0 {
		c.Detail += " (" + strings.Join(silent, ", ") + " declare no needs, and may)"
	}
	return c
}
