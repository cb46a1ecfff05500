// Package flow drives a grant or a call from resolved settings to a Run: it
// asks oauth for the message, sends it by wire, puts what came into the pouch,
// has finding judge the run and the journal record it.
//
// An Engine is made once per process. Nothing here prints: a listener is told
// of each leg as it happens, and everything else is in the returned values.
package flow

import (
	"context"
	"errors"
	"io"
	"regexp"
	"strings"
	"sync"
	"time"

	"tidycourier/core/fault"
	"tidycourier/core/finding"
	"tidycourier/core/journal"
	"tidycourier/core/mask"
	"tidycourier/core/oauth"
	"tidycourier/core/pouch"
	"tidycourier/core/project"
	"tidycourier/core/run"
	"tidycourier/core/wire"
)

// Engine holds what every flow needs. Project, Sender and Mask must be set.
type Engine struct {
	Project *project.Project
	Sender  *wire.Sender
	Mask    *mask.Set
	Store   Store
	Ask     project.Asker // nil when there is no terminal
	Choose  Chooser       // nil when there is no terminal
	Now     func() time.Time
	Random  io.Reader
	Behind  bool                // in a series: do not wait for the journal, which closing the Store does
	Patient bool                // of a run by itself: give what comes late a moment to be seen
	Recent  *Recent             // in a series: the token sets it has read from the pouch; nil reads each time
	OnLeg   func(run.LegRecord) // told of each leg as it is done; may be nil
	OnStart func(*run.Run)      // told when a run with legs to draw begins; may be nil
}

// Store opens what is kept on disk, at the first need.
type Store interface {
	Pouch() (*pouch.Pouch, error)
	Journal() (*journal.Journal, error)
	// Lock holds a client's lock, so that one process refreshes at a time. The
	// kernel releases it when the holder dies.
	Lock(ctx context.Context, name string) (release func(), err error)
	// Folder is where files that need no seal may be kept, such as public keys;
	// "" when there is none.
	Folder() string
}

// Session is one run being made.
type Session struct {
	e        *Engine
	Run      *run.Run
	Evidence finding.Evidence
	Pending  *journal.Entry // of a run that is recorded behind: its number comes later
	spends   []spend        // single-use credentials this run has sent

	beyond   int64           // wire.Beyond when the run began
	found    *oauth.Metadata // of the issuer foundFor, which is asked once a run
	foundFor string
}

// spend is a single-use credential, by its fingerprint.
type spend struct{ kind, fingerprint string }

// spent notes the single-use credential of a token request.
func (s *Session) spent(r oauth.TokenRequest) {
	if r.Code != "" {
		s.spends = append(s.spends, spend{"code", mask.Fingerprint(r.Code)})
	}
	if r.RefreshToken != "" {
		s.spends = append(s.spends, spend{"refresh_token", mask.Fingerprint(r.RefreshToken)})
	}
}

// spentBefore looks up an earlier use, for the rules.
func (s *Session) spentBefore(kind, fingerprint string) *finding.Spent {
	j, err := s.e.Store.Journal()
	if err != nil {
		return nil
	}
	found, err := j.WasSpent(s.Run.Project, kind, fingerprint)
	if err != nil || found == nil {
		return nil
	}
	return &finding.Spent{Run: found.Run, Client: found.Client, At: found.At}
}

// Begin starts a run.
func (e *Engine) Begin(command string) *Session {
	now := e.Now()
	s := &Session{e: e, beyond: wire.Beyond(), Run: &run.Run{Command: command, Project: e.Project.Key(), Stage: e.Project.Stage(), Started: now}}
	s.Evidence.Now = now
	return s
}

// leg adds a finished leg without telling the listener yet.
func (s *Session) leg(l run.Leg) *run.Leg {
	l.N = len(s.Run.Legs) + 1
	s.Run.Legs = append(s.Run.Legs, l)
	return &s.Run.Legs[len(s.Run.Legs)-1]
}

// tell tells the listener of the leg.
func (s *Session) tell(l *run.Leg) {
	if s.e.OnLeg != nil {
		s.e.OnLeg(l.Record(s.e.Mask))
	}
}

// send makes one exchange into a leg. An exchange that got no answer is a leg
// and an error of kind unreachable.
func (s *Session) send(ctx context.Context, kind run.Kind, r wire.Request, placed string) (*run.Leg, error) {
	x, err := s.e.Sender.Send(ctx, r)
	if err != nil {
		return nil, err
	}
	l := s.leg(run.Leg{Kind: kind, Method: r.Method, URL: r.URL, Took: x.Timing.Total, At: x.Started, Exchange: &x, Placed: placed})
	if x.Failure == nil {
		return l, nil
	}
	s.tell(l)
	if x.Failure.Kind == wire.Interrupted {
		return l, fault.New(fault.Interrupted, "stopped while waiting for %s", r.URL)
	}
	if x.Failure.Kind == wire.SinkFailed {
		return l, fault.New(fault.Settings, "the answer could not be saved: %s", x.Failure.Detail)
	}
	return l, fault.New(fault.Unreachable, "%s %s: %s", r.Method, mask.URL(r.URL), x.Failure.Detail)
}

