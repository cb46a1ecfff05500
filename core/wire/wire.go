// Package wire sends one HTTP request and records everything about the answer:
// a Sender takes a Request and returns an Exchange. It follows no redirect,
// retries nothing and decides nothing.
//
// The answer is hostile until proven otherwise: sizes and times are bounded by
// Limits, TLS is verified, and plain http goes to loopback only unless a host
// was allowed by name. A request that got no answer is an Exchange too, with
// its Failure set, so that what was tried is recorded like everything else.
package wire

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"time"

	"tidycourier/core/fault"
)

// Request is what to send. Body may be nil.
type Request struct {
	Method string
	URL    string
	Header http.Header
	Body   []byte
	// Sink takes the body of a successful answer in place of Response.Body, as it
	// comes and however long it is; nil keeps it in memory. It is asked once the
	// header is there.
	Sink func(r *Response) (io.Writer, error)
}

// Timing is how long the parts of an exchange took. A part that did not happen
// (a kept-alive connection needs no Connect) is zero.
type Timing struct {
	DNS       time.Duration `json:"dns,omitempty"`
	Connect   time.Duration `json:"connect,omitempty"`
	TLS       time.Duration `json:"tls,omitempty"`
	FirstByte time.Duration `json:"first_byte,omitempty"` // from start to the answer's first byte
	Total     time.Duration `json:"total"`
}

// Peer is who answered.
type Peer struct {
	Address    string    `json:"address,omitempty"`     // host:port
	TLSVersion string    `json:"tls_version,omitempty"` // "TLS 1.3"
	NotAfter   time.Time `json:"not_after,omitzero"`    // of the leaf certificate
}

// Response is an answer as it came.
type Response struct {
	Status    int
	Proto     string // "HTTP/1.1"
	Header    http.Header
	Body      []byte // decoded from gzip or zstd, at most Limits.Body bytes
	Truncated bool   // more came than Limits.Body, or the connection broke in the middle
	Streamed  int64  // bytes that went into the Sink
	Length    int64  // as Content-Length said, -1 when it did not
}

// MediaType is the answer's Content-Type without parameters, in lower case.
func (r *Response) MediaType() string {
	if r == nil {
		return ""
	}
	mt, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
	return strings.ToLower(strings.TrimSpace(mt))
}

// Date is the server's clock when it answered (RFC 9110 6.6.1); the zero time
// when it did not say.
func (r *Response) Date() time.Time {
	if r == nil {
		return time.Time{}
	}
	at, _ := http.ParseTime(r.Header.Get("Date")) // the zero time for anything else
	return at
}

// Exchange is one request and what became of it: exactly one of Response and
// Failure is set, except for an answer that broke off, which has both.
type Exchange struct {
	Request  Request
	Response *Response
	Failure  *Failure
	Started  time.Time
	Timing   Timing
	Peer     Peer
}

// Limits bound what a server can make us wait for or hold.
type Limits struct {
	Connect time.Duration // name look-up, TCP and TLS
	Total   time.Duration // the whole exchange
	Body    int64         // bytes of body kept
	Header  int64         // bytes of header accepted
	Sink    int64         // bytes that go into a Request's Sink; 0 means DefaultLimits.Sink
}

// DefaultLimits suit a person at a terminal: token answers and API pages are
// far below 32 MiB, and nobody waits longer than 30 s for one.
var DefaultLimits = Limits{Connect: 10 * time.Second, Total: 30 * time.Second, Body: 32 << 20, Header: 256 << 10, Sink: 64 << 30}

// Options make a Sender.
type Options struct {
	Limits    Limits
	CACert    string          // PEM file of further authorities to trust
	PlainHTTP map[string]bool // hosts that plain http may be sent to, besides loopback
	UserAgent string
	Now       func() time.Time
}

// Sender sends requests over kept-alive connections. It is safe for concurrent use.
type Sender struct {
	transport *http.Transport
	opt       Options
}

