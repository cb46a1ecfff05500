package cli_test

import (
	"bufio"
	"bytes"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/cli"
)

// answering is a server that answers every request with the same bytes, and keeps
// the connection.
func answering(t *testing.T, answer string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				for in := bufio.NewReader(conn); ; {
					if _, err := http.ReadRequest(in); err != nil {
						return
					}
					if _, err := conn.Write([]byte(answer)); err != nil {
						return
					}
				}
			}()
		}
	}()
	return "http://" + l.Addr().String()
}

func TestABodyLongerThanSaidIsNamed(t *testing.T) {
	head := "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n{}"
	for answer, want := range map[string]bool{head: false, head + "and more of it": true} {
		url := answering(t, answer)
		for range 5 {
			dir := t.TempDir()
			env := map[string]string{"TIDY_COURIER_KEYRING": "off", "TIDY_COURIER_STATE": filepath.Join(dir, "state")}
			var out, errs bytes.Buffer
			status := cli.Main([]string{"call", "GET", url + "/x", "--bare"}, cli.Surroundings{In: strings.NewReader(""), Out: &out, Err: &errs,
				Env: func(n string) (string, bool) { v, ok := env[n]; return v, ok }, Dir: dir, Now: time.Now})
			assert.Zero(t, status)
			assert.Equal(t, "{}", strings.TrimSpace(out.String()))
			assert.Equal(t, want, strings.Contains(errs.String(), "body-longer-than-said"), errs.String())
			assert.NotContains(t, errs.String(), "and more of it")
		}
	}
}
