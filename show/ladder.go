package show

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tidycourier/core/oauth"
	"tidycourier/core/run"
)

// grantNames say a grant as people do.
var grantNames = map[string]string{oauth.GrantCode: "authorization code", oauth.GrantClientCredentials: "client credentials",
	oauth.GrantPassword: "password", oauth.GrantRefresh: "refresh token"}

// aboutHeld are commands about a token that is there already: the grant it came
// by is not what they run.
var aboutHeld = map[string]bool{"refresh": true, "introspect": true, "revoke": true, "userinfo": true, "logout": true, "decode": true}

// Head draws the ladder's first line: whose run it is.
func (p *Pen) Head(r *run.Record) {
	var parts []string
	if r.Client != "" {
		parts = append(parts, p.strong(Safe(r.Client)))
	}
	switch {
	case r.Call != "":
		parts = append(parts, Safe(r.Call))
	case grantNames[r.Grant] != "" && !aboutHeld[r.Command]:
		name := grantNames[r.Grant]
		if r.Detail != "" {
			name += " + " + r.Detail
		}
		parts = append(parts, name)
	default:
		parts = append(parts, r.Command)
	}
	if r.Server != "" && r.Call == "" {
		parts = append(parts, p.faint(Safe(r.Server)))
	}
	if r.Stage != "" {
		parts = append(parts, p.faint("stage "+Safe(r.Stage)))
	}
	p.line(strings.Join(parts, "   "))
}

// Rung draws one leg.
func (p *Pen) Rung(l run.LegRecord) {
	arrow := p.accent("→")
	if l.Inbound {
		arrow = p.accent("←")
	}
	time := took(l.Ms)
	if l.Ms == 0 { // the browser was sent; how long that takes is the next rung's
		time = ""
	}
	width := min(p.width(), 104) // rungs stay narrow, so that the eye finds their ends
	place := max(22, min(44, width*2/5))
	note := width - 13 - place - 2 - len(time) - 1
	p.line(fmt.Sprintf("%2d  ", l.N), arrow, "  ", pad(l.Method, 4), "  ", pad(Safe(shortURL(l)), place), "  ", p.outcome(l, note), " ", p.faint(time))
}

// outcome is the rung's state in n columns: shape by itself, not by colour alone.
func (p *Pen) outcome(l run.LegRecord, n int) string {
	text := Safe(l.Note)
	if l.Failure != nil && l.Status == 0 {
		return p.red(pad(shapeBad+" "+Safe(string(l.Failure.Kind)), n))
	}
	if l.Status > 0 {
		if text == "" && l.Response != nil {
			text = Safe(l.Response.MediaType)
		}
		text = fmt.Sprintf("%d  %s", l.Status, text)
	}
	if strings.HasPrefix(text, shapeBad) {
		return p.red(pad(text, n))
	}
	if l.Status >= 400 {
		return p.red(pad(shapeBad+" "+text, n))
	}
	return pad("  "+text, n)
}

// shortURL is the path of a leg; a redirect received, and a URL without path,
// show their host as well.
func shortURL(l run.LegRecord) string {
	u, err := url.Parse(l.URL)
	if err != nil {
		return l.URL
	}
	path := u.EscapedPath()
	if p, err := url.PathUnescape(path); err == nil {
		path = p
	}
	if l.URL == "" {
		return "(not known here)"
	}
	if l.Inbound || path == "" || path == "/" {
		return u.Host + path
	}
	if u.RawQuery != "" && l.Name == run.Call {
		q := u.RawQuery
		if plain, err := url.QueryUnescape(q); err == nil {
			q = plain
		}
		path += "?" + q
	}
	return path
}

// Tokens draws a token set under the ladder.
func (p *Pen) Tokens(t *run.TokenView) {
	if t == nil {
		return
	}
	row := func(mark, name string, d *run.TokenDetail, rest string) {
		if d == nil {
			return
		}
		form := strings.ToUpper(string(d.Form))
		if d.Form == "opaque" {
			form = "opaque"
		}
		p.line(" ", mark, "  ", pad(name, 13), "  ", pad(form, 6), "  ", pad(fmt.Sprintf("%d chars", d.Length), 10), "  ", p.accent(d.Fingerprint), "  ", rest)
	}
	end := p.until(t)
	scope := Safe(strings.Join(t.Scope, " "))
	if p.Width > 0 {
		scope = cut(scope, max(8, p.width()-54-width(end)))
	}
	row(p.accent(shapeGood), "access token", t.Access, end+"   "+scope)
	row(" ", "refresh token", t.Refresh, "")
	row(" ", "id token", t.ID, subject(t.ID))
}

func subject(d *run.TokenDetail) string {
	if d == nil {
		return ""
	}
	if s, ok := d.Claims["sub"].(string); ok {
		return "about " + Safe(s)
	}
	return ""
}

func (p *Pen) until(t *run.TokenView) string {
	if t.ExpiresAt == nil {
		return p.amber(shapeSoon + " no end known")
	}
	left := t.ExpiresAt.Sub(p.Now())
	if left <= 0 {
		return p.amber(shapeSoon + " ended " + p.clock(*t.ExpiresAt))
	}
	return fmt.Sprintf("until %s (%s)", p.clock(*t.ExpiresAt), Duration(left.Round(time.Second)))
}

// Ladder draws a whole recorded run, each refusal under the rung where it
// happened.
func (p *Pen) Ladder(r *run.Record) {
	p.Head(r)
	for _, l := range r.Legs {
		p.Rung(l)
		p.findings(r.Findings, l.N, true)
	}
	p.Tokens(r.Token)
	p.findings(r.Findings, 0, true)
	if r.Error != nil {
		hint := r.Error.Hint
		if slices.ContainsFunc(r.Findings, func(f run.Finding) bool { return !f.Note }) {
			hint = "" // the finding has said it
		}
		p.line()
		p.Failure(r.Error.Message, r.Error.Where, hint)
	}
}

// Failure draws an error: what happened, where, and the next thing to do.
func (p *Pen) Failure(message, where, hint string) {
	indent := "   "
	text := Safe(message)
	if where != "" {
		text = Safe(where) + ": " + text
	}
	for i, l := range p.fold(text, p.width()-3) {
		if i == 0 {
			p.line(p.red(shapeBad), "  ", l)
			continue
		}
		p.line(indent, l)
	}
	p.remedy(indent, hint)
}

func (p *Pen) remedy(indent, text string) {
	if text == "" {
		return
	}
	for i, l := range p.fold(Safe(text), p.width()-width(indent)-3) {
		if i == 0 {
			p.line(indent, p.accent("→"), "  ", l)
			continue
		}
		p.line(indent, "   ", l)
	}
}

// Values draws the tokens themselves; only when the user asked for them.
func (p *Pen) Values(t *run.TokenView) {
	for _, d := range []struct {
		name string
		d    *run.TokenDetail
	}{{"access token", t.Access}, {"refresh token", t.Refresh}, {"id token", t.ID}} {
		if d.d != nil && d.d.Value != "" {
			p.line()
			p.line("    ", p.faint(d.name))
			p.line(Safe(d.d.Value))
		}
	}
}
