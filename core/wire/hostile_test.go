package wire

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rawServer answers every connection with these bytes, and then closes or hangs.
func rawServer(t *testing.T, hang bool, pieces ...string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan struct{})
	t.Cleanup(func() { close(done); _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				r := bufio.NewReader(c)
				for line, err := r.ReadString('\n'); err == nil && strings.TrimSpace(line) != ""; line, err = r.ReadString('\n') {
				}
				for _, p := range pieces {
					_, _ = io.WriteString(c, p)
				}
				if hang {
					<-done
				}
			}()
		}
	}()
	return "http://" + l.Addr().String()
}

func fetch(t *testing.T, url string, limits Limits, sink io.Writer) Exchange {
	t.Helper()
	s, err := NewSender(Options{Limits: limits})
	require.NoError(t, err)
	defer s.Close()
	r := Request{Method: "GET", URL: url}
	if sink != nil {
		r.Sink = func(*Response) (io.Writer, error) { return sink, nil }
	}
	x, err := s.Send(context.Background(), r)
	require.NoError(t, err)
	return x
}

var short = Limits{Connect: time.Second, Total: 300 * time.Millisecond, Body: 1 << 20, Header: 64 << 10}

func TestAnswersThatGoWrongHalfway(t *testing.T) {
	head := "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n"
	tests := []struct {
		name   string
		hang   bool
		pieces []string
		kind   FailureKind
		body   string
	}{
		{"closed in the middle", false, []string{head + "Content-Length: 100\r\n\r\n{\"a\":"}, ConnectionReset, `{"a":`},
		{"a chunk cut off", false, []string{head + "Transfer-Encoding: chunked\r\n\r\n5\r\n{\"a\":\r\nff\r\nx"}, ConnectionReset, `{"a":x`},
		{"never goes on", true, []string{head + "Content-Length: 100\r\n\r\n{"}, TimeoutWaiting, "{"},
		{"never answers", true, nil, TimeoutWaiting, ""},
		{"longer than said", false, []string{head + "Content-Length: 2\r\n\r\n{}and more of it"}, "", "{}"},
		{"no HTTP at all", false, []string{"SSH-2.0-tide\r\n"}, UnspecifiedFailure, ""},
		{"not gzip", false, []string{head + "Content-Encoding: gzip\r\nContent-Length: 5\r\n\r\nplain"}, UnspecifiedFailure, ""},
		{"a compression not asked for", false, []string{head + "Content-Encoding: br\r\nContent-Length: 2\r\n\r\nxx"}, UnspecifiedFailure, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			url := rawServer(t, tt.hang, tt.pieces...)
			start := time.Now()
			x := fetch(t, url, short, nil)
			assert.Less(t, time.Since(start), 10*time.Second, "none hangs")
			if tt.kind == "" {
				assert.Nil(t, x.Failure)
			} else if assert.NotNil(t, x.Failure) {
				assert.Equal(t, tt.kind, x.Failure.Kind, x.Failure.Detail)
			}
			if tt.body != "" && assert.NotNil(t, x.Response) {
				assert.Equal(t, tt.body, string(x.Response.Body), "what came is kept")
			}
			// the same into a sink
			var b bytes.Buffer
			x = fetch(t, url, short, &b)
			assert.Equal(t, tt.kind == "", x.Failure == nil)
		})
	}
}

func TestBodiesThatNeverEnd(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for r.Context().Err() == nil {
			if _, err := w.Write(bytes.Repeat([]byte("tide "), 1000)); err != nil {
				return
			}
		}
	}))
	defer srv.Close()
	x := fetch(t, srv.URL, short, nil)
	require.NotNil(t, x.Failure)
	assert.Equal(t, AnswerTooLarge, x.Failure.Kind)
	assert.Len(t, x.Response.Body, int(short.Body))
	few := short
	few.Sink = 3 << 20
	var b bytes.Buffer
	x = fetch(t, srv.URL, few, &b)
	require.NotNil(t, x.Failure)
	assert.Equal(t, AnswerTooLarge, x.Failure.Kind, "not even a file takes without end")
	assert.LessOrEqual(t, b.Len(), 3<<20)
}

