package exhibit

import (
	"net/url"
	"strings"
	"time"

	"tidycourier/core/har"
	"tidycourier/core/run"
)

// HAR writes a run as a HAR 1.2 document: an entry for each leg, masked as the
// record is. What a browser was asked to open was not seen by the program; its
// answer is entered as the redirect that came of it, and the comment says so.
func HAR(r *run.Record, version string) *har.Document {
	entries := make([]har.Entry, 0, len(r.Legs))
	for i := range r.Legs {
		entries = append(entries, entryOf(r, i))
	}
	comment := strings.TrimSpace("run of " + r.Command + " " + r.Client)
	return har.New(version, comment, entries)
}

func entryOf(r *run.Record, i int) har.Entry {
	l := &r.Legs[i]
	at := l.At
	if at.IsZero() {
		at = r.Started
	}
	e := har.Entry{Started: at.UTC().Format(time.RFC3339Nano), Time: l.Ms, Cache: []byte("{}"), Timings: timings(l), Comment: string(l.Name),
		Request:  har.Request{Method: l.Method, URL: l.URL, HTTPVersion: "HTTP/1.1", Headers: []har.Pair{}, QueryString: har.Query(l.URL), Cookies: []any{}, HeadersSize: -1, BodySize: 0},
		Response: har.Response{Status: l.Status, Headers: []har.Pair{}, Cookies: []any{}, HeadersSize: -1, BodySize: -1}}
	if l.Peer != nil {
		host := l.Peer.Address
		if u, err := url.Parse("//" + host); err == nil {
			host = u.Hostname()
		}
		e.Address = host
	}
	if m := l.Request; m != nil {
		e.Request.Headers, e.Request.BodySize = har.Pairs(m.Headers), m.Size
		if m.Body != "" {
			e.Request.PostData = &har.PostData{MimeType: first(m.Headers, "Content-Type"), Text: m.Body}
			if m.MediaType == "application/x-www-form-urlencoded" {
				e.Request.PostData.Params = har.FormPairs(m.Body)
			}
		}
	}
	if m := l.Response; m != nil {
		e.Response.Headers, e.Response.BodySize, e.Response.HTTPVersion = har.Pairs(m.Headers), m.Size, "HTTP/1.1"
		e.Response.RedirectURL = first(m.Headers, "Location")
		e.Response.Content = har.Content{Size: m.Size, MimeType: first(m.Headers, "Content-Type"), Text: m.Body}
	}
	if l.Failure != nil {
		e.Response.Error = string(l.Failure.Kind) + ": " + l.Failure.Detail
	}
	switch {
	case l.Inbound:
		e.Response.Status, e.Comment = 200, e.Comment+": came to the redirect URI; its answer is the program's own page"
	case l.Name == run.Authorization && l.Request == nil && i+1 < len(r.Legs) && r.Legs[i+1].Inbound:
		e.Response.Status, e.Response.RedirectURL = 302, r.Legs[i+1].URL
		e.Response.Headers = []har.Pair{{Name: "Location", Value: r.Legs[i+1].URL}}
		e.Comment += ": opened in a browser; entered as the redirect that came of it"
	}
	return e
}

// timings are the parts of a leg in the form's way: connect holds ssl, and a
// part that did not happen is -1.
func timings(l *run.LegRecord) *har.Timings {
	t := &har.Timings{Blocked: -1, DNS: -1, Connect: -1, SSL: -1, Send: 0, Wait: l.Ms, Receive: 0}
	if l.Timing == nil {
		return t
	}
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	before := l.Timing.DNS + l.Timing.Connect + l.Timing.TLS
	if l.Timing.DNS > 0 {
		t.DNS = ms(l.Timing.DNS)
	}
	if l.Timing.Connect > 0 {
		t.Connect = ms(l.Timing.Connect + l.Timing.TLS)
	}
	if l.Timing.TLS > 0 {
		t.SSL = ms(l.Timing.TLS)
	}
	if first := l.Timing.FirstByte; first > 0 {
		t.Wait, t.Receive = ms(max(first-before, 0)), ms(max(l.Timing.Total-first, 0))
	}
	return t
}
