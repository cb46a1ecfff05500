package wire

import (
	"bytes"
	"io"
	"sync/atomic"
	"time"
)

// What a server sends beyond Content-Length belongs to no answer: net/http throws
// it away with the connection, and says so to the standard logger alone.

var beyond atomic.Int64

type complaints struct{}

func (complaints) Write(p []byte) (int, error) {
	if bytes.Contains(p, []byte("Unsolicited response received")) {
		beyond.Add(1)
	}
	return len(p), nil
}

// Complaints takes what net/http logs about servers: log.SetOutput(wire.Complaints).
// Nothing of it is printed, since it quotes servers as they are.
var Complaints io.Writer = complaints{}

// Beyond counts the connections on which more came than was said, since the
// program began.
func Beyond() int64 { return beyond.Load() }

// beyondPatience is how long net/http may take to see that more came, once the
// answer was read. It sees it at once, in a goroutine of its own.
const beyondPatience = time.Millisecond

// BeyondSince reports whether more came than was said since the count was so
// many, and gives net/http a moment to notice.
func BeyondSince(count int64) bool {
	for end := time.Now().Add(beyondPatience); time.Now().Before(end); time.Sleep(100 * time.Microsecond) {
		if Beyond() != count {
			return true
		}
	}
	return Beyond() != count
}
