package flow

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/mask"
	"tidycourier/core/run"
	"tidycourier/core/token"
	"tidycourier/core/wire"
)

const (
	// keysUnsaid is how long a key set is kept whose server says nothing of it
	// (RFC 9111 4.2.2 leaves that to the reader).
	keysUnsaid = 5 * time.Minute
	// keysLongest bounds what a server may say: keys that were taken away must
	// not be trusted for weeks.
	keysLongest = 24 * time.Hour
)

// cachedKeys is a key set on disk. Public keys need no seal; the folder is
// closed to others, so nobody else can plant one.
type cachedKeys struct {
	URL     string    `json:"url"`
	Fetched time.Time `json:"fetched"`
	Until   time.Time `json:"until"`
	Body    []byte    `json:"body"`
}

// KeyFile names where a URL's key set is kept in a state folder.
func keyFile(dir, url string) string {
	sum := sha256.Sum256([]byte(url))
	return filepath.Join(dir, "keys-"+hex.EncodeToString(sum[:8])+".json")
}

// KeysAt gives the key set at a URL: from the state folder while its HTTP
// lifetime lasts, else fetched. One that lacks the kid wanted is fetched once
// more, since keys rotate (OpenID Connect Core 10.1.1); kid "" wants none.
func (s *Session) KeysAt(ctx context.Context, url, kid string) (*token.KeySet, error) {
	path := ""
	if dir := s.e.Store.Folder(); dir != "" {
		path = keyFile(dir, url)
		if set := s.cachedKeys(path, url); set != nil && (kid == "" || slices.Contains(set.IDs(), kid)) {
			return set, nil
		}
	}
	l, err := s.send(ctx, run.Keys, wire.Request{Method: http.MethodGet, URL: url, Header: http.Header{"Accept": {"application/jwk-set+json, application/json"}}}, "")
	if err != nil {
		return nil, err
	}
	defer s.tell(l)
	r := l.Exchange.Response
	if r.Status != http.StatusOK {
		return nil, fault.New(fault.Authorization, "the key set at %s cannot be had: status %d", mask.URL(url), r.Status).Hint("check jwks_uri in the server's metadata: tidy-courier discover ISSUER")
	}
	set, err := token.ParseJWKS(r.Body)
	if err != nil {
		return nil, fault.Wrap(fault.Authorization, err, "the key set at %s cannot be read", mask.URL(url))
	}
	set.Source = url
	l.Note = strconv.Itoa(len(set.Keys)) + " keys"
	if life := lifetime(r.Header, s.e.Now()); life > 0 && path != "" {
		keepKeys(path, cachedKeys{URL: url, Fetched: s.e.Now(), Until: s.e.Now().Add(life), Body: r.Body})
	}
	return set, nil
}

func (s *Session) cachedKeys(path, url string) *token.KeySet {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	var c cachedKeys
	if json.Unmarshal(raw, &c) != nil || c.URL != url || !s.e.Now().Before(c.Until) || s.e.Now().Before(c.Fetched) {
		return nil
	}
	set, err := token.ParseJWKS(c.Body)
	if err != nil {
		return nil
	}
	set.Source = url + " (kept since " + c.Fetched.Local().Format("15:04") + ")"
	return set
}

// keepKeys is best effort: a folder that cannot be written costs a fetch.
func keepKeys(path string, c cachedKeys) {
	raw, err := json.Marshal(c)
	if err != nil {
		return
	}
	temp, err := os.CreateTemp(filepath.Dir(path), ".keys-*")
	if err != nil {
		return
	}
	_, bad := temp.Write(raw)
	if err := temp.Close(); err != nil || bad != nil || os.Rename(temp.Name(), path) != nil {
		_ = os.Remove(temp.Name())
	}
}

// lifetime is how long an answer may be kept (RFC 9111 4.2).
func lifetime(h http.Header, now time.Time) time.Duration {
	life, said := time.Duration(0), false
	for _, d := range strings.Split(h.Get("Cache-Control"), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(d), "=")
		switch strings.ToLower(name) {
		case "no-store", "no-cache":
			return 0
		case "max-age":
			if n, err := strconv.ParseInt(strings.Trim(value, `"`), 10, 32); err == nil && n >= 0 {
				life, said = time.Duration(n)*time.Second, true
			}
		}
	}
	if !said {
		if at, err := http.ParseTime(h.Get("Expires")); err == nil {
			life, said = at.Sub(now), true
		}
	}
	if !said {
		life = keysUnsaid
	}
	if age, err := strconv.ParseInt(h.Get("Age"), 10, 32); err == nil && age > 0 {
		life -= time.Duration(age) * time.Second
	}
	return min(max(life, 0), keysLongest)
}
