// Package landing is the loopback listener that receives the authorization
// response (RFC 8252 7.3). It binds only the host and port of the redirect URI,
// takes one answer, and tells the person in the browser what happened.
//
//	l, err := landing.Listen("http://127.0.0.1:8651/landing", true)
//	// open the browser at a URL that carries l.RedirectURI()
//	arrival, err := l.Wait(ctx, judge)
package landing

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"syscall"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/wire"
)

// maxForm bounds a posted answer: real ones are below 16 KiB.
const maxForm = 256 << 10

// maxStrays bounds how many requests to other places are remembered.
const maxStrays = 16

// Arrival is an authorization response as it came.
type Arrival struct {
	Values url.Values
	Via    string // query, fragment or form_post
	Method string
	URL    string // as requested, without a fragment
	At     time.Time
}

// Stray is a request that was no answer: evidence when none arrives.
type Stray struct {
	Method, Path, Host string
	Why                string
}

// Verdict is what the page tells the person.
type Verdict struct {
	Good  bool
	Title string
	Text  string
}

// Listener waits at a redirect URI.
type Listener struct {
	redirect *url.URL
	nets     []net.Listener
	srv      *http.Server
	arrived  chan Arrival
	judge    func(Arrival) Verdict

	mu     sync.Mutex
	taken  bool
	strays []Stray
}

// Listenable reports whether a redirect URI can be received here, and if not why.
func Listenable(redirect string) error {
	u, err := url.Parse(redirect)
	switch {
	case err != nil || u.Host == "":
		return fmt.Errorf("%q is not an absolute URL", redirect)
	case u.Fragment != "":
		return fmt.Errorf("a redirect URI must not have a fragment (RFC 6749 3.1.2)")
	case u.Scheme != "http":
		return fmt.Errorf("it begins with %s://, and only plain http can be received here", u.Scheme)
	case !wire.Loopback(u.Hostname()):
		return fmt.Errorf("its host %s is not this machine's loopback", u.Hostname())
	}
	return nil
}

// Listen binds the host and port of the redirect URI. Port 0, or none where
// anyPort allows it, takes any free port. A busy port is an error of kind
// settings that names the program holding it, when that can be found out.
func Listen(redirect string, anyPort bool, judge func(Arrival) Verdict) (*Listener, error) {
	if err := Listenable(redirect); err != nil {
		return nil, fault.New(fault.Settings, "the redirect cannot be received here: %s", err.Error())
	}
	u, _ := url.Parse(redirect)
	port := u.Port()
	if port == "" {
		port = "80"
		if anyPort {
			port = "0"
		}
	}
	l := &Listener{redirect: u, arrived: make(chan Arrival, 1), judge: judge}
	hosts := []string{u.Hostname()}
	if u.Hostname() == "localhost" {
		hosts = []string{"127.0.0.1", "::1"}
	}
	for i, h := range hosts {
		n, err := net.Listen("tcp", net.JoinHostPort(h, port))
		if err != nil && i > 0 {
			break // no IPv6 here, or its port is taken: the first address is enough
		}
		if err != nil {
			return nil, busy(err, u, port)
		}
		_, port, _ = net.SplitHostPort(n.Addr().String())
		l.nets = append(l.nets, n)
	}
	if u.Port() == "" && port != "80" || u.Port() == "0" {
		u.Host = net.JoinHostPort(u.Hostname(), port)
	}
	l.srv = &http.Server{Handler: http.HandlerFunc(l.serve), ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 64 << 10}
	for _, n := range l.nets {
		go func() { _ = l.srv.Serve(n) }() // ends with Close
	}
	return l, nil
}

func busy(err error, u *url.URL, port string) error {
	f := fault.Wrap(fault.Settings, err, "the port of the redirect URI cannot be listened at")
	if !errors.Is(err, syscall.EADDRINUSE) {
		return f.Hint("ports below 1024 need rights of their own; register a redirect URI with a higher one")
	}
	f = fault.New(fault.Settings, "port %s of the redirect URI is taken", port)
	if who := holder(port); who != "" {
		f.Message += " by " + who
	}
	return f.Hint("stop that program, or register another port; a public client may use any loopback port (RFC 8252 7.3): redirect_uri: http://%s:0%s", u.Hostname(), u.Path)
}

// RedirectURI is the redirect URI with the port that was taken.
func (l *Listener) RedirectURI() string { return l.redirect.String() }

// Wait waits for the answer.
func (l *Listener) Wait(ctx context.Context) (Arrival, error) {
	select {
	case a := <-l.arrived:
		return a, nil
	case <-ctx.Done():
		return Arrival{}, ctx.Err()
	}
}

