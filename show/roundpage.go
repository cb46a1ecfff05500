package show

import (
	"fmt"
	"html"
	"strings"

	"tidycourier/core/round"
)

// The page is put together by hand: the template package would keep every
// method of the program in the binary. Text becomes markup only through esc.

func esc(text string) string { return html.EscapeString(Safe(text)) }

// escText is esc for text of several lines.
func escText(text string) string { return html.EscapeString(SafeText(text)) }

const pageStyle = `
:root{--paper:#fbfaf6;--ink:#1c2426;--soft:#5d6a6d;--line:#d8d6cb;--good:#1f6f5c;--bad:#a3312a;--soon:#8a6414}
@media(prefers-color-scheme:dark){:root{--paper:#12181a;--ink:#dfe6e4;--soft:#93a19f;--line:#2c3739;--good:#63c2a6;--bad:#ef8077;--soon:#d9b25c}}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:15px/1.5 "DejaVu Sans",Verdana,sans-serif}
main{max-width:66rem;margin:0 auto;padding:2.2rem 1.4rem 4rem}
h1{font-size:1.5rem;margin:0}h2{font-size:1.05rem;margin:2.2rem 0 .6rem}
.when{color:var(--soft);margin:.2rem 0 1.4rem}
.count{display:flex;align-items:baseline;gap:2.2rem;flex-wrap:wrap;border-block:1px solid var(--line);padding:.8rem 0}
.count b{font-size:1.5rem;font-weight:600;margin-right:.4rem}
.good{color:var(--good)}.bad{color:var(--bad)}.soon{color:var(--soon)}.soft{color:var(--soft)}
table{border-collapse:collapse;width:100%}th{text-align:left;font-weight:600;color:var(--soft)}
th,td{padding:.32rem .8rem .32rem 0;border-bottom:1px solid var(--line);vertical-align:top}
td.n{text-align:right;font-variant-numeric:tabular-nums;white-space:nowrap}
code,pre,dd{font-family:"DejaVu Sans Mono",monospace;font-size:.88em}
article{border-left:4px solid var(--bad);padding:.1rem 0 .1rem 1rem;margin:1rem 0}
article h3{margin:0 0 .3rem;font-size:1rem}
dl{display:grid;grid-template-columns:max-content 1fr;gap:.1rem .9rem;margin:.3rem 0 .8rem}dt{color:var(--soft)}dd{margin:0;overflow-wrap:anywhere}
svg{display:block;width:100%;height:auto;margin-top:.3rem}th.n{text-align:right}
@media print{:root{--paper:#fff;--ink:#000;--soft:#444;--line:#bbb;--good:#14503f;--bad:#8c1d17}main{max-width:none;padding:0}article,tr{break-inside:avoid}}
`

// RoundPage makes the report as one page that loads nothing from anywhere: the
// counts, each call with its time as a bar, and what failed in full.
func RoundPage(v RoundView) []byte {
	var b strings.Builder
	b.WriteString(`<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">`)
	b.WriteString(`<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">`)
	fmt.Fprintf(&b, "<title>Round %s</title><style>%s</style></head><body><main>", esc(v.Round), pageStyle)
	stage := ""
	if v.Stage != "" {
		stage = ", stage " + esc(v.Stage)
	}
	fmt.Fprintf(&b, `<h1>Round %s</h1><p class="when">%s%s, %s in all</p>`, esc(v.Round), v.Started.Format("2 January 2006, 15:04:05 MST"), stage, took(v.Ms))
	b.WriteString(`<div class="count">`)
	for _, c := range []struct {
		n           int
		class, word string
	}{{v.Passed, "good", shapeGood + " passed"}, {v.Failed, "bad", shapeBad + " failed"}, {v.Skipped, "soft", shapeNote + " skipped"}} {
		class := c.class
		if c.n == 0 {
			class = "soft"
		}
		fmt.Fprintf(&b, `<span class="%s"><b>%d</b>%s</span>`, class, c.n, c.word)
	}
	if v.Stopped {
		b.WriteString(`<span class="soon">` + shapeSoon + ` stopped by hand</span>`)
	}
	fmt.Fprintf(&b, `<span class="soft">min %s · median %s · p95 %s · max %s</span></div>`, took(v.Times.Min), took(v.Times.Median), took(v.Times.P95), took(v.Times.Max))
	roundTable(&b, v)
	roundFailures(&b, v)
	b.WriteString("</main></body></html>\n")
	return []byte(b.String())
}

func roundTable(b *strings.Builder, v RoundView) {
	b.WriteString(`<h2>Calls</h2><table><thead><tr><th></th><th>call</th><th>status</th><th class="n">time</th><th style="width:38%"></th><th class="n">run</th></tr></thead><tbody>`)
	for _, c := range v.Calls {
		mark, class := shapeGood, "good"
		switch c.Outcome {
		case round.Failed:
			mark, class = shapeBad, "bad"
		case round.Skipped:
			mark, class = shapeNote, "soft"
		}
		name := esc(c.Name)
		if c.Phase != string(round.Main) {
			name += ` <span class="soft">` + esc(c.Phase) + `</span>`
		}
		status, time, bar, number := "", "", `<span class="soft">`+esc(c.Reason)+`</span>`, ""
		if c.Status > 0 {
			status, time = fmt.Sprint(c.Status), took(c.Ms)
			bar = timeBar(c.Ms, v.Times.Max, class)
		} else if c.Outcome == round.Failed {
			bar = `<span class="bad">` + esc(c.Reason) + `</span>`
		}
		if c.Run > 0 {
			number = fmt.Sprint(c.Run)
		}
		fmt.Fprintf(b, `<tr><td class="%s">%s<span hidden> %s</span></td><td>%s</td><td>%s</td><td class="n">%s</td><td>%s</td><td class="n soft">%s</td></tr>`, class, mark, c.Outcome, name, status, time, bar, number)
	}
	b.WriteString("</tbody></table>")
}

// timeBar draws a call's time against the longest one's.
func timeBar(ms, longest float64, class string) string {
	share := 1.0
	if longest > 0 {
		share = max(ms/longest, 0.004)
	}
	return fmt.Sprintf(`<svg viewBox="0 0 400 12" role="img" aria-label="%s"><rect x="0" y="3" width="%.1f" height="6" fill="var(--%s)"/></svg>`, took(ms), 400*share, class)
}

func roundFailures(b *strings.Builder, v RoundView) {
	if v.Failed == 0 {
		return
	}
	b.WriteString("<h2>What failed</h2>")
	for _, c := range v.Calls {
		if c.Outcome != round.Failed {
			continue
		}
		fmt.Fprintf(b, `<article><h3>%s</h3><p>%s</p>`, esc(c.Name), esc(c.Reason))
		for _, f := range c.Failures {
			fmt.Fprintf(b, `<dl><dt>%s</dt><dd class="soft">%s</dd><dt>expected</dt><dd>%s</dd><dt>actual</dt><dd class="bad">%s</dd></dl>`, esc(f.What), esc(f.Where), esc(f.Expected), esc(f.Actual))
		}
		for _, f := range c.Findings {
			fmt.Fprintf(b, `<p><b>%s</b> <span class="soft">%s</span></p>`, esc(f.Title), esc(string(f.Certainty)))
			findingBody(b, f)
		}
		b.WriteString("</article>")
	}
}
