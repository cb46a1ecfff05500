package landing

import (
	"html"
	"net/http"
	"strings"
)

// fragmentField carries the fragment from the page's script to the listener.
const fragmentField = "landing_fragment"

const pageHead = `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>@TITLE@ · Tidy Courier</title><style>
:root{color-scheme:light dark;--ink:#1c2430;--paper:#fbfaf7;--mark:#0a7d86}
@media(prefers-color-scheme:dark){:root{--ink:#e4e7ea;--paper:#14181c;--mark:#4fc3cc}}
body{margin:0;min-height:100vh;display:flex;align-items:center;background:var(--paper);color:var(--ink);font:17px/1.55 "DejaVu Sans",system-ui,sans-serif}
main{margin:0 auto;width:min(38rem,88vw);border-top:5px solid var(--mark);padding-top:1.5rem}
main.bad{border-top-style:dashed;--mark:#b3392b}
.shape{font-size:2.2rem;color:var(--mark);line-height:1}
h1{font-size:1.5rem;margin:.4rem 0 .6rem}p{margin:.4rem 0}.small{opacity:.7;font-size:.85em;margin-top:1.6rem}
</style></head><body>`

const pageFoot = `<p class="small">Tidy Courier, on this machine. This page loads nothing from elsewhere.</p></main></body></html>`

// fragmentScript posts what stands behind the # to this same address; it is the
// only script there is, and runs only on the page that may have a fragment.
const fragmentScript = `<form method="post" id="f"><input type="hidden" name="` + fragmentField + `" id="v"></form><script>
var v=location.hash;history.replaceState(null,"",location.pathname);document.getElementById("v").value=v;document.getElementById("f").submit();
</script><noscript><p>This page needs a script to pass the answer on, since it stands behind the # of the address, which no server sees. Allow it, or copy the whole address and run the command again with --paste.</p></noscript>`

func guard(w http.ResponseWriter, script string) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"+script)
}

func (l *Listener) page(w http.ResponseWriter, status int, v Verdict) {
	guard(w, "")
	w.WriteHeader(status)
	class, shape := "", "✔"
	if !v.Good {
		class, shape = ` class="bad"`, "✘"
	}
	title := html.EscapeString(v.Title)
	_, _ = w.Write([]byte(strings.ReplaceAll(pageHead, "@TITLE@", title) + "<main" + class + `><div class="shape">` + shape + "</div><h1>" + title + "</h1><p>" +
		html.EscapeString(v.Text) + "</p>" + pageFoot)) // the browser has gone when this fails
}

func fragmentPage(w http.ResponseWriter) {
	guard(w, "; script-src 'unsafe-inline'")
	_, _ = w.Write([]byte(strings.ReplaceAll(pageHead, "@TITLE@", "One moment") + `<main><div class="shape">…</div><h1>One moment</h1>` + fragmentScript + pageFoot)) // as above
}