// Finish judges the run, records it, and returns the error for the user: what
// failed, with the place and the next step of the best finding.
func (s *Session) Finish(err error) error {
	s.Evidence.Legs, s.Evidence.Spent = s.Run.Legs, s.spentBefore
	s.Evidence.Beyond = s.tooMuchCame()
	s.Run.Findings = finding.Judge(&s.Evidence)
	f := fault.As(err)
	if f != nil {
		s.explain(f)
		s.Run.Error = &run.Failure{Kind: string(f.Kind), Message: f.Message, Code: f.Code, Description: f.Description, Status: f.Status, Where: f.Where, Hint: f.Next}
	}
	if len(s.Run.Legs) > 0 {
		j, bad := s.e.journal()
		if bad == nil {
			finished := *s.Run
			if s.e.Behind && len(s.spends) == 0 {
				s.Pending = j.AddBehind(&finished, s.e.Mask)
			} else {
				s.Run.N, bad = j.Add(&finished, s.e.Mask).Wait()
			}
			for _, sp := range s.spends {
				if bad == nil {
					bad = j.Spend(s.Run.Project, sp.kind, sp.fingerprint, journal.Spent{Run: s.Run.N, Client: s.Run.Client, At: s.Run.Started})
				}
			}
		}
		if bad != nil && f == nil {
			return bad
		}
	}
	if f == nil {
		return nil
	}
	return f
}

// tooMuchCame reports that a server sent more than Content-Length said. Only for a
// run by itself one waits to see it.
func (s *Session) tooMuchCame() bool {
	said := false
	for i := range s.Run.Legs {
		x := s.Run.Legs[i].Exchange
		said = said || x != nil && x.Response != nil && x.Response.Length >= 0 && strings.HasPrefix(x.Response.Proto, "HTTP/1")
	}
	return said && s.e.Patient && wire.BeyondSince(s.beyond)
}

// journal opens the journal, with the limits of the courier file.
func (e *Engine) journal() (*journal.Journal, error) {
	j, err := e.Store.Journal()
	if err != nil {
		return nil, err
	}
	if j.Bounded(e.Project.Key()) {
		return j, nil
	}
	days, mib, err := e.Project.Journal()
	if err != nil {
		return nil, err
	}
	j.Bound(e.Project.Key(), journal.Limits{Age: time.Duration(days * 24 * float64(time.Hour)), Bytes: int64(mib * (1 << 20))})
	return j, nil
}

// explain gives an error the place and the remedy of the first finding, where
// it has none of its own.
func (s *Session) explain(f *fault.Error) {
	for _, found := range s.Run.Findings {
		if found.Note {
			continue
		}
		for _, it := range found.Evidence {
			if f.Where == "" && placed(it.Where) {
				f.Where = it.Where
			}
		}
		if f.Next == "" && len(found.Remedy) > 0 {
			f.Next = found.Remedy[0]
		}
		return
	}
}

// placePattern is the end of a place in a file: line and column.
var placePattern = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`:\d+:\d+$`) })

// placed reports whether a place is one in a file or a flag.
func placed(where string) bool {
	return strings.HasPrefix(where, "--") || placePattern().MatchString(where)
}

// Recent remembers token sets within one series of calls, so that each call does
// not open the pouch. It is safe for concurrent use; a nil one remembers nothing.
type Recent struct {
	mu      sync.Mutex
	sets    map[pouch.Key]*pouch.Set
	holders map[string]holder
}

// holder is a client whose token set was found to fit its settings.
type holder struct {
	client  *project.Client
	project *project.Project
	set     *pouch.Set
}

// holds is the client of a name with its token, when both were read in this
// series, the values they may depend on are the same, and the token is fresh.
func (r *Recent) holds(name string, p *project.Project, now time.Time) (*project.Client, *Used) {
	if r == nil {
		return nil, nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	h, met := r.holders[name]
	if !met || !h.project.SameKept(p) || !h.set.Fresh(now) {
		return nil, nil
	}
	return h.client, &Used{Client: name, Token: h.set.AccessToken, Set: h.set}
}

func (r *Recent) hold(c *project.Client, p *project.Project, u *Used) {
	if r == nil || u == nil || u.Set == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.holders == nil {
		r.holders = map[string]holder{}
	}
	r.holders[c.Name] = holder{c, p, u.Set}
}

func (r *Recent) get(k pouch.Key) *pouch.Set {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.sets[k]
}

func (r *Recent) put(k pouch.Key, set *pouch.Set) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.sets == nil {
		r.sets = map[pouch.Key]*pouch.Set{}
	}
	r.sets[k] = set
}

func (r *Recent) forget(k pouch.Key) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.sets, k)
	delete(r.holders, k.Client)
}

// held returns the set under a key, or nil.
func (e *Engine) held(k pouch.Key) (*pouch.Set, error) {
	p, err := e.Store.Pouch()
	if err != nil {
		return nil, err
	}
	set, err := p.Get(k)
	if errors.Is(err, pouch.ErrNone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	e.Mask.Add(set.AccessToken, set.RefreshToken, set.IDToken)
	return set, nil
}

// Key is where a client's token set is kept.
func (e *Engine) Key(client string) pouch.Key {
	return pouch.Key{Project: e.Project.Key(), Stage: e.Project.Stage(), Client: client}
}
