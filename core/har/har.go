// Package har reads and writes HAR 1.2, the record of HTTP exchanges that
// browsers, proxies and programs export. Read goes through a document entry by
// entry, so that a large one never has to be in memory whole.
//
//	info, err := har.Read(file, func(n int, e *har.Entry) error { … })
//
// Everything in a HAR is foreign: what cannot be read is an error that names
// the line, and a value of an unexpected kind is left out rather than guessed.
package har

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Bounds on a hostile document. A day of a busy browser is some ten thousand
// entries; a single one is hardly ever beyond a few megabytes.
const (
	MaxEntries = 500_000
	MaxBytes   = 4 << 30
)

// Errors of Read, wrapped in an *Error that names the line.
var (
	ErrNoEntries = errors.New("there is no log.entries, so this is not HAR 1.2")
	ErrTooMany   = fmt.Errorf("there are more than %d entries", MaxEntries)
	ErrTooLarge  = fmt.Errorf("the document is larger than %d GiB", MaxBytes>>30)
)

// Error is a document that cannot be read, with the line where that shows.
type Error struct {
	Line int
	Err  error
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Err) }
func (e *Error) Unwrap() error { return e.Err }

// Info is what a document says of itself.
type Info struct {
	Version string
	Creator string // name and version
	Entries int
}

// Pair is a header, query parameter or form parameter.
type Pair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Entry is one exchange (HAR 1.2, entries).
type Entry struct {
	Started  string          `json:"startedDateTime"`
	Time     float64         `json:"time"` // milliseconds
	Request  Request         `json:"request"`
	Response Response        `json:"response"`
	Cache    json.RawMessage `json:"cache,omitempty"`
	Timings  *Timings        `json:"timings,omitempty"`
	Address  string          `json:"serverIPAddress,omitempty"`
	Comment  string          `json:"comment,omitempty"`
}

// Request is the request of an entry.
type Request struct {
	Method      string    `json:"method"`
	URL         string    `json:"url"`
	HTTPVersion string    `json:"httpVersion"`
	Headers     []Pair    `json:"headers"`
	QueryString []Pair    `json:"queryString"`
	Cookies     []any     `json:"cookies"`
	PostData    *PostData `json:"postData,omitempty"`
	HeadersSize int       `json:"headersSize"`
	BodySize    int       `json:"bodySize"`
}

// PostData is a request's body: as text, or as parameters.
type PostData struct {
	MimeType string `json:"mimeType"`
	Text     string `json:"text"`
	Params   []Pair `json:"params,omitempty"`
}

// Response is the answer of an entry; Status 0 means that none came.
type Response struct {
	Status      int     `json:"status"`
	StatusText  string  `json:"statusText"`
	HTTPVersion string  `json:"httpVersion"`
	Headers     []Pair  `json:"headers"`
	Cookies     []any   `json:"cookies"`
	Content     Content `json:"content"`
	RedirectURL string  `json:"redirectURL"`
	HeadersSize int     `json:"headersSize"`
	BodySize    int     `json:"bodySize"`
	Error       string  `json:"_error,omitempty"`
}

// Content is an answer's body; Encoding base64 marks binary content.
type Content struct {
	Size     int    `json:"size"`
	MimeType string `json:"mimeType"`
	Text     string `json:"text,omitempty"`
	Encoding string `json:"encoding,omitempty"`
}

// Timings are the parts of Entry.Time, in milliseconds; -1 when a part does not apply.
type Timings struct {
	Blocked float64 `json:"blocked"`
	DNS     float64 `json:"dns"`
	Connect float64 `json:"connect"`
	SSL     float64 `json:"ssl"`
	Send    float64 `json:"send"`
	Wait    float64 `json:"wait"`
	Receive float64 `json:"receive"`
}

// lines counts the lines that went through a reader, and stops at MaxBytes.
type lines struct {
	r     io.Reader
	n     int64
	marks []int64 // offsets of line ends not yet passed
	line  int
}

