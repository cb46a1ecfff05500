package wire

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
)

// accepted is what an answer may be compressed with.
const accepted = "gzip, zstd"

// maxWindow bounds the memory that a zstd frame may ask for (RFC 9659 3).
const maxWindow = 8 << 20

// sinkError is a failure of the sink, which is on our side.
type sinkError struct{ error }

func (e sinkError) Unwrap() error { return e.error }

// patience ends an exchange that takes too long. Into a sink only silence does:
// the clock starts anew with every piece.
type patience struct {
	limit time.Duration
	timer *time.Timer
}

func (p *patience) renew() { p.timer.Reset(p.limit) }

// classify tells a time-out of ours from a stop by the user.
func (p *patience) classify(ctx context.Context, err error, u *url.URL) *Failure {
	var sink sinkError
	if errors.As(err, &sink) {
		return &Failure{Kind: SinkFailed, Detail: sink.Error()}
	}
	if errors.Is(context.Cause(ctx), context.DeadlineExceeded) && !timedOut(err) {
		err = context.DeadlineExceeded
	}
	return classify(ctx, err, u)
}

// decoded undoes the compression of an answer; its header stays as it came.
func decoded(resp *http.Response) (io.Reader, error) {
	switch name := strings.ToLower(strings.TrimSpace(resp.Header.Get("Content-Encoding"))); name {
	case "", "identity":
		return resp.Body, nil
	case "gzip", "x-gzip":
		r, err := gzip.NewReader(resp.Body)
		if err != nil {
			return nil, fmt.Errorf("the body is not %s, as its header says: %s", name, err.Error()) // not wrapped: a short body is no cut connection here
		}
		return r, nil
	case "zstd":
		return zstd.NewReader(resp.Body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
	default:
		return nil, fmt.Errorf("the body is compressed with %q, which was not asked for (Accept-Encoding: %s)", name, accepted)
	}
}

// errEndless ends a body that goes beyond what a sink takes.
var errEndless = errors.New("the body does not end")

// stream hands the body to the sink as it comes.
func stream(x *Exchange, body io.Reader, p *patience, limit int64) error {
	w, err := x.Request.Sink(x.Response)
	if err != nil {
		return sinkError{err}
	}
	buf := make([]byte, 64<<10)
	for {
		n, err := body.Read(buf)
		if n > 0 {
			p.renew()
			if x.Response.Streamed+int64(n) > limit {
				return errEndless
			}
			if _, bad := w.Write(buf[:n]); bad != nil {
				return sinkError{bad}
			}
			x.Response.Streamed += int64(n)
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
