package show

import (
	"fmt"
	"strings"

	"tidycourier/core/exhibit"
	"tidycourier/core/run"
)

const caseStyle = `
.ladder text{font:13px "DejaVu Sans",Verdana,sans-serif;fill:var(--ink);white-space:pre}.ladder .soft{fill:var(--soft)}.ladder .bad{fill:var(--bad)}.ladder .good{fill:var(--good)}
.ladder .lane{font-weight:600}.ladder line{stroke:var(--soft)}.ladder .rail{stroke:var(--line)}.ladder .go{stroke:var(--ink)}.ladder .badline{stroke:var(--bad)}
section{margin-top:2.4rem}section>h2{margin-top:0}
.leg{border-top:1px solid var(--line);padding:.7rem 0}.leg h3{margin:0 0 .3rem;font-size:1rem}
pre{white-space:pre-wrap;overflow-wrap:anywhere;margin:.4rem 0;padding:.5rem .7rem;border-left:2px solid var(--line);max-height:none}
textarea{width:100%;min-height:7rem;font:inherit;color:inherit;background:transparent;border:1px solid var(--line);padding:.6rem}
blockquote{margin:0;padding:.4rem 0 .4rem 1rem;border-left:4px solid var(--good);white-space:pre-wrap}
.note article,article.note{border-left-color:var(--soon)}
`

// CasePage is the case file: a run as one page for somebody else, which loads
// nothing from anywhere and runs no script.
func CasePage(c *exhibit.Case) []byte {
	var b strings.Builder
	r := c.Record
	b.WriteString(`<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">`)
	b.WriteString(`<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">`)
	title := strings.TrimSpace("Case file: " + r.Command + " " + r.Client)
	fmt.Fprintf(&b, "<title>%s</title><style>%s%s</style></head><body><main>", esc(title), pageStyle, caseStyle)
	fmt.Fprintf(&b, `<h1>%s</h1><p class="when">%s</p>`, esc(title), esc(r.Started.UTC().Format("2 January 2006, 15:04:05 UTC")))
	caseSummary(&b, r)
	caseWords(&b, c.Words)
	b.WriteString(`<section><h2>What was tried</h2>`)
	caseLadder(&b, c)
	b.WriteString(`</section>`)
	caseFindings(&b, r)
	caseTokens(&b, c.Tokens)
	caseLegs(&b, r)
	caseAbout(&b, c)
	b.WriteString("</main></body></html>\n")
	return []byte(b.String())
}

func caseSummary(b *strings.Builder, r *run.Record) {
	b.WriteString("<dl>")
	grant := grantNames[r.Grant]
	if grant != "" && r.Detail != "" {
		grant += " + " + r.Detail
	}
	for _, f := range []exhibit.Fact{{Name: "client", Value: r.Client}, {Name: "server", Value: r.Server}, {Name: "grant", Value: grant}, {Name: "call", Value: r.Call}, {Name: "stage", Value: r.Stage}, {Name: "run", Value: fmt.Sprint(r.N)}} {
		if f.Value != "" && f.Value != "0" {
			fmt.Fprintf(b, "<dt>%s</dt><dd>%s</dd>", f.Name, esc(f.Value))
		}
	}
	b.WriteString("</dl>")
	if r.Error == nil {
		fmt.Fprintf(b, `<p class="good">%s it succeeded</p>`, shapeGood)
		return
	}
	fmt.Fprintf(b, `<p class="bad">%s %s</p>`, shapeBad, esc(r.Error.Message))
}

func caseWords(b *strings.Builder, words string) {
	b.WriteString(`<section><h2>In the reporter's words</h2>`)
	if words != "" {
		fmt.Fprintf(b, "<blockquote>%s</blockquote></section>", escText(words))
		return
	}
	b.WriteString(`<textarea aria-label="the reporter's words" placeholder="What was expected, and what happened instead"></textarea></section>`)
}

// Measures of the drawing, in its own units.
const (
	ladderWidth = 1000
	stepHeight  = 52
	laneHead    = 34
)

