package flow

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidycourier/core/fault"
)

func TestLifetimes(t *testing.T) {
	now := time.Date(2026, 3, 31, 12, 0, 0, 0, time.UTC)
	tests := []struct {
		header []string
		want   time.Duration
	}{
		{nil, keysUnsaid},
		{[]string{"Cache-Control", "public, max-age=300"}, 5 * time.Minute},
		{[]string{"Cache-Control", `max-age="60"`}, time.Minute},
		{[]string{"Cache-Control", "max-age=300", "Age", "100"}, 200 * time.Second},
		{[]string{"Cache-Control", "max-age=300", "Age", "400"}, 0},
		{[]string{"Cache-Control", "no-store, max-age=300"}, 0},
		{[]string{"Cache-Control", "no-cache"}, 0},
		{[]string{"Cache-Control", "max-age=99999999"}, keysLongest},
		{[]string{"Cache-Control", "max-age=soon"}, keysUnsaid},
		{[]string{"Expires", "Tue, 31 Mar 2026 12:10:00 GMT"}, 10 * time.Minute},
		{[]string{"Expires", "Tue, 31 Mar 2026 11:00:00 GMT"}, 0},
		{[]string{"Cache-Control", "max-age=60", "Expires", "Tue, 31 Mar 2026 12:10:00 GMT"}, time.Minute},
	}
	for _, tt := range tests {
		h := http.Header{}
		for i := 0; i+1 < len(tt.header); i += 2 {
			h.Set(tt.header[i], tt.header[i+1])
		}
		assert.Equal(t, tt.want, lifetime(h, now), tt.header)
	}
}

func TestKeySetsAreKeptAndFetchedOnceMore(t *testing.T) {
	asked, kid, status := 0, "k1", 200
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Header().Set("Cache-Control", "max-age=300")
		w.WriteHeader(status)
		fmt.Fprintf(w, `{"keys":[{"kty":"oct","kid":%q,"k":"AAECAwQFBgcICQoLDA0ODw"}]}`, kid)
	}))
	defer srv.Close()
	e := testEngine(t, "version: 1\n")
	now := time.Now()
	e.Now = func() time.Time { return now }
	keys := func(kid string) []string {
		set, err := e.Begin("decode").KeysAt(context.Background(), srv.URL, kid)
		require.NoError(t, err)
		return set.IDs()
	}
	assert.Equal(t, []string{"k1"}, keys("k1"))
	assert.Equal(t, []string{"k1"}, keys("k1"))
	assert.Equal(t, 1, asked, "kept while its lifetime lasts")
	kid = "k2"
	assert.Equal(t, []string{"k2"}, keys("k2"), "an unknown kid fetches once more")
	assert.Equal(t, []string{"k2"}, keys("k9"))
	assert.Equal(t, 3, asked)
	now = now.Add(6 * time.Minute)
	keys("k2")
	assert.Equal(t, 4, asked, "its lifetime is over")
	path := keyFile(e.Store.Folder(), srv.URL)
	for _, spoiled := range []string{"", "not json", `{"url":"https://elsewhere","until":"2999-01-01T00:00:00Z"}`} {
		require.NoError(t, os.WriteFile(path, []byte(spoiled), 0o600))
		assert.Equal(t, []string{"k2"}, keys("k2"), "a spoiled file costs a fetch and nothing else")
	}
	assert.Equal(t, 7, asked)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	status = 404
	_, err = e.Begin("decode").KeysAt(context.Background(), srv.URL, "k7")
	assert.Equal(t, fault.Authorization, fault.As(err).Kind)
}
