package cli_test

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/standin"
)

// office is a stand-in in this process, whose clock can be moved and whose
// requests are counted, with a project for it.
type office struct {
	t     *testing.T
	dir   string
	self  string
	s     *standin.Server
	delay time.Duration // of each answer of the token endpoint
}

func newOffice(t *testing.T, approve string) *office {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	o := &office{t: t, dir: t.TempDir(), self: filepath.Join(t.TempDir(), "tidy-courier")}
	require.NoError(t, os.Symlink(self, o.self)) // the test binary answers to the program's name
	srv := httptest.NewUnstartedServer(nil)
	o.s, err = standin.New(standin.Config{Issuer: "http://" + srv.Listener.Addr().String(), Approve: approve})
	require.NoError(t, err)
	next := o.s.Handler()
	srv.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/token" {
			time.Sleep(o.delay)
		}
		next.ServeHTTP(w, r)
	})
	srv.Start()
	t.Cleanup(srv.Close)
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "courier.yaml"), o.s.CourierFile(), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, ".env"), o.s.EnvFile(), 0o600))
	return o
}

func (o *office) command(args ...string) *exec.Cmd {
	cmd := exec.Command(o.self, args...)
	cmd.Dir = o.dir
	cmd.Env = append(os.Environ(), "TIDY_COURIER_STATE="+filepath.Join(o.dir, "state"), "TIDY_COURIER_KEYRING=off")
	return cmd
}

func (o *office) run(args ...string) string {
	o.t.Helper()
	out, err := o.command(args...).Output()
	require.NoError(o.t, err, "%v", args)
	return string(out)
}

// TestFiftyProcessesRefreshOnce: relay holds a refresh token that rotates, and
// its reuse would end the family. Fifty processes that need an access token
// together cause one token request, and all go on with its result.
func TestFiftyProcessesRefreshOnce(t *testing.T) {
	o := newOffice(t, standin.ApproveAuto)
	o.delay = 200 * time.Millisecond
	const many = 50
	outs := make([]string, many)
	var wg sync.WaitGroup
	for i := range many {
		wg.Go(func() {
			var errs bytes.Buffer
			cmd := o.command("pouch", "take", "relay", "--quiet")
			cmd.Stderr = &errs
			out, err := cmd.Output()
			assert.NoError(t, err, errs.String())
			outs[i] = string(out)
		})
	}
	wg.Wait()
	assert.Equal(t, 1, o.s.Requests("/token"), "one request for all")
	for _, out := range outs {
		assert.Equal(t, outs[0], out)
	}
	assert.True(t, strings.HasPrefix(outs[0], "eyJ"))

	// by hand too: those that waited use the result of the one that refreshed
	for range 10 {
		wg.Go(func() { assert.NoError(t, o.command("refresh", "relay", "--quiet").Run()) })
	}
	wg.Wait()
	assert.Less(t, o.s.Requests("/token"), 11, "the family is alive, and nobody spent a token twice")
	o.run("refresh", "relay", "--json")
}

// TestKilledDuringRefresh kills the process at many points of a refresh. After
// each the pouch opens, and holds a whole set: the old one or the new one.
func TestKilledDuringRefresh(t *testing.T) {
	o := newOffice(t, standin.ApproveAuto)
	o.run("obtain", "kiosk", "--quiet")
	o.delay = 15 * time.Millisecond
	start := time.Now()
	o.run("refresh", "kiosk", "--quiet")
	whole := time.Since(start)
	rng := rand.New(rand.NewPCG(7, 7))
	held := func() (access, refresh string) {
		var doc struct {
			Token struct {
				Access  struct{ Value string } `json:"access_token"`
				Refresh struct{ Value string } `json:"refresh_token"`
			} `json:"token"`
		}
		require.NoError(t, json.Unmarshal([]byte(o.run("pouch", "show", "kiosk", "--json", "--reveal")), &doc))
		return doc.Token.Access.Value, doc.Token.Refresh.Value
	}
	old, new := 0, 0
	for i := range 30 {
		before, spent := held()
		cmd := o.command("refresh", "kiosk", "--quiet")
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(float64(whole) * float64(i) / 30 * (0.9 + 0.2*rng.Float64())))
		_ = cmd.Process.Kill()
		_ = cmd.Wait() // killed, as it should be
		access, refresh := held()
		switch {
		case access == before:
			assert.Equal(t, spent, refresh, "half of a new set")
			old++
		default:
			assert.NotEqual(t, spent, refresh, "half of a new set")
			new++
		}
		if o.command("refresh", "kiosk", "--quiet").Run() != nil {
			o.run("obtain", "kiosk", "--quiet") // killed after the server rotated and before the answer arrived
		}
	}
	t.Logf("killed %d times: %d old sets, %d new ones", old+new, old, new)
	assert.Positive(t, old)
}
