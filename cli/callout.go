package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/flow"
	"tidycourier/core/wire"
	"tidycourier/show"
)

// callOutput is where a call's answer goes: the screen, a file, a table.
type callOutput struct {
	a       *app
	f       *callFlags
	file    *saved
	keep    bool // the body is needed in memory: expectations or values to keep read it
	pages   int
	records []map[string]any
}

func (a *app) newOutput(plan *flow.CallPlan, f *callFlags) *callOutput {
	return &callOutput{a: a, f: f, keep: plan.Saved != nil && (len(plan.Saved.Expect.JSON) > 0 || plan.Saved.Expect.Schema.Value != "" || len(plan.Saved.Keep) > 0)}
}

// sink streams the body to the file of --save, unless it is needed in memory.
func (o *callOutput) sink() func(*wire.Response) (io.Writer, error) {
	if o.f.save == "" || o.keep {
		return nil
	}
	return func(r *wire.Response) (io.Writer, error) {
		o.file.drop()
		var err error
		o.file, err = o.a.saveTo(o.f.save, r.Length)
		return o.file, err
	}
}

func (o *callOutput) saved(res *flow.CallResult) int64 {
	if o.f.save == "" || res == nil || res.Leg == nil || res.Leg.Exchange.Response == nil {
		return 0
	}
	return max(res.Leg.Exchange.Response.Streamed, int64(len(res.Leg.Exchange.Response.Body)))
}

// page takes one page of several.
func (o *callOutput) page(n int, res *flow.CallResult) error {
	o.pages = n
	r := res.Leg.Exchange.Response
	if isTerminal(o.a.Err) && !o.a.g.quiet && !o.a.g.json {
		fmt.Fprintf(o.a.Err, "\r\x1b[K    page %d\r", n)
	}
	switch {
	case o.a.g.json:
		return nil
	case o.f.table:
		return o.gather(r)
	case o.f.pick != "":
		return o.a.pick(r, o.f.pick)
	case isTerminal(o.a.Out):
		o.a.outPen().Body(r)
		return nil
	}
	_, err := o.a.Out.Write(r.Body)
	if err == nil && len(r.Body) > 0 && r.Body[len(r.Body)-1] != '\n' {
		_, err = o.a.Out.Write([]byte("\n"))
	}
	return err
}

// gather adds a page's records to the table.
func (o *callOutput) gather(r *wire.Response) error {
	list, err := flow.Records(r.Body, o.f.pick)
	if err != nil {
		return fault.New(fault.Usage, "%s", err.Error()).At("--table").Hint("name the array with --pick JSONPATH")
	}
	o.records = append(o.records, list...)
	return nil
}

// end hands over what was not handed over yet. failed is how the call went: a
// refused body is shown, a half one never saved.
func (o *callOutput) end(res *flow.CallResult, failed error) error {
	a := o.a
	if o.file != nil {
		if res == nil || res.Leg == nil || res.Leg.Exchange.Failure != nil {
			o.file.drop()
			return nil
		}
		if err := o.file.finish(); err != nil {
			return fault.Wrap(fault.Settings, err, "the answer could not be saved").At("--save")
		}
		a.say("    saved %s to %s", show.Bytes(o.file.n), o.f.save)
		return nil
	}
	if res == nil || res.Leg == nil || res.Leg.Exchange.Response == nil {
		return nil
	}
	r := res.Leg.Exchange.Response
	switch {
	case o.f.pages && r.Status < 400:
		if o.f.table && !a.g.json {
			o.draw()
		}
		return nil
	case o.f.save != "" && r.Status < 400 && !r.Truncated:
		file, err := a.saveTo(o.f.save, int64(len(r.Body)))
		if err == nil {
			_, err = file.Write(r.Body)
		}
		if err == nil {
			err = file.finish()
		}
		if err != nil {
			return fault.Wrap(fault.Settings, err, "the answer could not be saved").At("--save")
		}
		a.say("    saved %s to %s", show.Bytes(file.n), o.f.save)
		return nil
	case a.g.json:
		return nil
	case o.f.table && r.Status < 400 && failed == nil:
		if err := o.gather(r); err != nil {
			return err
		}
		o.draw()
		return nil
	case o.f.pick != "" && r.Status < 400:
		return a.pick(r, o.f.pick)
	case isTerminal(a.Out):
		a.outPen().Body(r)
		return nil
	}
	_, err := a.Out.Write(r.Body)
	return err
}

func (o *callOutput) draw() {
	columns := show.Columns(o.records, o.f.columns)
	if isTerminal(o.a.Out) {
		o.a.outPen().Records(o.records, columns)
		return
	}
	fmt.Fprint(o.a.Out, show.TSV(o.records, columns))
}

// pick prints what a JSONPath finds, one a line.
func (a *app) pick(r *wire.Response, path string) error {
	found, err := flow.Pick(r.Body, path)
	if err != nil {
		return fault.New(fault.Usage, "%s", err.Error()).At("--pick")
	}
	if len(found) == 0 {
		return fault.New(fault.Expectation, "%s matches nothing in the answer", path).At("--pick").Hint("run it without --pick to see the answer")
	}
	for _, v := range found {
		text := flow.Text(v)
		if isTerminal(a.Out) {
			text = show.SafeText(text)
		}
		if _, err := a.Out.Write([]byte(text + "\n")); err != nil {
			return err
		}
	}
	return nil
}

// saved is a file that is written beside its place and put there when it is
// whole.
type saved struct {
	path   string
	temp   *os.File
	n      int64
	length int64 // as the server said, or less than 0
	told   time.Time
	a      *app
}

func (a *app) saveTo(path string, length int64) (*saved, error) {
	path = a.path(path)
	temp, err := os.CreateTemp(filepath.Dir(path), ".tidy-courier-*")
	if err != nil {
		var where *os.PathError // its path is that of the temporary file, which nobody named
		if errors.As(err, &where) {
			err = where.Err
		}
		return nil, fmt.Errorf("%s cannot be written: %w", path, err)
	}
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return nil, errors.Join(fmt.Errorf("%s is a folder", path), temp.Close(), os.Remove(temp.Name()))
	}
	return &saved{path: path, temp: temp, length: length, a: a}, nil
}

func (s *saved) Write(p []byte) (int, error) {
	n, err := s.temp.Write(p)
	s.n += int64(n)
	if now := s.a.Now(); now.Sub(s.told) > 200*time.Millisecond && isTerminal(s.a.Err) && !s.a.g.quiet && !s.a.g.json {
		s.told = now
		of := ""
		if s.length > 0 {
			of = fmt.Sprintf(" of %s, %d%%", show.Bytes(s.length), s.n*100/s.length)
		}
		fmt.Fprintf(s.a.Err, "\r\x1b[K    %s%s\r", show.Bytes(s.n), of)
	}
	return n, err
}

// finish puts the file in its place.
func (s *saved) finish() error {
	err := s.temp.Chmod(0o644)
	if bad := s.temp.Close(); err == nil {
		err = bad
	}
	if err == nil {
		err = os.Rename(s.temp.Name(), s.path)
	}
	if err != nil {
		_ = os.Remove(s.temp.Name())
	}
	return err
}

// drop leaves nothing behind.
func (s *saved) drop() {
	if s != nil {
		_ = s.temp.Close()
		_ = os.Remove(s.temp.Name())
	}
}