// Strays lists the requests that were no answer.
func (l *Listener) Strays() []Stray {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]Stray(nil), l.strays...)
}

// Close stops listening, after letting the page that is being sent go out.
func (l *Listener) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), 500*time.Millisecond)
	defer cancel()
	if l.srv.Shutdown(ctx) != nil {
		_ = l.srv.Close()
	}
}

func (l *Listener) stray(r *http.Request, why string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.strays) < maxStrays {
		l.strays = append(l.strays, Stray{r.Method, r.URL.Path, r.Host, why})
	}
}

func (l *Listener) serve(w http.ResponseWriter, r *http.Request) {
	switch {
	case r.Host != l.redirect.Host && r.Host != strings.TrimSuffix(l.redirect.Host, ":80"):
		l.stray(r, "another host name")
		l.page(w, http.StatusMisdirectedRequest, Verdict{Title: "Not here", Text: "This address waits for " + l.redirect.Host + " only."})
	case r.URL.Path == "/favicon.ico" && l.redirect.Path != "/favicon.ico":
		w.WriteHeader(http.StatusNoContent)
	case r.URL.Path != l.redirect.Path && !(r.URL.Path == "/" && l.redirect.Path == ""):
		l.stray(r, "another path")
		l.page(w, http.StatusNotFound, Verdict{Title: "Not this path", Text: "The redirect URI has the path " + l.redirect.Path + ", and the request came to " + r.URL.Path + ". Compare the two in the client's registration."})
	case strings.Contains(r.Header.Get("Sec-Purpose")+r.Header.Get("Purpose"), "prefetch"):
		w.WriteHeader(http.StatusServiceUnavailable) // the browser asks again when it means it
	case r.Method == http.MethodGet:
		l.query(w, r)
	case r.Method == http.MethodPost:
		l.form(w, r)
	default:
		l.stray(r, "another method")
		w.Header().Set("Allow", "GET, POST")
		l.page(w, http.StatusMethodNotAllowed, Verdict{Title: "Not this way", Text: "An answer comes by GET or POST."})
	}
}

func (l *Listener) query(w http.ResponseWriter, r *http.Request) {
	values, err := url.ParseQuery(r.URL.RawQuery)
	if err != nil {
		l.stray(r, "a query that cannot be read")
		l.page(w, http.StatusBadRequest, Verdict{Title: "Unreadable", Text: "The query of this address cannot be read."})
		return
	}
	if !answers(values) {
		fragmentPage(w) // whatever came may stand behind the #, which only the browser sees
		return
	}
	l.take(w, r, values, "query")
}

func (l *Listener) form(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, maxForm)
	if err := r.ParseForm(); err != nil {
		l.stray(r, "a form that cannot be read")
		l.page(w, http.StatusBadRequest, Verdict{Title: "Unreadable", Text: "The posted answer cannot be read."})
		return
	}
	if text, fromPage := r.PostForm[fragmentField]; fromPage {
		values, err := url.ParseQuery(strings.TrimPrefix(text[0], "#"))
		if err != nil || !answers(values) {
			l.stray(r, "an address without an answer in it")
			l.page(w, http.StatusBadRequest, Verdict{Title: "No answer in this address", Text: "The server sent the browser here without a code, a token or an error."})
			return
		}
		l.take(w, r, values, "fragment")
		return
	}
	if !answers(r.PostForm) {
		l.stray(r, "a form without an answer in it")
		l.page(w, http.StatusBadRequest, Verdict{Title: "No answer in this form", Text: "The server posted neither a code, a token nor an error."})
		return
	}
	l.take(w, r, r.PostForm, "form_post")
}

// answers reports whether the parameters are those of an authorization response.
func answers(v url.Values) bool {
	for _, name := range []string{"code", "error", "access_token", "id_token", "state", "iss"} {
		if v.Has(name) {
			return true
		}
	}
	return false
}

// take accepts the first answer and turns later ones away.
func (l *Listener) take(w http.ResponseWriter, r *http.Request, values url.Values, via string) {
	l.mu.Lock()
	first := !l.taken
	l.taken = true
	l.mu.Unlock()
	if !first {
		l.page(w, http.StatusGone, Verdict{Title: "This answer was taken already", Text: "Nothing more to do here; the terminal has it."})
		return
	}
	a := Arrival{Values: values, Via: via, Method: r.Method, URL: "http://" + r.Host + r.URL.RequestURI(), At: time.Now()}
	verdict := l.judge(a)
	status := http.StatusOK
	if !verdict.Good {
		status = http.StatusBadRequest
	}
	l.page(w, status, verdict)
	if f, ok := w.(http.Flusher); ok {
		f.Flush()
	}
	l.arrived <- a
}
