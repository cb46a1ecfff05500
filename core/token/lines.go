package token

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"sync"
)

// MaxLine bounds one line of input, in bytes: a token with its quoting.
const MaxLine = 2 * MaxLength

// chunkSize is how much input one worker takes at a time: enough to make the
// hand-over cheap, little enough that a slow source is answered at once.
const chunkSize = 64 << 10

// Work turns one line into output, appended to dst. Its error is what is wrong
// with the line as a line (it is too long), or nil.
type Work func(dst []byte, n int, line string, bad error) []byte

// chunk is some whole lines on their way, in one piece of text.
type chunk struct {
	first int           // number of its first line, from 1
	text  []byte        // the lines without their ends
	ends  []int         // where each ends in text
	bad   map[int]error // by index of the line
	out   []byte
	done  chan struct{}
}

// Lines runs work over every line of r on all cores and writes what it gives in
// the order of the input. Memory is bounded whatever the length of the input:
// a few chunks are under way at a time. Input that pauses is answered as far as
// it came. The error is one of reading or writing, or ctx's.
func Lines(ctx context.Context, r io.Reader, w io.Writer, work Work) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	workers := runtime.GOMAXPROCS(0)
	todo := make(chan *chunk, workers)
	ordered := make(chan *chunk, 2*workers)
	var group sync.WaitGroup
	for range workers {
		group.Go(func() {
			for c := range todo {
				c.run(work)
			}
		})
	}
	read := make(chan error, 1)
	go func() {
		read <- split(r, func(c *chunk) bool {
			select {
			case ordered <- c:
			case <-ctx.Done():
				return false
			}
			todo <- c // the workers drain it until it is closed
			return true
		})
		close(todo)
		close(ordered)
	}()
	err := deliver(ctx, ordered, w)
	if err != nil {
		cancel() // the reader may wait for input that never comes; it is left to the process's end
		return err
	}
	group.Wait()
	return <-read
}

// deliver writes the chunks' output in order.
func deliver(ctx context.Context, ordered <-chan *chunk, w io.Writer) error {
	for {
		select {
		case c, more := <-ordered:
			if !more {
				return nil
			}
			select {
			case <-c.done:
			case <-ctx.Done():
				return ctx.Err()
			}
			if _, err := w.Write(c.out); err != nil {
				return err
			}
			buffers.Put(&c.out)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// buffers are outputs that were written; using them again keeps memory flat.
var buffers = sync.Pool{New: func() any { b := make([]byte, 0, 4*chunkSize); return &b }}

func (c *chunk) run(work Work) {
	out := (*buffers.Get().(*[]byte))[:0] // only these are put in
	text, start := string(c.text), 0      // the lines share it
	for i, end := range c.ends {
		out = work(out, c.first+i, text[start:end], c.bad[i])
		start = end
	}
	c.out = out
	close(c.done)
}

// split gathers lines into chunks. A line beyond MaxLine is reported and
// skipped, without being held.
func split(r io.Reader, send func(*chunk) bool) error {
	br := bufio.NewReaderSize(r, chunkSize)
	next := 1
	c := &chunk{first: next, done: make(chan struct{})}
	flush := func() bool {
		if len(c.ends) == 0 {
			return true
		}
		next += len(c.ends)
		ok := send(c)
		c = &chunk{first: next, done: make(chan struct{}), text: make([]byte, 0, chunkSize+chunkSize/4)}
		return ok
	}
	for {
		start := len(c.text)
		bad, err := c.read(br)
		if err != nil && !errors.Is(err, io.EOF) {
			c.text = c.text[:start]
			flush()
			return fmt.Errorf("line %d: %w", next+len(c.ends), err)
		}
		if err == nil || len(c.text) > start || bad != nil {
			if bad != nil {
				if c.bad == nil {
					c.bad = map[int]error{}
				}
				c.bad[len(c.ends)] = bad
			}
			c.ends = append(c.ends, len(c.text))
		}
		if err != nil {
			flush()
			return nil
		}
		if (len(c.text) >= chunkSize || br.Buffered() == 0) && !flush() {
			return nil
		}
	}
}

// read appends one line without its end; io.EOF when the input ends with it.
func (c *chunk) read(br *bufio.Reader) (bad, err error) {
	start := len(c.text)
	part, err := br.ReadSlice('\n')
	c.text = append(c.text, part...)
	for errors.Is(err, bufio.ErrBufferFull) {
		part, err = br.ReadSlice('\n')
		if len(c.text)-start <= MaxLine {
			c.text = append(c.text, part...)
		}
	}
	line := bytes.TrimSuffix(bytes.TrimSuffix(c.text[start:], []byte("\n")), []byte("\r"))
	c.text = c.text[:start+len(line)]
	if len(line) > MaxLine {
		c.text = c.text[:start]
		return ErrTooLong, err
	}
	return nil, err
}

// Bare reports whether a text is a token alone, so that nothing has to be taken
// off it.
func Bare(s string) bool {
	if !strings.HasPrefix(s, "eyJ") {
		return false
	}
	for i := 0; i < len(s); i++ {
		if !tokenBytes[s[i]] {
			return false
		}
	}
	return true
}

// tokenBytes are those of a compact serialization: base64url and the dot.
var tokenBytes = func() (set [256]bool) {
	for c := range set {
		set[c] = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.'
	}
	return set
}()
