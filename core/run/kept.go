package run

import (
	"encoding/json"
	"time"

	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/wire"
)

// Kept is a Run as the journal seals it: every exchange as it was, and beside
// them what is to be masked, so that the masked copy can be made again whenever
// the run is shown. The fields' order is the form in which it is stored.
type Kept struct {
	_        struct{} `cbor:",toarray"`
	Command  string
	Stage    string
	Client   string
	Server   string
	Grant    string
	Detail   string
	Call     string
	Started  int64 // nanoseconds since 1970
	Legs     []KeptLeg
	Token    []byte // a TokenView in JSON, or empty
	Findings []byte // as JSON, or empty
	Error    []byte // a Failure in JSON, or empty
	Secrets  []string
	Hidden   []string // passwords
}

// KeptLeg is a Leg as it is stored.
type KeptLeg struct {
	_        struct{} `cbor:",toarray"`
	Kind     Kind
	Inbound  bool
	Method   string
	URL      string
	Note     string
	Took     time.Duration
	At       int64
	Placed   string
	Request  *KeptMessage
	Response *KeptMessage
	Status   int
	Proto    string
	Length   int64
	Streamed int64
	Cut      bool // the response was cut by a limit
	Failure  *keptFailure
	Started  int64
	Timing   [5]time.Duration
	Address  string
	TLS      string
	NotAfter int64
	Values   map[string][]string // of a redirect received
	Via      string
}

// KeptMessage is a header and a body. Of a body beyond maxKept only its masked
// beginning is stored, since a cut in the middle of a secret could not be masked.
type KeptMessage struct {
	_       struct{} `cbor:",toarray"`
	Header  map[string][]string
	Body    []byte
	Size    int // of a body that is not stored whole
	Masked  string
	IsShort bool
}

type keptFailure struct {
	_       struct{} `cbor:",toarray"`
	Kind    wire.FailureKind
	Detail  string
	Partial bool
}

// Keep makes the form that is stored. Nothing of it is masked, except for the
// bodies that are too long to be kept whole.
func (r *Run) Keep(set *mask.Set) (*Kept, error) {
	k := &Kept{Command: r.Command, Stage: r.Stage, Client: r.Client, Server: r.Server, Grant: r.Grant, Detail: r.Detail, Call: r.Call,
		Started: nanos(r.Started), Legs: make([]KeptLeg, len(r.Legs))}
	k.Secrets, k.Hidden = set.Values()
	for i := range r.Legs {
		k.Legs[i] = r.Legs[i].keep(set)
	}
	var err error
	for _, part := range []struct {
		into  *[]byte
		there bool
		value any
	}{{&k.Token, r.Token != nil, r.Token}, {&k.Findings, len(r.Findings) > 0, r.Findings}, {&k.Error, r.Error != nil, r.Error}} {
		if !part.there {
			continue
		}
		if *part.into, err = json.Marshal(part.value); err != nil {
			return nil, err
		}
	}
	return k, nil
}

func (l *Leg) keep(set *mask.Set) KeptLeg {
	k := KeptLeg{Kind: l.Kind, Inbound: l.Inbound, Method: l.Method, URL: l.URL, Note: l.Note, Took: l.Took, At: nanos(l.At), Placed: l.Placed}
	if a := l.Answer; a != nil {
		k.Values, k.Via = a.Values, a.Via
	}
	x := l.Exchange
	if x == nil {
		return k
	}
	k.Request = l.keepMessage(x.Request.Header, x.Request.Body, set)
	if r := x.Response; r != nil {
		k.Response = l.keepMessage(r.Header, r.Body, set)
		k.Status, k.Proto, k.Length, k.Streamed, k.Cut = r.Status, r.Proto, r.Length, r.Streamed, r.Truncated
	}
	if f := x.Failure; f != nil {
		k.Failure = &keptFailure{Kind: f.Kind, Detail: f.Detail, Partial: f.Partial}
	}
	t := x.Timing
	k.Started, k.Timing = nanos(x.Started), [5]time.Duration{t.DNS, t.Connect, t.TLS, t.FirstByte, t.Total}
	k.Address, k.TLS, k.NotAfter = x.Peer.Address, x.Peer.TLSVersion, nanos(x.Peer.NotAfter)
	return k
}

