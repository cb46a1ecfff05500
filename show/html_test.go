package show

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"tidycourier/core/wire"
)

func TestPagesAreLaidOut(t *testing.T) {
	page := `<!DOCTYPE html><html lang=en><head><meta charset="utf-8"><title>Sign in</title></head><body><div><p>Please <b>sign in</b> here.<br>Now.</p><input name=x></div></body></html>`
	assert.Equal(t, strings.Join([]string{
		"<!DOCTYPE html>", "<html lang=en>", "  <head>", `    <meta charset="utf-8">`, "    <title>Sign in</title>", "  </head>", "  <body>", "    <div>", "      <p>", "        Please <b>sign in</b> here.<br>Now.", "      </p>", "      <input name=x>", "    </div>", "  </body>", "</html>"}, "\n"), indentHTML(page))
	for _, odd := range []string{"<", "<>", "</", "a < b", "</p></p></p>", "<p", "<!-- <p> -->", strings.Repeat("<div>", 100)} {
		assert.NotPanics(t, func() { indentHTML(odd) }, odd)
	}
	p, b := pen(100)
	p.Body(&wire.Response{Header: http.Header{"Content-Type": {"text/html"}}, Body: []byte("<html><body>\x1b[2J<p>x</p></body></html>")})
	assert.NotContains(t, b.String(), "\x1b")
	assert.Contains(t, b.String(), "  <body>")
}