// NewSender makes a Sender. A CACert that cannot be read or holds no
// certificate is an error of kind settings.
func NewSender(opt Options) (*Sender, error) {
	if opt.Limits == (Limits{}) {
		opt.Limits = DefaultLimits
	}
	if opt.Limits.Sink == 0 {
		opt.Limits.Sink = DefaultLimits.Sink
	}
	if opt.Now == nil {
		opt.Now = time.Now
	}
	dialer := &net.Dialer{Timeout: opt.Limits.Connect}
	t := &http.Transport{
		Proxy:                  http.ProxyFromEnvironment,
		DialContext:            dialer.DialContext,
		TLSHandshakeTimeout:    opt.Limits.Connect,
		MaxResponseHeaderBytes: opt.Limits.Header,
		MaxIdleConnsPerHost:    16,
		IdleConnTimeout:        90 * time.Second,
		ForceAttemptHTTP2:      true,
		TLSClientConfig:        &tls.Config{MinVersion: tls.VersionTLS12},
	}
	if opt.CACert != "" {
		pool, err := authorities(opt.CACert)
		if err != nil {
			return nil, err
		}
		t.TLSClientConfig.RootCAs = pool
	}
	return &Sender{transport: t, opt: opt}, nil
}

// authorities is the system's pool with a PEM file's certificates added.
func authorities(path string) (*x509.CertPool, error) {
	pem, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the file of trusted authorities could not be read").At("--cacert")
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fault.New(fault.Settings, "%s holds no PEM certificate", path).At("--cacert").
			Hint("the file must contain blocks that begin with -----BEGIN CERTIFICATE-----")
	}
	return pool, nil
}

// Close ends the kept-alive connections.
func (s *Sender) Close() { s.transport.CloseIdleConnections() }

// Send sends one request and waits for its answer. The error is only for
// requests that must not be sent at all (a malformed URL, plain http to a host
// that was not allowed); what happens on the network is in the Exchange.
func (s *Sender) Send(ctx context.Context, r Request) (Exchange, error) {
	x := Exchange{Request: r, Started: s.opt.Now()}
	u, err := url.Parse(r.URL)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return x, fault.New(fault.Settings, "%q is not an http or https URL", r.URL).Hint("give scheme, host and path, as in https://tides.example/token")
	}
	if u.Scheme == "http" && !Loopback(u.Hostname()) && !s.opt.PlainHTTP[u.Hostname()] {
		return x, fault.New(fault.Settings, "%s would be sent over plain http, readable by anyone on the way", r.URL).
			Hint("use https, or allow this one host by name with --plain-http %s", u.Hostname())
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	// a body that goes into a sink may take its time, as long as something comes
	patience := &patience{limit: s.opt.Limits.Total}
	patience.timer = time.AfterFunc(s.opt.Limits.Total, func() { cancel(context.DeadlineExceeded) })
	defer patience.timer.Stop()
	start := time.Now()
	ctx = httptrace.WithClientTrace(ctx, tracer(&x, start))
	req, err := s.request(ctx, u, r)
	if err != nil {
		return x, err
	}
	x.Request.Header = req.Header
	s.roundTrip(ctx, req, &x, start, patience)
	return x, nil
}

func (s *Sender) request(ctx context.Context, u *url.URL, r Request) (*http.Request, error) {
	var body io.Reader
	if r.Body != nil {
		body = bytes.NewReader(r.Body)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, u.String(), body)
	if err != nil {
		return nil, fault.Wrap(fault.Settings, err, "the request %s %s cannot be made", r.Method, r.URL)
	}
	if r.Header != nil {
		req.Header = r.Header.Clone()
	}
	for name, values := range req.Header {
		for _, v := range values {
			if strings.ContainsAny(v, "\r\n\x00") {
				return nil, fault.New(fault.Settings, "the value of header %s contains a line break or NUL, which HTTP forbids", name).
					Hint("look for a trailing newline in the value's source")
			}
		}
	}
	if req.Header.Get("User-Agent") == "" && s.opt.UserAgent != "" {
		req.Header.Set("User-Agent", s.opt.UserAgent)
	}
	if req.Header.Get("Accept-Encoding") == "" && r.Method != http.MethodHead {
		req.Header.Set("Accept-Encoding", accepted)
	}
	if host := req.Header.Get("Host"); host != "" {
		req.Host = host
	}
	return req, nil
}

