package standin

import (
	"html"
	"net/http"
	"net/url"
	"slices"
	"strings"
)

// The pages work without JavaScript (but for the one that posts itself) and
// load nothing from elsewhere. They are put together by hand: the template
// package would keep every method of the program in the binary.

const pageHead = `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>@TITLE@ · Northmark Tide Office</title>
<style>
:root{--sea:#0d4f5c;--foam:#f3f6f4;--ink:#16262b;--rope:#b7853c;--alarm:#a3312a}
*{box-sizing:border-box}
body{margin:0;min-height:100vh;background:var(--foam);color:var(--ink);font:16px/1.5 Georgia,"DejaVu Serif",serif;display:grid;grid-template-columns:minmax(9rem,22%) 1fr}
aside{background:var(--sea);color:#dfeceb;padding:2.5rem 1.25rem;border-right:6px double var(--rope)}
aside b{display:block;font-size:1.15rem;line-height:1.25}
aside small{display:block;margin-top:1rem;opacity:.8}
main{padding:2.5rem clamp(1rem,5vw,4.5rem);max-width:44rem}
h1{font-size:1.6rem;margin:0 0 .75rem}
label{display:block;margin:1rem 0 .25rem}
input{font:inherit;width:min(22rem,100%);padding:.5rem .6rem;border:0;border-bottom:2px solid var(--sea);background:#fff}
ul{padding-left:1.2rem}code{font-family:"DejaVu Sans Mono",monospace;font-size:.92em}
.acts{margin-top:1.75rem;display:flex;gap:.75rem;flex-wrap:wrap}
button{font:inherit;padding:.55rem 1.3rem;border:2px solid var(--sea);background:var(--sea);color:#fff;cursor:pointer}
button.plain{background:transparent;color:var(--sea)}
.wrong{color:var(--alarm);border-left:4px solid var(--alarm);padding-left:.75rem}
@media(max-width:40rem){body{grid-template-columns:1fr}aside{border-right:0;border-bottom:6px double var(--rope);padding:1.25rem}}
</style></head><body><aside><b>Northmark<br>Tide Office</b><small>Simulated. Nothing here is real.</small></aside><main>`

const pageFoot = `</main></body></html>`

var scopeWords = map[string]string{"openid": "know who you are", "profile": "see your name", "offline_access": "stay signed in while you are away",
	"gauges.read": "read the tide gauges of your harbours", "notices.write": "post notices to mariners"}

// markup is HTML; text becomes markup only through esc.
type markup = string

func esc(text string) markup { return html.EscapeString(text) }

func code(text string) markup { return "<code>" + esc(text) + "</code>" }

func hidden(name, value string) markup {
	return `<input type="hidden" name="` + esc(name) + `" value="` + esc(value) + `">`
}

func page(w http.ResponseWriter, status int, title string, body ...markup) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Frame-Options", "DENY")
	w.WriteHeader(status)
	_, _ = w.Write([]byte(strings.ReplaceAll(pageHead, "@TITLE@", esc(title)) + strings.Join(body, "") + pageFoot)) // the browser has gone when this fails
}

func (s *Server) errorPage(w http.ResponseWriter, title, says string) {
	page(w, http.StatusBadRequest, title, "<h1>", esc(title), `</h1><p class="wrong">`, esc(says), "</p>",
		"<p>You were not sent back to the application, since it is not certain that the request came from it.</p>")
}

func (s *Server) usedPage(w http.ResponseWriter) {
	s.errorPage(w, "This page was used already", "The sign-in it belongs to is over. Start again from the application.")
}

func (s *Server) signInPage(w http.ResponseWriter, ticket, hint, wrong string) {
	s.mu.Lock()
	client := s.pending[ticket].client.ID
	s.mu.Unlock()
	alert, focusUser, focusPassword := "", " autofocus", ""
	if wrong != "" {
		alert = `<p class="wrong" role="alert">` + esc(wrong) + "</p>"
	}
	if hint != "" {
		focusUser, focusPassword = focusPassword, focusUser
	}
	var known []string
	for _, a := range accounts {
		known = append(known, code(a.Name)+" with "+code(a.Password))
	}
	page(w, http.StatusOK, "Sign in", "<h1>Who goes there?</h1><p>Sign in to go on to <b>", esc(client), "</b>.</p>", alert,
		`<form method="post" action="/signin">`, hidden("ticket", ticket),
		`<label for="u">Account</label><input id="u" name="username" value="`, esc(hint), `" autocomplete="username"`, focusUser, ">",
		`<label for="p">Password</label><input id="p" name="password" type="password" autocomplete="current-password"`, focusPassword, ">",
		`<div class="acts"><button name="act" value="signin">Sign in</button><button class="plain" name="act" value="cancel">Turn back</button></div></form>`,
		"<p><small>Accounts: ", strings.Join(known, "; "), "; all made up.</small></p>")
}

func (s *Server) consentPage(w http.ResponseWriter, ticket string, p *pendingRequest) {
	var asks strings.Builder
	for _, sc := range p.scope {
		asks.WriteString("<li>" + esc(scopeWords[sc]) + " " + code(sc) + "</li>")
	}
	page(w, http.StatusOK, "Agree", "<h1>Let ", esc(p.client.ID), " act for you?</h1><p>You are signed in as <b>", esc(p.user.Name), "</b>. The application asks to:</p><ul>", asks.String(),
		"</ul><p>Afterwards you go back to ", code(p.redirect), `.</p><form method="post" action="/consent">`, hidden("ticket", ticket),
		`<div class="acts"><button name="act" value="agree">Agree</button><button class="plain" name="act" value="refuse">Refuse</button></div></form>`)
}

// postPage sends the answer as a form (OAuth 2.0 Form Post Response Mode).
func (s *Server) postPage(w http.ResponseWriter, target string, v url.Values) {
	var names []string
	for name := range v {
		names = append(names, name)
	}
	slices.Sort(names)
	var fields strings.Builder
	for _, name := range names {
		fields.WriteString(hidden(name, v.Get(name)))
	}
	page(w, http.StatusOK, "On the way back", `<h1>On the way back</h1><form method="post" action="`, esc(target), `">`, fields.String(),
		`<p>If nothing happens, press the button.</p><div class="acts"><button>Go on</button></div></form><script>document.forms[0].submit()</script>`)
}
