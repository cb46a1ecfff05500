// Package exhibit takes evidence that was recorded or copied elsewhere and makes
// it the evidence that rules can judge: a HAR of a browser, a proxy or a
// program, or a text somebody pasted. Among hundreds of unrelated exchanges it
// finds those of OAuth, pairs authorization requests with what came of them, and
// gives each grant and each protected call as a Flow.
//
//	b, info, err := exhibit.ReadHAR(file, exhibit.Settings{Client: c})
//	findings := b.Judge()
package exhibit

import (
	"io"
	"strings"
	"time"

	"tidycourier/core/finding"
	"tidycourier/core/har"
	"tidycourier/core/oauth"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// Settings are what is known beside the record; every field may be empty.
type Settings struct {
	Client   *project.Client
	Secret   string          // of Client, as it was read
	APIs     []*project.API  // of the project
	Metadata *oauth.Metadata // that the settings name, without discovery
	Now      time.Time       // the clock, for what the record does not date

	leftOut bool // the record leaves out the headers that hold credentials
}

// Flow is one grant, or one protected call, with its legs.
type Flow struct {
	Evidence finding.Evidence
	Grant    string
	ClientID string
	Legs     []run.Leg

	origin   string
	overcome bool // the same worked later
}

// Bundle is everything a record holds that is ours.
type Bundle struct {
	Legs  []run.Leg // all of them, in order; Leg.N counts here
	Flows []*Flow

	// HeadersLeftOut: a browser wrote the record without the headers that hold
	// credentials.
	HeadersLeftOut bool

	settings Settings
	flowOf   map[int]*Flow
}

// maxLegs bounds what is kept of a record. Healthy calls beyond it say nothing
// that those before have not said.
const maxLegs = 2000

// ReadHAR finds the legs in a HAR. The error is a *har.Error.
func ReadHAR(r io.Reader, s Settings) (*Bundle, *har.Info, error) {
	var pieces []*piece
	held := false
	info, err := har.Read(r, func(n int, e *har.Entry) error {
		held = held || holdsCredentials(e)
		if len(pieces) < maxLegs && worthALook(e) {
			if nameMasks(e) {
				s.Secret = "" // what was sent cannot be held against it
			}
			pieces = append(pieces, pieceOf(n, e.Exchange()))
		}
		return nil
	})
	if err != nil {
		return nil, info, err
	}
	s.leftOut = !held && strings.HasPrefix(info.Creator, "WebInspector")
	return assemble(pieces, s), info, nil
}

// holdsCredentials reports whether an entry has a header that browsers leave out
// of a record, unless they are told otherwise.
func holdsCredentials(e *har.Entry) bool {
	for _, list := range [][]har.Pair{e.Request.Headers, e.Response.Headers} {
		for _, h := range list {
			switch strings.ToLower(h.Name) {
			case "authorization", "cookie", "set-cookie":
				return true
			}
		}
	}
	return len(e.Request.Cookies)+len(e.Response.Cookies) > 0
}

// FromExchanges makes a bundle of exchanges that are known to be legs or to
// lead to one.
func FromExchanges(list []*wire.Exchange, s Settings) *Bundle {
	pieces := make([]*piece, len(list))
	for i, x := range list {
		pieces[i] = pieceOf(i+1, x)
	}
	return assemble(pieces, s)
}