func (l *lines) Read(p []byte) (int, error) {
	if l.n >= MaxBytes {
		return 0, ErrTooLarge
	}
	n, err := l.r.Read(p)
	for i, b := range p[:n] {
		if b == '\n' {
			l.marks = append(l.marks, l.n+int64(i))
		}
	}
	l.n += int64(n)
	return n, err
}

// at is the line of an offset, which must not go back.
func (l *lines) at(offset int64) int {
	i := 0
	for i < len(l.marks) && l.marks[i] < offset {
		i++
	}
	l.line += i
	l.marks = append(l.marks[:0], l.marks[i:]...)
	return l.line + 1
}

// Read goes through the entries of a document in order. An error of each ends
// the reading and is returned as it is; a document that cannot be read is an
// *Error. Entries before the defect have been given.
func Read(r io.Reader, each func(n int, e *Entry) error) (*Info, error) {
	l := &lines{r: r}
	d := &reader{dec: json.NewDecoder(l), each: each, lines: l}
	err := d.document()
	if err == nil && !d.found {
		err = ErrNoEntries
	}
	var stop stopped
	if errors.As(err, &stop) {
		return &d.info, stop.error
	}
	if err != nil {
		offset := d.dec.InputOffset()
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			offset = max(offset, syntax.Offset-1) // of the first byte that does not fit
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = errors.New("the document breaks off")
		}
		return &d.info, &Error{Line: l.at(offset), Err: err}
	}
	return &d.info, nil
}

// stopped is an error of the caller's, which passes unchanged.
type stopped struct{ error }

type reader struct {
	dec   *json.Decoder
	each  func(n int, e *Entry) error
	info  Info
	found bool
	lines *lines
}

func (d *reader) document() error {
	return d.object(func(name string) error {
		if name != "log" {
			return d.skip()
		}
		return d.object(d.log)
	})
}

func (d *reader) log(name string) error {
	switch name {
	case "version":
		return d.value(&d.info.Version)
	case "creator":
		var c struct{ Name, Version string }
		if err := d.value(&c); err != nil {
			return err
		}
		d.info.Creator = strings.TrimSpace(c.Name + " " + c.Version)
		return nil
	case "entries":
		d.found = true
		return d.entries()
	}
	return d.skip()
}

func (d *reader) entries() error {
	if err := d.open('['); err != nil {
		return err
	}
	for d.dec.More() {
		if d.info.Entries++; d.info.Entries > MaxEntries {
			return ErrTooMany
		}
		var e Entry
		if err := d.value(&e); err != nil {
			return err
		}
		d.lines.at(d.dec.InputOffset()) // forgets the lines that are behind
		if err := d.each(d.info.Entries, &e); err != nil {
			return stopped{err}
		}
	}
	_, err := d.dec.Token()
	return err
}

// object reads an object, handing each member's value over.
func (d *reader) object(member func(name string) error) error {
	if err := d.open('{'); err != nil {
		return err
	}
	for d.dec.More() {
		tok, err := d.dec.Token()
		if err != nil {
			return err
		}
		name, _ := tok.(string)
		if err := member(name); err != nil {
			return err
		}
	}
	_, err := d.dec.Token()
	return err
}

func (d *reader) open(want json.Delim) error {
	tok, err := d.dec.Token()
	if err != nil {
		return err
	}
	if tok != want {
		return fmt.Errorf("%v stands where %v was due", tok, want)
	}
	return nil
}

// value decodes a value; a member of another kind than HAR wants is left out.
func (d *reader) value(into any) error {
	err := d.dec.Decode(into)
	var kind *json.UnmarshalTypeError
	if errors.As(err, &kind) {
		return nil
	}
	return err
}

func (d *reader) skip() error {
	var ignored json.RawMessage
	return d.dec.Decode(&ignored)
}
