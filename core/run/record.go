package run

import (
	"encoding/base64"
	"net/http"
	"slices"
	"time"
	"unicode/utf8"

	"tidycourier/core/mask"
	"tidycourier/core/wire"
)

// Record is a Run made safe to show and keep.
type Record struct {
	N        int64       `json:"run"`
	Command  string      `json:"command"`
	Stage    string      `json:"stage,omitempty"`
	Client   string      `json:"client,omitempty"`
	Server   string      `json:"server,omitempty"`
	Grant    string      `json:"grant,omitempty"`
	Detail   string      `json:"detail,omitempty"`
	Call     string      `json:"call,omitempty"`
	Started  time.Time   `json:"started"`
	Legs     []LegRecord `json:"legs"`
	Token    *TokenView  `json:"token"`
	Findings []Finding   `json:"findings"`
	Error    *Failure    `json:"error"`
}

// LegRecord is a leg made safe to show and keep.
type LegRecord struct {
	N        int           `json:"n"`
	Name     Kind          `json:"name"`
	Inbound  bool          `json:"inbound,omitempty"`
	Method   string        `json:"method"`
	URL      string        `json:"url"`
	Status   int           `json:"status"`
	Note     string        `json:"note,omitempty"`
	At       time.Time     `json:"at"`
	Ms       float64       `json:"ms"`
	Request  *Message      `json:"request"`
	Response *Message      `json:"response"`
	Failure  *wire.Failure `json:"failure,omitempty"`
	Timing   *wire.Timing  `json:"timing,omitempty"`
	Peer     *wire.Peer    `json:"peer,omitempty"`
}

// Message is the header and body of one direction, masked. Header values of
// the same name are kept apart. A body that is not text is described instead.
type Message struct {
	Headers   map[string][]string `json:"headers"`
	MediaType string              `json:"media_type,omitempty"`
	Body      string              `json:"body,omitempty"`
	Size      int                 `json:"size"` // bytes of the body as it was
	Truncated bool                `json:"truncated,omitempty"`
}

// maxKept bounds the body kept in a record: enough for any token answer and
// for a page of records; the whole body is what call prints and saves.
const maxKept = 64 << 10

// Record makes the masked copy. Values in set and credentials by name are
// replaced; everything else is as it was.
func (r *Run) Record(set *mask.Set) Record { return r.record(cover{set: set}) }

// Revealed makes the same without a mask, for somebody who asked for the secrets.
func (r *Run) Revealed() Record { return r.record(cover{off: true}) }

func (r *Run) record(c cover) Record {
	out := Record{N: r.N, Command: r.Command, Stage: r.Stage, Client: r.Client, Server: r.Server, Grant: r.Grant, Detail: r.Detail, Call: c.url(r.Call),
		Started: r.Started.UTC(), Token: r.Token, Legs: make([]LegRecord, 0, len(r.Legs))}
	for i := range r.Legs {
		out.Legs = append(out.Legs, r.Legs[i].record(c))
	}
	out.Findings = MaskFindings(r.Findings, c.set)
	if r.Error != nil {
		e := *r.Error
		e.Message, e.Description = c.loose(e.Message), c.loose(e.Description)
		out.Error = &e
	}
	return out
}

// MaskFindings returns the findings with every known value masked in what they quote.
func MaskFindings(list []Finding, set *mask.Set) []Finding {
	out := slices.Clone(list)
	if out == nil {
		return []Finding{}
	}
	for i := range out {
		out[i].Evidence = slices.Clone(out[i].Evidence)
		for j := range out[i].Evidence {
			e := &out[i].Evidence[j]
			e.Value = set.Replace(mask.Loose(e.Value))
		}
		if out[i].Evidence == nil {
			out[i].Evidence = []Item{}
		}
	}
	return out
}

// cover masks the parts of a leg, each in its way.
type cover struct {
	set *mask.Set
	off bool
}

func (c cover) text(s string) string { return c.through(s, nil) }

func (c cover) url(s string) string { return c.through(s, mask.URL) }

func (c cover) loose(s string) string { return c.through(s, mask.Loose) }

func (c cover) through(s string, named func(string) string) string {
	if c.off {
		return s
	}
	if named != nil {
		s = named(s)
	}
	return c.set.Replace(s)
}

func (c cover) header(name, value, placed string) string {
	return c.through(value, func(v string) string { return mask.Header(name, v, placed) })
}

// body masks a body; of a call's, which is data, less by name.
func (c cover) body(kind Kind, mediaType, text string) string {
	return c.through(text, func(s string) string {
		if kind == Call {
			return mask.Data(mediaType, s)
		}
		return mask.Body(mediaType, s)
	})
}

// Record makes the masked copy of one leg.
func (l *Leg) Record(set *mask.Set) LegRecord { return l.record(cover{set: set}) }

func (l *Leg) record(c cover) LegRecord {
	out := LegRecord{N: l.N, Name: l.Kind, Inbound: l.Inbound, Method: l.Method, URL: c.url(l.URL),
		Status: l.Status(), Note: c.text(l.Note), At: l.At.UTC(), Ms: float64(l.Took.Microseconds()) / 1000}
	x := l.Exchange
	if x == nil {
		return out
	}
	out.Request = c.message(l.Kind, x.Request.Header, x.Request.Body, l.Placed)
	if x.Response != nil {
		out.Response = c.message(l.Kind, x.Response.Header, x.Response.Body, "")
		out.Response.Truncated = out.Response.Truncated || x.Response.Truncated
	}
	if x.Failure != nil {
		f := *x.Failure
		f.Detail = c.loose(f.Detail)
		out.Failure = &f
	}
	out.Timing, out.Peer = &x.Timing, &x.Peer
	return out
}

func (c cover) message(kind Kind, h http.Header, body []byte, placed string) *Message {
	m := &Message{Headers: make(map[string][]string, len(h)), Size: len(body)}
	for name, values := range h {
		kept := make([]string, len(values))
		for i, v := range values {
			kept[i] = c.header(name, v, placed)
		}
		m.Headers[name] = kept
	}
	m.MediaType = (&wire.Response{Header: h}).MediaType()
	if len(body) == 0 {
		return m
	}
	if !utf8.Valid(body) {
		head := body[:min(len(body), 48)]
		m.Body, m.Truncated = "[binary, begins "+base64.StdEncoding.EncodeToString(head)+"]", true
		return m
	}
	// masked before it is cut, so that no half of a secret is left at the edge
	text := c.body(kind, m.MediaType, string(body))
	if len(text) > maxKept {
		cut := maxKept
		for !utf8.RuneStart(text[cut]) {
			cut--
		}
		text, m.Truncated = text[:cut], true
	}
	m.Body = text
	return m
}
