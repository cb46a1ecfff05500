package show

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"tidycourier/core/wire"
)

// Body draws an answer's body for a person: JSON indented and coloured, XML and
// HTML indented, anything that is not text as its size and type.
func (p *Pen) Body(r *wire.Response) {
	body, mt := r.Body, r.MediaType()
	head := bytes.TrimSpace(body)
	switch {
	case len(head) == 0:
		p.line(p.faint("(no body)"))
	case !utf8.Valid(body):
		if mt == "" {
			mt = "unknown type"
		}
		p.line(p.faint(fmt.Sprintf("(%d bytes of %s, not text; --save FILE keeps them)", len(body), Safe(mt))))
	case (head[0] == '{' || head[0] == '[') && json.Valid(body):
		p.prettyJSON(body)
	case head[0] == '<' && (strings.HasSuffix(mt, "xml") || bytes.HasPrefix(head, []byte("<?xml"))):
		p.line(SafeText(indentXML(body)))
	default:
		p.line(SafeText(strings.TrimRight(string(body), "\n")))
	}
}

func (p *Pen) prettyJSON(body []byte) {
	var b bytes.Buffer
	if json.Indent(&b, body, "", "  ") != nil {
		p.line(SafeText(string(body)))
		return
	}
	for _, l := range strings.Split(strings.TrimRight(b.String(), "\n"), "\n") {
		p.line(p.jsonLine(SafeText(l)))
	}
}

// jsonLine colours the member's name of one indented line.
func (p *Pen) jsonLine(l string) string {
	text := strings.TrimLeft(l, " ")
	if !p.Color || !strings.HasPrefix(text, `"`) {
		return l
	}
	end := strings.Index(text, `": `)
	if end < 0 {
		return l
	}
	return l[:len(l)-len(text)] + p.accent(text[:end+1]) + text[end+1:]
}

// indentXML lays XML out; text that does not parse comes back as it is.
func indentXML(body []byte) string {
	dec := xml.NewDecoder(bytes.NewReader(body))
	var b strings.Builder
	enc := xml.NewEncoder(&b)
	enc.Indent("", "  ")
	for {
		tok, err := dec.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return string(body)
		}
		if text, ok := tok.(xml.CharData); ok && len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		if enc.EncodeToken(xml.CopyToken(tok)) != nil {
			return string(body)
		}
	}
	if enc.Flush() != nil {
		return string(body)
	}
	return b.String()
}
