package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"syscall"
)

// FailureKind names why no (whole) answer came. The names are those of the
// findings that explain them.
type FailureKind string

const (
	NameNotResolved    FailureKind = "name-not-resolved"
	ConnectionRefused  FailureKind = "connection-refused"
	ConnectionReset    FailureKind = "connection-reset"
	TimeoutConnecting  FailureKind = "timeout-connecting"
	TimeoutWaiting     FailureKind = "timeout-waiting"
	TLSUnknownAuth     FailureKind = "tls-unknown-authority"
	TLSExpired         FailureKind = "tls-expired"
	TLSNameMismatch    FailureKind = "tls-name-mismatch"
	TLSProtocol        FailureKind = "tls-protocol-mismatch"
	TLSOnPlainPort     FailureKind = "tls-on-plain-http-port"
	PlainOnTLSPort     FailureKind = "plain-http-on-tls-port"
	ProxyRefused       FailureKind = "proxy-refused"
	ProxyNeedsLogin    FailureKind = "proxy-needs-login"
	AnswerTooLarge     FailureKind = "answer-too-large"
	Interrupted        FailureKind = "interrupted"
	SinkFailed         FailureKind = "save-failed" // the place the body was to go to, not the server
	UnspecifiedFailure FailureKind = "unreachable"
)

// Failure is why no whole answer came.
type Failure struct {
	Kind    FailureKind `json:"kind"`
	Detail  string      `json:"detail"`            // one line
	Partial bool        `json:"partial,omitempty"` // an answer began and broke off
}

// classify names a transport error.
func classify(ctx context.Context, err error, u *url.URL) *Failure {
	f := &Failure{Kind: UnspecifiedFailure, Detail: err.Error()}
	var dns *net.DNSError
	var op *net.OpError
	var record tls.RecordHeaderError
	dialing := errors.As(err, &op) && op.Op == "dial"
	text := err.Error()
	switch {
	case errors.Is(context.Cause(ctx), context.Canceled) && ctx.Err() == context.Canceled:
		f.Kind, f.Detail = Interrupted, "stopped before the answer came"
	case errors.As(err, &op) && op.Op == "proxyconnect":
		f.Kind = ProxyRefused
	case strings.Contains(text, "Proxy Authentication Required"):
		f.Kind = ProxyNeedsLogin
	case errors.As(err, &dns):
		f.Kind, f.Detail = NameNotResolved, fmt.Sprintf("the name %s has no address", dns.Name)
		if dns.IsTimeout {
			f.Detail = fmt.Sprintf("the name server did not answer for %s", dns.Name)
		}
	case errors.Is(err, syscall.ECONNREFUSED):
		f.Kind, f.Detail = ConnectionRefused, "nothing listens at "+u.Host
	case tlsFailure(err, f):
	case errors.As(err, &record):
		f.Kind, f.Detail = TLSOnPlainPort, "the server at "+u.Host+" does not speak TLS"
	case strings.Contains(text, "server gave HTTP response to HTTPS client"):
		f.Kind, f.Detail = TLSOnPlainPort, "the server at "+u.Host+" answered in plain http"
	case strings.Contains(text, `malformed HTTP response "\x15\x03`):
		f.Kind, f.Detail = PlainOnTLSPort, "the server at "+u.Host+" answered with TLS"
	case timedOut(err):
		f.Kind, f.Detail = TimeoutWaiting, "the server took the request and did not answer in time"
		if dialing || strings.Contains(text, "TLS handshake timeout") {
			f.Kind, f.Detail = TimeoutConnecting, "no connection to "+u.Host+" in time"
		}
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), strings.Contains(text, "stream error: stream ID"), strings.Contains(text, "http2: server sent GOAWAY"):
		f.Kind, f.Detail = ConnectionReset, "the server closed the connection before the answer was complete"
	case strings.Contains(text, "server response headers exceeded"):
		f.Kind, f.Detail = AnswerTooLarge, "the answer's headers are larger than the limit"
	}
	return f
}

func timedOut(err error) bool {
	var n net.Error
	return errors.Is(err, context.DeadlineExceeded) || (errors.As(err, &n) && n.Timeout())
}

// tlsFailure fills f when the certificate or the handshake is to blame.
func tlsFailure(err error, f *Failure) bool {
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	var alert tls.AlertError
	switch {
	case errors.As(err, &host):
		f.Kind, f.Detail = TLSNameMismatch, host.Error()
	case errors.As(err, &unknown):
		f.Kind, f.Detail = TLSUnknownAuth, "the certificate is signed by an authority this machine does not trust"
		if unknown.Cert != nil {
			f.Detail += " (issuer: " + unknown.Cert.Issuer.String() + ")"
		}
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		f.Kind, f.Detail = TLSExpired, invalid.Error()
	case errors.As(err, &invalid):
		f.Kind, f.Detail = TLSUnknownAuth, invalid.Error()
	case errors.As(err, &alert), strings.Contains(err.Error(), "tls: protocol version"), strings.Contains(err.Error(), "tls: no supported versions"):
		f.Kind, f.Detail = TLSProtocol, err.Error()
	default:
		return false
	}
	return true
}

func byteCount(n int64) string {
	switch {
	case n >= 1<<20 && n%(1<<20) == 0:
		return fmt.Sprintf("%d MiB", n>>20)
	case n >= 1<<10 && n%(1<<10) == 0:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return fmt.Sprintf("%d bytes", n)
}
