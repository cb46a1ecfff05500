package exhibit

import (
	"encoding/base64"
	"regexp"
	"strings"
	"sync"

	"tidycourier/core/finding"
	"tidycourier/core/har"
)

// A record that this program wrote is masked. What stands there in place of
// secrets must not be judged as if it had been sent: each is made a word that
// stands for one unknown value, the same for the same.

var (
	maskPattern  = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\[masked(?: ([0-9a-f]{8}))?\]`) })
	basicPattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(?i:basic) \[(.*):(masked-\w+)\]$`) })
)

// nameMasks puts words in place of masks, and says whether there were any.
func nameMasks(e *har.Entry) bool {
	met := false
	swap := func(s *string) {
		if !strings.Contains(*s, "[masked") {
			return
		}
		met = true
		*s = maskPattern().ReplaceAllStringFunc(*s, func(m string) string {
			if fingerprint := maskPattern().FindStringSubmatch(m)[1]; fingerprint != "" {
				return finding.MaskedWord + fingerprint
			}
			return finding.MaskedWord + "value"
		})
	}
	swap(&e.Request.URL)
	swap(&e.Response.RedirectURL)
	swap(&e.Response.Content.Text)
	for _, list := range [][]har.Pair{e.Request.Headers, e.Response.Headers} {
		for i := range list {
			v := &list[i].Value
			swap(v)
			if m := basicPattern().FindStringSubmatch(*v); m != nil {
				*v = "Basic " + base64.StdEncoding.EncodeToString([]byte(m[1]+":"+m[2]))
			}
		}
	}
	if p := e.Request.PostData; p != nil {
		swap(&p.Text)
		for i := range p.Params {
			swap(&p.Params[i].Value)
		}
	}
	return met
}