func (l *Leg) keepMessage(h map[string][]string, body []byte, set *mask.Set) *KeptMessage {
	m := &KeptMessage{Header: h, Body: body}
	if len(body) > maxKept {
		short := cover{set: set}.message(l.Kind, h, body, "")
		m.Body, m.Size, m.Masked, m.IsShort = nil, len(body), short.Body, true
	}
	return m
}

// Record gives the masked copy of run n, or with reveal everything that was kept.
func (k *Kept) Record(n int64, reveal bool) (*Record, error) {
	r, set, err := k.Run(n)
	if err != nil {
		return nil, err
	}
	c := cover{set: set}
	if reveal {
		c = cover{off: true}
	}
	rec := r.record(c)
	for i := range k.Legs {
		for _, m := range []struct {
			kept *KeptMessage
			rec  *Message
		}{{k.Legs[i].Request, rec.Legs[i].Request}, {k.Legs[i].Response, rec.Legs[i].Response}} {
			if m.kept != nil && m.kept.IsShort {
				m.rec.Size, m.rec.Truncated = m.kept.Size, true
			}
		}
	}
	return &rec, nil
}

// Run gives the run back, and the set that masks it. A body that was not stored
// whole is its masked beginning.
func (k *Kept) Run(n int64) (*Run, *mask.Set, error) {
	set := &mask.Set{}
	set.Add(k.Secrets...)
	set.AddPassword(k.Hidden...)
	r := &Run{N: n, Command: k.Command, Stage: k.Stage, Client: k.Client, Server: k.Server, Grant: k.Grant, Detail: k.Detail, Call: k.Call,
		Started: moment(k.Started), Legs: make([]Leg, len(k.Legs))}
	for i := range k.Legs {
		r.Legs[i] = k.Legs[i].leg(i + 1)
	}
	for _, part := range []struct {
		from []byte
		into any
	}{{k.Token, &r.Token}, {k.Findings, &r.Findings}, {k.Error, &r.Error}} {
		if len(part.from) == 0 {
			continue
		}
		if err := json.Unmarshal(part.from, part.into); err != nil {
			return nil, nil, err
		}
	}
	return r, set, nil
}

func (k *KeptLeg) leg(n int) Leg {
	l := Leg{N: n, Kind: k.Kind, Inbound: k.Inbound, Method: k.Method, URL: k.URL, Note: k.Note, Took: k.Took, At: moment(k.At), Placed: k.Placed}
	if k.Via != "" {
		a := oauth.ReadAuthorizationValues(k.Values, k.Via)
		l.Answer = &a
	}
	if k.Request == nil {
		return l
	}
	x := &wire.Exchange{Request: wire.Request{Method: k.Method, URL: k.URL, Header: k.Request.Header, Body: k.Request.body()}, Started: moment(k.Started),
		Timing: wire.Timing{DNS: k.Timing[0], Connect: k.Timing[1], TLS: k.Timing[2], FirstByte: k.Timing[3], Total: k.Timing[4]},
		Peer:   wire.Peer{Address: k.Address, TLSVersion: k.TLS, NotAfter: moment(k.NotAfter)}}
	if k.Response != nil {
		x.Response = &wire.Response{Status: k.Status, Proto: k.Proto, Header: k.Response.Header, Body: k.Response.body(), Length: k.Length, Streamed: k.Streamed,
			Truncated: k.Cut || k.Response.IsShort}
	}
	if f := k.Failure; f != nil {
		x.Failure = &wire.Failure{Kind: f.Kind, Detail: f.Detail, Partial: f.Partial}
	}
	l.Exchange = x
	return l
}

func (m *KeptMessage) body() []byte {
	if m.IsShort {
		return []byte(m.Masked)
	}
	return m.Body
}

// nanos is a moment as it is stored; 0 is none.
func nanos(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

func moment(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n).UTC()
}
