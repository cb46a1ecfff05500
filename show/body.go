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
	case head[0] == '<' && (strings.Contains(mt, "html") || looksHTML(head)):
		p.line(SafeText(indentHTML(string(body))))
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

func looksHTML(head []byte) bool {
	start := bytes.ToLower(head[:min(len(head), 64)])
	return bytes.HasPrefix(start, []byte("<!doctype html")) || bytes.HasPrefix(start, []byte("<html"))
}

// Elements that HTML never closes, and those that stand within a line of text
// (HTML Living Standard 13.1.2, 3.2.5.2.5).
var (
	voidElements   = map[string]bool{"area": true, "base": true, "br": true, "col": true, "embed": true, "hr": true, "img": true, "input": true, "link": true, "meta": true, "source": true, "track": true, "wbr": true, "!doctype": true, "!--": true}
	inlineElements = map[string]bool{"a": true, "abbr": true, "b": true, "br": true, "code": true, "em": true, "i": true, "img": true, "label": true, "small": true, "span": true, "strong": true, "sub": true, "sup": true, "u": true, "button": true, "title": true, "h1": true, "h2": true, "h3": true}
)

// indentHTML lays a page out: each block on a line of its own, indented by its
// depth. It reads tags and nothing else; what it cannot make sense of stays.
func indentHTML(text string) string {
	var b strings.Builder
	depth, line := 0, ""
	flush := func() {
		if s := strings.TrimSpace(line); s != "" {
			b.WriteString(strings.Repeat("  ", min(depth, 30)) + strings.Join(strings.Fields(s), " ") + "\n")
		}
		line = ""
	}
	for text != "" {
		open := strings.IndexByte(text, '<')
		if open < 0 {
			line += text
			break
		}
		line += text[:open]
		text = text[open:]
		end := strings.IndexByte(text, '>')
		if end < 0 {
			line += text
			break
		}
		tag := text[:end+1]
		text = text[end+1:]
		name := tagName(tag)
		if inlineElements[name] {
			line += tag
			continue
		}
		flush()
		closing := strings.HasPrefix(tag, "</")
		if closing {
			depth = max(0, depth-1)
		}
		line = tag
		flush()
		if !closing && !voidElements[name] && !strings.HasPrefix(name, "!") && !strings.HasSuffix(tag, "/>") {
			depth++
		}
	}
	flush()
	return strings.TrimRight(b.String(), "\n")
}

// tagName is a tag's element in lower case, or "".
func tagName(tag string) string {
	words := strings.FieldsFunc(strings.Trim(tag, "</>"), func(r rune) bool { return r == '/' || r <= ' ' })
	if len(words) == 0 {
		return ""
	}
	return strings.ToLower(words[0])
}
