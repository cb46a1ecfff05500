package show

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"tidycourier/core/journal"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
)

// Metadata draws a server's metadata.
func (p *Pen) Metadata(m *oauth.Metadata, source string) {
	p.line(p.strong(Safe(m.Issuer)), "   ", p.faint(Safe(source)))
	var rows [][]string
	for _, name := range oauth.EndpointNames {
		if v := m.Endpoint(name); v != "" {
			rows = append(rows, []string{p.accent(name), Safe(v)})
		}
	}
	p.table("   ", rows)
	row := func(name string, list []string, absent string) {
		text := Safe(strings.Join(list, ", "))
		if len(list) == 0 {
			text = p.faint(absent)
		}
		rows = append(rows, []string{p.accent(name), text})
	}
	rows = nil
	row("grants", m.GrantTypesSupported, "not said: authorization_code and implicit (RFC 8414 2)")
	row("client authentication", m.TokenEndpointAuthMethods, "not said: client_secret_basic (RFC 8414 2)")
	row("PKCE", m.CodeChallengeMethodsSupported, "not offered")
	row("scope", m.ScopesSupported, "not said")
	row("response modes", m.ResponseModesSupported, "not said: query and fragment (OpenID Connect Discovery 3)")
	p.line()
	p.table("   ", rows)
}

// PouchEntry is a line of pouch list.
type PouchEntry struct {
	Client      string     `json:"client"`
	Stage       string     `json:"stage"`
	Grant       string     `json:"grant"`
	ExpiresAt   *time.Time `json:"expires_at"`
	State       string     `json:"state"`
	Refreshable bool       `json:"refreshable"`
	Fingerprint string     `json:"fingerprint"`
	Scope       []string   `json:"scope"`
	ObtainedAt  time.Time  `json:"obtained_at"`
}

// NewPouchEntry makes the line of a token set.
func NewPouchEntry(e pouch.Entry, now time.Time) PouchEntry {
	out := PouchEntry{Client: e.Key.Client, Stage: e.Key.Stage, Grant: e.Grant, State: e.State(now), Refreshable: e.Refreshable,
		Fingerprint: e.Fingerprint, Scope: e.Scope, ObtainedAt: e.ObtainedAt.UTC().Truncate(time.Second)}
	if !e.ExpiresAt.IsZero() {
		at := e.ExpiresAt.UTC().Truncate(time.Second)
		out.ExpiresAt = &at
	}
	if out.Scope == nil {
		out.Scope = []string{}
	}
	return out
}

// lifeBar is how wide a token's remaining life is drawn.
const lifeBar = 16

// Pouch draws what is held, each with its remaining life as a bar.
func (p *Pen) Pouch(list []PouchEntry) {
	if len(list) == 0 {
		p.line(p.faint("the pouch is empty; tidy-courier obtain CLIENT fills it"))
		return
	}
	rows := make([][]string, 0, len(list))
	for _, e := range list {
		name := Safe(e.Client)
		if e.Stage != "" {
			name += p.faint(" @" + Safe(e.Stage))
		}
		ends := time.Time{}
		if e.ExpiresAt != nil {
			ends = *e.ExpiresAt
		}
		rows = append(rows, []string{p.state(e.State), name, p.accent(e.Fingerprint), p.bar(e.ObtainedAt, ends, e.State == "expiring", lifeBar), p.ends(e), refreshable(e.Refreshable), Safe(strings.Join(e.Scope, " "))})
	}
	p.table("", rows)
}

func (p *Pen) state(s string) string {
	switch s {
	case "valid":
		return p.accent(shapeGood) + " valid"
	case "expiring":
		return p.amber(shapeSoon) + " expiring"
	}
	return p.faint(shapeBad + " expired")
}

func (p *Pen) ends(e PouchEntry) string {
	if e.ExpiresAt == nil {
		return "no end known"
	}
	word := "until "
	if e.State == "expired" {
		word = "ended "
	}
	return word + p.clock(*e.ExpiresAt) + " (" + p.relative(*e.ExpiresAt) + ")"
}

func refreshable(yes bool) string {
	if yes {
		return "refreshable"
	}
	return ""
}

// NoRunFits says that a filter chooses none.
func (p *Pen) NoRunFits() {
	p.line(p.faint("the journal has no run of this project that fits all of this"))
}

// Runs draws the journal's list.
func (p *Pen) Runs(list []journal.Summary) {
	if len(list) == 0 {
		p.line(p.faint("the journal has no run of this project yet"))
		return
	}
	var rows [][]string
	for _, s := range list {
		mark, what := p.accent(shapeGood), ""
		if s.Outcome != "ok" {
			mark, what = p.red(shapeBad), s.Outcome
		}
		if s.Cause != "" {
			what = s.Cause
		}
		rows = append(rows, []string{fmt.Sprintf("%4d", s.N), mark, s.Command, Safe(s.Client), p.faint(Safe(s.Stage)), p.clock(s.Started), what})
	}
	p.table("", rows)
}

