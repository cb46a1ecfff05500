package exhibit

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/run"
	"tidycourier/core/token"
)

// Case is a run laid out for somebody else to read: everything masked, the
// tokens decoded, the clocks compared.
type Case struct {
	Record *run.Record
	Lanes  []Lane
	Steps  []Step
	Tokens []Decoded
	Clocks []Clock
	Words  string // of whoever reports it
	About  []Fact // the program and its surroundings
}

// Fact is a name and a value.
type Fact struct{ Name, Value string }

// Lane is a party of the run: this program, the browser, or a server.
type Lane struct{ Name, Origin string }

// Step is one leg between two lanes.
type Step struct {
	Leg      *run.LegRecord
	From, To int // indexes of Lanes
}

// Decoded is a token that occurs in the run, without its signature.
type Decoded struct {
	Name        string // access token, refresh token, id token
	Leg         int    // where it was seen first
	Fingerprint string
	Length      int
	Form        token.Form
	Header      []Fact
	Claims      []Named
}

// Named is a claim with its meaning.
type Named struct{ Name, Value, Meaning string }

// Clock is how far a server's clock was ahead of this machine's, by its Date
// header.
type Clock struct {
	Leg   int
	Host  string
	Ahead time.Duration
}

// NewCase lays a run out. What rec shows is masked already; r is the run as it
// was, out of which the tokens are decoded, or nil when it is not known.
func NewCase(rec *run.Record, r *run.Run, set *mask.Set) *Case {
	c := &Case{Record: rec}
	c.lanes()
	if r == nil {
		return c
	}
	seen := map[string]bool{}
	for i := range r.Legs {
		l := &r.Legs[i]
		for _, t := range tokensOf(l) {
			if t.raw != "" && !seen[t.raw] {
				seen[t.raw] = true
				c.Tokens = append(c.Tokens, decodedOf(t.name, t.raw, l.N, set))
			}
		}
		c.clock(l)
	}
	return c
}

// Names of the lanes that are no server.
const (
	LaneHere    = "tidy-courier"
	LaneBrowser = "browser"
)

func (c *Case) lanes() {
	c.Lanes = []Lane{{Name: LaneHere}}
	if slices.ContainsFunc(c.Record.Legs, func(l run.LegRecord) bool { return l.Request == nil }) {
		c.Lanes = append(c.Lanes, Lane{Name: LaneBrowser})
	}
	for i := range c.Record.Legs {
		l := &c.Record.Legs[i]
		s := Step{Leg: l}
		switch {
		case l.Inbound:
			s.From, s.To = 1, 0
		case l.Request == nil:
			s.From, s.To = 1, c.lane(l.URL)
		default:
			s.From, s.To = 0, c.lane(l.URL)
		}
		c.Steps = append(c.Steps, s)
	}
}

func (c *Case) lane(raw string) int {
	at := origin(raw)
	if i := slices.IndexFunc(c.Lanes, func(l Lane) bool { return l.Origin == at && l.Origin != "" }); i >= 0 {
		return i
	}
	c.Lanes = append(c.Lanes, Lane{Name: hostOf(raw), Origin: at})
	return len(c.Lanes) - 1
}

// hostOf is a URL's host and port; the text itself when it is no URL.
func hostOf(raw string) string {
	if u, err := url.Parse(raw); err == nil {
		return u.Host
	}
	return raw
}

type named struct{ name, raw string }

// tokensOf are the tokens that a leg carried or brought.
func tokensOf(l *run.Leg) []named {
	x := l.Exchange
	if x == nil {
		return nil
	}
	var out []named
	if l.Kind == run.Token && x.Response != nil {
		if t, err := oauth.ParseTokenResponse(x.Response.Status, x.Response.Header.Get("Content-Type"), x.Response.Body); err == nil {
			out = append(out, named{"access token", t.AccessToken}, named{"refresh token", t.RefreshToken}, named{"id token", t.IDToken})
		}
	}
	if l.Kind == run.Call || l.Kind == run.Userinfo {
		header := l.Placed
		if header == "" {
			header = "Authorization"
		}
		if v := bare(x.Request.Header.Get(header)); v != "" {
			out = append(out, named{"token sent", v})
		}
	}
	return out
}

func decodedOf(name, raw string, leg int, set *mask.Set) Decoded {
	d := Decoded{Name: name, Leg: leg, Fingerprint: mask.Fingerprint(raw), Length: len(raw), Form: token.Opaque}
	t, err := token.Decode(raw)
	if err != nil {
		return d
	}
	d.Form = t.Form
	for _, n := range slices.Sorted(maps.Keys(t.Header)) {
		d.Header = append(d.Header, Fact{n, claimText(n, t.Header[n], set)})
	}
	for _, n := range slices.Sorted(maps.Keys(t.Claims)) {
		d.Claims = append(d.Claims, Named{n, claimText(n, t.Claims[n], set), token.Registry[n].Meaning})
	}
	return d
}

// claimText is a claim's value as text, times also as a date.
func claimText(name string, v any, set *mask.Set) string {
	text, ok := v.(string)
	if !ok {
		raw, err := json.Marshal(v)
		if err != nil {
			return ""
		}
		text = string(raw)
	}
	if n, isNumber := v.(json.Number); isNumber && token.Registry[name].Kind == token.KindTime {
		if seconds, err := n.Float64(); err == nil && seconds > 0 && seconds < 1e11 {
			text += "   " + time.Unix(int64(seconds), 0).UTC().Format("2006-01-02 15:04:05 UTC")
		}
	}
	return set.Replace(mask.Loose(mask.Value(name, text)))
}

// clock compares the clocks of an answer, where the answer is dated.
func (c *Case) clock(l *run.Leg) {
	x := l.Exchange
	if x == nil || x.Response == nil || x.Started.IsZero() {
		return
	}
	at, host := x.Response.Date(), hostOf(l.URL)
	if at.IsZero() {
		return
	}
	if slices.ContainsFunc(c.Clocks, func(k Clock) bool { return k.Host == host }) {
		return
	}
	here := x.Started.Add(x.Timing.Total).Truncate(time.Second) // a Date has whole seconds
	c.Clocks = append(c.Clocks, Clock{Leg: l.N, Host: host, Ahead: at.Sub(here)})
}

// String says which clock is ahead, and by how much.
func (k Clock) String() string {
	switch {
	case k.Ahead.Abs() <= time.Second:
		return "the same"
	case k.Ahead > 0:
		return fmt.Sprintf("%s ahead of this machine", k.Ahead)
	}
	return strings.TrimPrefix(fmt.Sprintf("%s behind this machine", k.Ahead), "-")
}