// caseLadder draws the legs between the parties: what went one way above the
// line, what came back beneath it.
func caseLadder(b *strings.Builder, c *exhibit.Case) {
	n := len(c.Lanes)
	gap := float64(ladderWidth-160) / float64(max(n-1, 1))
	x := func(lane int) float64 { return 80 + gap*float64(lane) }
	height := laneHead + stepHeight*len(c.Steps) + 14
	fmt.Fprintf(b, `<svg class="ladder" viewBox="0 0 %d %d" role="img" aria-label="the legs of the run">`, ladderWidth, height)
	b.WriteString(`<defs><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto-start-reverse"><path d="M0 0L8 4L0 8z" fill="var(--soft)"/></marker></defs>`)
	for i, l := range c.Lanes {
		anchor := "middle"
		if i == 0 {
			anchor = "start"
		} else if i == n-1 {
			anchor = "end"
		}
		tx := map[string]float64{"start": x(i) - 60, "middle": x(i), "end": x(i) + 70}[anchor]
		fmt.Fprintf(b, `<text class="lane" x="%.0f" y="18" text-anchor="%s">%s</text><line class="rail" x1="%.0f" y1="%d" x2="%.0f" y2="%d"/>`, tx, anchor, esc(cut(l.Name, 34)), x(i), laneHead-8, x(i), height)
	}
	for i, s := range c.Steps {
		caseStep(b, s, x(s.From), x(s.To), float64(laneHead+stepHeight*i+24))
	}
	b.WriteString("</svg>")
}

func caseStep(b *strings.Builder, s exhibit.Step, from, to, y float64) {
	l := s.Leg
	class, back := "go", ""
	text, state := l.Note, "soft"
	switch {
	case l.Failure != nil && l.Status == 0:
		class, text, state = "badline", shapeBad+" "+string(l.Failure.Kind), "bad"
	case l.Status >= 400:
		class, state = "badline", "bad"
		text = strings.TrimSpace(fmt.Sprintf("%s %d  %s", shapeBad, l.Status, l.Note))
	case l.Status > 0:
		state = "good"
		text = strings.TrimSpace(fmt.Sprintf("%d  %s", l.Status, l.Note))
	}
	if strings.HasPrefix(l.Note, shapeBad) {
		state, class = "bad", "badline"
	}
	if l.Ms > 0 {
		text += "   " + took(l.Ms)
	}
	if l.Status > 0 {
		back = ` marker-start="url(#tip)"`
	}
	left := min(from, to) + 10
	fmt.Fprintf(b, `<line class="%s" x1="%.0f" y1="%.0f" x2="%.0f" y2="%.0f" marker-end="url(#tip)"%s/>`, class, from, y, to, y, back)
	room := int(max(from, to)-min(from, to)) / 7
	fmt.Fprintf(b, `<text x="%.0f" y="%.0f">%d  %s %s</text><text class="%s" x="%.0f" y="%.0f">%s</text>`, left, y-6, l.N, esc(l.Method), esc(cut(Safe(shortURL(*l)), max(room-8, 14))), state, left, y+17, esc(cut(Safe(text), max(room, 14))))
}

func caseFindings(b *strings.Builder, r *run.Record) {
	if len(r.Findings) == 0 {
		return
	}
	b.WriteString(`<section><h2>Findings</h2>`)
	for _, f := range r.Findings {
		class, mark := "", shapeBad
		if f.Note {
			class, mark = ` class="note"`, shapeSoon
		}
		leg := ""
		if f.Leg > 0 {
			leg = fmt.Sprintf(", leg %d", f.Leg)
		}
		fmt.Fprintf(b, `<article%s><h3>%s %s <span class="soft">%s%s</span></h3>`, class, mark, esc(f.Title), esc(string(f.Certainty)), leg)
		findingBody(b, f)
		b.WriteString("</article>")
	}
	b.WriteString("</section>")
}

// findingBody writes a finding's evidence, remedies and references.
func findingBody(b *strings.Builder, f run.Finding) {
	b.WriteString("<dl>")
	for _, it := range f.Evidence {
		fmt.Fprintf(b, `<dt>%s</dt><dd>%s <span class="soft">%s</span></dd>`, esc(it.What), esc(Exact(it.Value)), esc(it.Where))
	}
	b.WriteString("</dl><ul>")
	for _, r := range f.Remedy {
		fmt.Fprintf(b, `<li>%s</li>`, esc(r))
	}
	if f.Try != "" {
		fmt.Fprintf(b, `<li>to be sure: <code>%s</code></li>`, esc(f.Try))
	}
	fmt.Fprintf(b, `</ul><p class="soft">%s</p>`, esc(strings.Join(append([]string{f.ID}, f.References...), " · ")))
}