// slowly is a body that takes longer than Total, but keeps coming.
func TestASinkWaitsAsLongAsSomethingComes(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		for range 8 {
			fmt.Fprint(w, "tide ")
			w.(http.Flusher).Flush()
			time.Sleep(100 * time.Millisecond)
		}
	}))
	defer srv.Close()
	var b bytes.Buffer
	x := fetch(t, srv.URL, short, &b)
	assert.Nil(t, x.Failure)
	assert.Equal(t, []any{int64(40), 40}, []any{x.Response.Streamed, b.Len()})
	x = fetch(t, srv.URL, short, nil)
	require.NotNil(t, x.Failure, "in memory the whole answer has its time")
	assert.Equal(t, TimeoutWaiting, x.Failure.Kind)
}

type fullDisk struct{}

func (fullDisk) Write([]byte) (int, error) { return 0, errors.New("no space left on device") }

func TestASinkThatFailsIsNoFaultOfTheServer(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "x") }))
	defer srv.Close()
	x := fetch(t, srv.URL, short, fullDisk{})
	require.NotNil(t, x.Failure)
	assert.Equal(t, SinkFailed, x.Failure.Kind)
	assert.Contains(t, x.Failure.Detail, "no space")
}

func TestCompression(t *testing.T) {
	const text = `{"stations":"all of them, all of them, all of them"}`
	var gz, zs bytes.Buffer
	g := gzip.NewWriter(&gz)
	_, _ = g.Write([]byte(text))
	_ = g.Close()
	z, err := zstd.NewWriter(&zs)
	require.NoError(t, err)
	_, _ = z.Write([]byte(text))
	_ = z.Close()
	for name, body := range map[string][]byte{"gzip": gz.Bytes(), "zstd": zs.Bytes(), "identity": []byte(text)} {
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, accepted, r.Header.Get("Accept-Encoding"))
			w.Header().Set("Content-Encoding", name)
			_, _ = w.Write(body)
		}))
		x := fetch(t, srv.URL, short, nil)
		require.Nil(t, x.Failure, name)
		assert.Equal(t, text, string(x.Response.Body), name)
		srv.Close()
	}
	var bomb bytes.Buffer
	g = gzip.NewWriter(&bomb)
	for range 64 {
		_, _ = g.Write(make([]byte, 1<<20))
	}
	_ = g.Close()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Encoding", "gzip")
		_, _ = w.Write(bomb.Bytes())
	}))
	defer srv.Close()
	x := fetch(t, srv.URL, short, nil)
	require.NotNil(t, x.Failure)
	assert.Equal(t, AnswerTooLarge, x.Failure.Kind, "what it unpacks to counts")
}

func TestHTTP2Resets(t *testing.T) {
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, 2, r.ProtoMajor)
		if r.URL.Path == "/half" {
			fmt.Fprint(w, "half")
			w.(http.Flusher).Flush()
		}
		panic(http.ErrAbortHandler) // RST_STREAM
	}))
	srv.EnableHTTP2 = true
	srv.StartTLS()
	defer srv.Close()
	s, err := NewSender(Options{Limits: short})
	require.NoError(t, err)
	defer s.Close()
	s.transport.TLSClientConfig = &tls.Config{RootCAs: srv.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs}
	for path, partial := range map[string]bool{"/": false, "/half": true} {
		x, err := s.Send(context.Background(), Request{Method: "GET", URL: srv.URL + path})
		require.NoError(t, err)
		require.NotNil(t, x.Failure, path)
		assert.Equal(t, ConnectionReset, x.Failure.Kind, x.Failure.Detail)
		assert.Equal(t, partial, x.Failure.Partial)
	}
}
