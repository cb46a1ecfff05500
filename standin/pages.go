package standin

import (
	"html/template"
	"net/http"
	"net/url"
	"sync"
)

// pages parses the templates at the first need: most commands show none.
var pages = sync.OnceValue(func() *template.Template { return template.Must(template.New("").Parse(pageText)) })

// The pages work without JavaScript and load nothing from elsewhere.
const pageText = `{{define "head"}}<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>{{.Title}} · Northmark Tide Office</title>
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
</style></head><body><aside><b>Northmark<br>Tide Office</b><small>Simulated. Nothing here is real.</small></aside><main>{{end}}
{{define "foot"}}</main></body></html>{{end}}

{{define "signin"}}{{template "head" .}}<h1>Who goes there?</h1>
<p>Sign in to go on to <b>{{.Client}}</b>.</p>{{if .Wrong}}<p class="wrong" role="alert">{{.Wrong}}</p>{{end}}
<form method="post" action="/signin"><input type="hidden" name="ticket" value="{{.Ticket}}">
<label for="u">Account</label><input id="u" name="username" value="{{.Hint}}" autocomplete="username"{{if not .Hint}} autofocus{{end}}>
<label for="p">Password</label><input id="p" name="password" type="password" autocomplete="current-password"{{if .Hint}} autofocus{{end}}>
<div class="acts"><button name="act" value="signin">Sign in</button><button class="plain" name="act" value="cancel">Turn back</button></div></form>
<p><small>Accounts: {{range .Accounts}}<code>{{.Name}}</code> with <code>{{.Password}}</code>; {{end}}all made up.</small></p>{{template "foot" .}}{{end}}

{{define "consent"}}{{template "head" .}}<h1>Let {{.Client}} act for you?</h1>
<p>You are signed in as <b>{{.User}}</b>. The application asks to:</p>
<ul>{{range .Scopes}}<li>{{.Says}} <code>{{.Name}}</code></li>{{end}}</ul>
<p>Afterwards you go back to <code>{{.Redirect}}</code>.</p>
<form method="post" action="/consent"><input type="hidden" name="ticket" value="{{.Ticket}}">
<div class="acts"><button name="act" value="agree">Agree</button><button class="plain" name="act" value="refuse">Refuse</button></div></form>{{template "foot" .}}{{end}}

{{define "error"}}{{template "head" .}}<h1>{{.Title}}</h1><p class="wrong">{{.Says}}</p>
<p>You were not sent back to the application, since it is not certain that the request came from it.</p>{{template "foot" .}}{{end}}

{{define "post"}}{{template "head" .}}<h1>On the way back</h1>
<form method="post" action="{{.Target}}">{{range .Fields}}<input type="hidden" name="{{.Name}}" value="{{.Value}}">{{end}}
<p>If nothing happens, press the button.</p><div class="acts"><button>Go on</button></div></form>
<script>document.forms[0].submit()</script>{{template "foot" .}}{{end}}`

var scopeWords = map[string]string{"openid": "know who you are", "profile": "see your name", "offline_access": "stay signed in while you are away",
	"gauges.read": "read the tide gauges of your harbours", "notices.write": "post notices to mariners"}

func page(w http.ResponseWriter, status int, name string, data map[string]any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Frame-Options", "DENY")
	w.WriteHeader(status)
	_ = pages().ExecuteTemplate(w, name, data) // the browser has gone when this fails
}

func (s *Server) errorPage(w http.ResponseWriter, title, says string) {
	page(w, http.StatusBadRequest, "error", map[string]any{"Title": title, "Says": says})
}

func (s *Server) usedPage(w http.ResponseWriter) {
	s.errorPage(w, "This page was used already", "The sign-in it belongs to is over. Start again from the application.")
}

func (s *Server) signInPage(w http.ResponseWriter, ticket, hint, wrong string) {
	s.mu.Lock()
	client := s.pending[ticket].client.ID
	s.mu.Unlock()
	page(w, http.StatusOK, "signin", map[string]any{"Title": "Sign in", "Ticket": ticket, "Client": client, "Hint": hint, "Wrong": wrong, "Accounts": accounts})
}

func (s *Server) consentPage(w http.ResponseWriter, ticket string, p *pendingRequest) {
	type line struct{ Name, Says string }
	var scopes []line
	for _, sc := range p.scope {
		scopes = append(scopes, line{sc, scopeWords[sc]})
	}
	page(w, http.StatusOK, "consent", map[string]any{"Title": "Agree", "Ticket": ticket, "Client": p.client.ID, "User": p.user.Name, "Scopes": scopes, "Redirect": p.redirect})
}

// postPage sends the answer as a form (OAuth 2.0 Form Post Response Mode).
func (s *Server) postPage(w http.ResponseWriter, target string, v url.Values) {
	type field struct{ Name, Value string }
	var fields []field
	for name := range v {
		fields = append(fields, field{name, v.Get(name)})
	}
	page(w, http.StatusOK, "post", map[string]any{"Title": "On the way back", "Target": target, "Fields": fields})
}