func caseTokens(b *strings.Builder, list []exhibit.Decoded) {
	if len(list) == 0 {
		return
	}
	b.WriteString(`<section><h2>Tokens</h2><p class="soft">Decoded, without their signatures; not verified. A fingerprint is the first 8 hex digits of SHA-256.</p>`)
	for _, t := range list {
		fmt.Fprintf(b, `<div class="leg"><h3>%s <code>%s</code> <span class="soft">%s, %d characters, leg %d</span></h3>`, esc(t.Name), esc(t.Fingerprint), esc(string(t.Form)), t.Length, t.Leg)
		if len(t.Header)+len(t.Claims) > 0 {
			b.WriteString("<table><tbody>")
			for _, h := range t.Header {
				fmt.Fprintf(b, `<tr><td class="soft">header</td><td><code>%s</code></td><td><code>%s</code></td><td></td></tr>`, esc(h.Name), esc(h.Value))
			}
			for _, k := range t.Claims {
				fmt.Fprintf(b, `<tr><td class="soft">claim</td><td><code>%s</code></td><td><code>%s</code></td><td class="soft">%s</td></tr>`, esc(k.Name), esc(k.Value), esc(k.Meaning))
			}
			b.WriteString("</tbody></table>")
		}
		b.WriteString("</div>")
	}
	b.WriteString("</section>")
}

func caseLegs(b *strings.Builder, r *run.Record) {
	b.WriteString(`<section><h2>Legs</h2><p class="soft">Secrets and tokens are masked; equal fingerprints mean equal values.</p>`)
	for _, l := range r.Legs {
		fmt.Fprintf(b, `<div class="leg" id="leg-%d"><h3>%d  %s</h3><p><code>%s %s</code></p>`, l.N, l.N, esc(string(l.Name)), esc(l.Method), esc(l.URL))
		caseMessage(b, "sent", l.Request)
		if l.Response != nil {
			caseMessage(b, fmt.Sprintf("answered %d", l.Status), l.Response)
		}
		if l.Failure != nil {
			fmt.Fprintf(b, `<p class="bad">%s %s: %s</p>`, shapeBad, esc(string(l.Failure.Kind)), esc(l.Failure.Detail))
		}
		if times := legTimes(l); times != "" {
			fmt.Fprintf(b, `<p class="soft">%s</p>`, esc(times))
		}
		b.WriteString("</div>")
	}
	b.WriteString("</section>")
}

func caseMessage(b *strings.Builder, name string, m *run.Message) {
	if m == nil {
		return
	}
	fmt.Fprintf(b, `<p class="soft">%s</p><pre>`, esc(name))
	for _, n := range sortedNames(m.Headers) {
		for _, v := range m.Headers[n] {
			fmt.Fprintf(b, "%s: %s\n", esc(n), esc(v))
		}
	}
	if m.Body != "" {
		fmt.Fprintf(b, "\n%s", escText(laidOut(m)))
	}
	b.WriteString("</pre>")
	if m.Truncated {
		fmt.Fprintf(b, `<p class="soft">cut here; %d bytes in all</p>`, m.Size)
	}
}

func caseAbout(b *strings.Builder, c *exhibit.Case) {
	b.WriteString(`<section><h2>Versions and clocks</h2><dl>`)
	for _, f := range c.About {
		fmt.Fprintf(b, "<dt>%s</dt><dd>%s</dd>", esc(f.Name), esc(f.Value))
	}
	for _, k := range c.Clocks {
		fmt.Fprintf(b, `<dt>clock of %s</dt><dd>%s <span class="soft">by the Date of leg %d</span></dd>`, esc(k.Host), esc(k.String()), k.Leg)
	}
	for _, l := range c.Record.Legs {
		if l.Peer != nil && l.Peer.TLSVersion != "" {
			fmt.Fprintf(b, "<dt>leg %d</dt><dd>%s, certificate until %s</dd>", l.N, esc(l.Peer.TLSVersion), esc(l.Peer.NotAfter.UTC().Format("2006-01-02")))
		}
	}
	b.WriteString("</dl></section>")
}