func (s *Sender) roundTrip(ctx context.Context, req *http.Request, x *Exchange, start time.Time, p *patience) {
	resp, err := s.transport.RoundTrip(req)
	if err != nil {
		x.Timing.Total = time.Since(start)
		x.Failure = p.classify(ctx, err, req.URL)
		return
	}
	defer resp.Body.Close()
	x.Response = &Response{Status: resp.StatusCode, Proto: resp.Proto, Header: resp.Header, Length: resp.ContentLength}
	if resp.TLS != nil {
		x.Peer.TLSVersion = tls.VersionName(resp.TLS.Version)
		if len(resp.TLS.PeerCertificates) > 0 {
			x.Peer.NotAfter = resp.TLS.PeerCertificates[0].NotAfter
		}
	}
	body, err := decoded(resp)
	if err == nil && x.Request.Sink != nil && resp.StatusCode < 300 {
		err = stream(x, body, p, s.opt.Limits.Sink)
	} else if err == nil {
		x.Response.Body, err = io.ReadAll(io.LimitReader(body, s.opt.Limits.Body+1))
	}
	x.Timing.Total = time.Since(start)
	switch {
	case errors.Is(err, errEndless):
		x.Response.Truncated = true
		x.Failure = &Failure{Kind: AnswerTooLarge, Detail: "the answer is larger than the limit of " + byteCount(s.opt.Limits.Sink), Partial: true}
	case int64(len(x.Response.Body)) > s.opt.Limits.Body:
		x.Response.Body, x.Response.Truncated = x.Response.Body[:s.opt.Limits.Body], true
		x.Failure = &Failure{Kind: AnswerTooLarge, Detail: "the answer is larger than the limit of " + byteCount(s.opt.Limits.Body)}
	case err != nil:
		x.Response.Truncated = true
		x.Failure = p.classify(ctx, err, req.URL)
		x.Failure.Partial = true
	}
}

// tracer records the parts of the exchange.
func tracer(x *Exchange, start time.Time) *httptrace.ClientTrace {
	var dns, connect, handshake time.Time
	return &httptrace.ClientTrace{
		DNSStart:             func(httptrace.DNSStartInfo) { dns = time.Now() },
		DNSDone:              func(httptrace.DNSDoneInfo) { x.Timing.DNS = time.Since(dns) },
		ConnectStart:         func(string, string) { connect = time.Now() },
		ConnectDone:          func(string, string, error) { x.Timing.Connect = time.Since(connect) },
		TLSHandshakeStart:    func() { handshake = time.Now() },
		TLSHandshakeDone:     func(tls.ConnectionState, error) { x.Timing.TLS = time.Since(handshake) },
		GotFirstResponseByte: func() { x.Timing.FirstByte = time.Since(start) },
		GotConn: func(info httptrace.GotConnInfo) {
			x.Peer.Address = info.Conn.RemoteAddr().String()
		},
	}
}

// Loopback reports whether a host name or address is this machine's own.
func Loopback(host string) bool {
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	addr, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil && addr.IsLoopback()
}

// SameOrigin compares scheme, host and port (RFC 6454 4).
func SameOrigin(a, b *url.URL) bool {
	return strings.EqualFold(a.Scheme, b.Scheme) && strings.EqualFold(a.Hostname(), b.Hostname()) && port(a) == port(b)
}

func port(u *url.URL) string {
	if p := u.Port(); p != "" {
		return p
	}
	if strings.EqualFold(u.Scheme, "https") {
		return "443"
	}
	return "80"
}