// Settings draws an entry's resolved settings, each with its place.
func (p *Pen) Settings(section, name string, lines []project.Line) {
	p.line(p.strong(Safe(name)), "   ", p.faint(strings.TrimSuffix(section, "s")))
	key, value := 0, 0
	for _, l := range lines {
		key, value = max(key, len(l.Key)), max(value, len([]rune(l.Value)))
	}
	value = min(value, max(20, p.width()-key-28))
	for _, l := range lines {
		text := wrapValue(Safe(l.Value), value)
		p.line("   ", p.accent(pad(l.Key, key)), "  ", pad(text[0], value), "  ", p.faint(Safe(l.Where)))
		for _, more := range text[1:] {
			p.line("   ", strings.Repeat(" ", key), "  ", more)
		}
		for _, f := range l.From {
			p.line("   ", strings.Repeat(" ", key), "  ", p.faint("  "+Safe(f)))
		}
	}
}

// Kept draws the values that calls have kept.
func (p *Pen) Kept(kept map[string]string) {
	if len(kept) == 0 {
		p.line(p.faint("no value is kept in this project and stage; keep: under a call takes one out of its answer"))
		return
	}
	var rows [][]string
	for _, name := range sortedNames(kept) {
		rows = append(rows, []string{p.accent("${" + Safe(name) + "}"), Safe(kept[name])})
	}
	p.table("   ", rows)
}

// Legs draws each leg's headers and bodies in full.
func (p *Pen) Legs(r *run.Record) {
	for _, l := range r.Legs {
		p.line()
		p.Leg(l)
	}
}

// Leg draws one leg's headers, bodies and times.
func (p *Pen) Leg(l run.LegRecord) {
	p.line(p.strong(fmt.Sprintf("leg %d  %s", l.N, l.Name)))
	if l.Inbound {
		p.message("←", l.Method+" "+l.URL, l.Request)
	} else {
		p.message("→", l.Method+" "+l.URL, l.Request)
	}
	if l.Response != nil {
		p.message("←", fmt.Sprint(l.Status), l.Response)
	}
	if l.Failure != nil {
		p.line("   ", p.red(shapeBad), " ", Safe(l.Failure.Detail))
	}
	if t := legTimes(l); t != "" {
		p.line("   ", p.faint(t))
	}
}

// legTimes says how long each part of a leg took, as far as it happened.
func legTimes(l run.LegRecord) string {
	if l.Timing == nil || l.Timing.Total == 0 {
		return ""
	}
	t := l.Timing
	var parts []string
	for _, part := range []struct {
		name string
		d    time.Duration
	}{{"name look-up", t.DNS}, {"connect", t.Connect}, {"TLS", t.TLS}, {"first byte after", t.FirstByte}, {"whole", t.Total}} {
		if part.d > 0 {
			parts = append(parts, part.name+" "+took(float64(part.d.Microseconds())/1000))
		}
	}
	if l.Peer != nil && l.Peer.Address != "" {
		parts = append(parts, "from "+l.Peer.Address)
	}
	return strings.Join(parts, "   ")
}

// RunLine says which run is drawn, and when it was.
func (p *Pen) RunLine(r *run.Record) {
	p.line(p.faint(fmt.Sprintf("run %d   %s   %s ago", r.N, r.Started.Local().Format("2006-01-02 15:04:05"), Duration(p.Now().Sub(r.Started).Round(time.Second)))))
}

// laidOut is a body with JSON indented and a form's parameters on lines of their
// own; anything else as it is.
func laidOut(m *run.Message) string {
	if m.MediaType == "application/x-www-form-urlencoded" {
		return strings.ReplaceAll(m.Body, "&", "\n&")
	}
	var laid bytes.Buffer
	if json.Indent(&laid, []byte(m.Body), "", "  ") == nil {
		return laid.String()
	}
	return m.Body
}

func (p *Pen) message(arrow, first string, m *run.Message) {
	p.line("   ", p.accent(arrow), " ", Safe(first))
	if m == nil {
		return
	}
	for _, n := range sortedNames(m.Headers) {
		for _, v := range m.Headers[n] {
			p.line("     ", p.faint(Safe(n)+":"), " ", Safe(v))
		}
	}
	if m.Body != "" {
		p.line()
		for _, l := range strings.Split(strings.TrimRight(laidOut(m), "\n"), "\n") {
			p.line("     ", p.jsonLine(SafeText(l)))
		}
	}
	if m.Truncated {
		p.line("     ", p.faint(fmt.Sprintf("(cut here; %d bytes in all)", m.Size)))
	}
}
