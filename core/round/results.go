package round

import (
	"iter"
	"time"
)

// Results are what became of a round's calls, in the plan's order. A call that
// passed takes some fifty bytes, so that a round of very many stays small; of the
// others everything is kept.
type Results struct{ list []packed }

// packed is a Result as it is held.
type packed struct {
	name     string
	took     time.Duration
	started  int64
	run      int64
	more     *Result // what does not fit: of a call that failed, was skipped or kept something
	status   int32
	attempts int32
	phase    uint8
	outcome  uint8
}

var (
	phases   = []Phase{Setup, Main, Cleanup}
	verdicts = []string{"", Passed, Failed, Skipped}
)

// Collect holds a list of results.
func Collect(list ...Result) Results {
	r := Results{list: make([]packed, len(list))}
	for i, x := range list {
		r.set(i, x)
		if x.Run != nil {
			r.settle(i, x.Run())
		}
	}
	return r
}

func indexOf[T comparable](list []T, x T) uint8 {
	for i, y := range list {
		if x == y {
			return uint8(i) // #nosec: the lists are short
		}
	}
	return 0
}

func (r *Results) set(i int, x Result) {
	p := packed{name: x.Name, took: x.Took, started: x.Started.UnixNano(), status: int32(x.Status), attempts: int32(x.Attempts), phase: indexOf(phases, x.Phase), outcome: indexOf(verdicts, x.Outcome)}
	if x.Started.IsZero() {
		p.started = 0
	}
	if x.Outcome != Passed || len(x.Kept) > 0 || len(x.Failures)+len(x.Findings) > 0 || x.Phase != phases[p.phase] {
		p.more = &x
	}
	r.list[i] = p
}

// settle notes the number that the journal gave to a call's run.
func (r *Results) settle(i int, run int64) {
	r.list[i].run = run
	if m := r.list[i].more; m != nil {
		m.Run = func() int64 { return run }
	}
}

// Len is how many there are.
func (r *Results) Len() int { return len(r.list) }

// At is the result of the call at i.
func (r *Results) At(i int) Result {
	p := &r.list[i]
	if p.more != nil {
		return *p.more
	}
	x := Result{Name: p.name, Phase: phases[p.phase], Outcome: verdicts[p.outcome], Status: int(p.status), Took: p.took, Attempts: int(p.attempts)}
	if p.started != 0 {
		x.Started = time.Unix(0, p.started)
	}
	if n := p.run; n != 0 {
		x.Run = func() int64 { return n }
	}
	return x
}

// All goes through them.
func (r *Results) All() iter.Seq2[int, Result] {
	return func(yield func(int, Result) bool) {
		for i := range r.list {
			if !yield(i, r.At(i)) {
				return
			}
		}
	}
}
