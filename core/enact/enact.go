// Package enact carries a proposal out: in the order of the graph, many calls
// at a time, every intent recorded before its call and every result after it.
package enact

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/approval"
	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/redact"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// DefaultParallel is how many calls go on at once.
const DefaultParallel = 16

// DefaultTimeout is how long one call may take.
const DefaultTimeout = 10 * time.Minute

// IfOneFails is what a run does once an action has failed. What is running may
// always finish.
type IfOneFails string

const (
	StopThen IfOneFails = "stop"  // start nothing more
	GoOn     IfOneFails = "go-on" // do all that does not depend on what failed
	Undo     IfOneFails = "undo"  // take back what the run has done
)

// Options is what carrying out needs.
type Options struct {
	Run     string // id; the same for all wards
	Command string
	Reason  string
	Clouds
	Pace
	Secrets
	Wait      ledger.WaitOptions
	Locks     *Locks             // the locks, when they were taken before
	Envelope  *approval.Envelope // of the file that the proposal is from; nil when it was made just now
	JudgeLive bool               // read what is live again before acting: the proposal may be old
	// Judge holds an action against the rules that were undecided about it, now
	// that its inputs are known. An error forbids the call; what is said goes
	// into the ledger.
	Judge func(ctx context.Context, a *propose.Action, inputs value.Map) (said []string, err error)
	Stop  <-chan struct{} // closed: start nothing more and let what is running finish
	Event func(Event)     // called from many goroutines, one at a time; may be nil
}

// Clouds are what a run works on: drivers with what they offer, and the ledgers.
type Clouds struct {
	Drivers  map[string]driver.Driver
	Catalogs map[string]*schema.Catalog
	Ledgers  map[string]*ledger.Ledger // by ward
}

// Pace says how a run goes on.
type Pace struct {
	Parallel   int // calls at the same time; 0 for DefaultParallel
	IfOneFails IfOneFails
	Timeout    time.Duration // of one call; 0 for DefaultTimeout
	// how long what was made may take until it is seen; 0 for defaultShows, below 0 for no time
	Shows time.Duration
}

// Secrets are how a run comes by secrets, and what becomes of them.
type Secrets struct {
	Sealed  bool                              // the ledgers are: secrets may be recorded
	Secret  func(name string) (string, error) // fetches one; nil when there are none
	Confide func(secret string)               // receives every secret that the run reveals; may be nil
}

// Blocked refuses a proposal that something forbids as a whole; nil where nothing does.
func Blocked(p *propose.Proposal) error {
	if len(p.Blocked) == 0 {
		return nil
	}
	r := &Refused{}
	for _, b := range p.Blocked {
		r.Reasons = append(r.Reasons, b.Sentence())
	}
	return r
}

// Unsigned is the refusal of a proposal that needs signatures and was made just now, so that it
// can have none.
func Unsigned(p *propose.Proposal) error {
	r := &Refused{}
	for _, x := range p.Approvals {
		n := fmt.Sprintf("%d signatures", x.Signatures)
		if x.Signatures == 1 {
			n = "1 signature"
		}
		r.Reasons = append(r.Reasons, fmt.Sprintf("%s asks for %s (%s): `kasbah propose -o FILE` keeps the proposal, "+
			"`kasbah approve FILE -key KEY` signs it, and `kasbah enact FILE` carries it out",
			x.Ward, n, strings.Join(x.Because, ", ")))
	}
	return r
}

// Enact carries out a proposal: begin, recover, judge, act, end.
func Enact(ctx context.Context, p *propose.Proposal, o Options) (*Result, error) {
	if err := Blocked(p); err != nil {
		return nil, err
	}
	e, err := begin(ctx, o, p.Scopes(), p.ID)
	if err != nil {
		return nil, err
	}
	e.p, e.r = p, newResult(p)
	for _, a := range p.Actions {
		if a.Was != "" {
			e.was[a.Full()] = a.Was
		}
		if a.Adopts != "" {
			e.adopting[a.Full()] = true
		}
	}
	e.counts.Total = p.Counts.Changing()
	e.found.note(p, o.JudgeLive)
	e.watch(ctx)
	if err := e.prepare(ctx); err != nil {
		return nil, errors.Join(err, e.end(ctx, "failed", nil))
	}
	// only now: finding out about unfinished calls may have shown which halves
	// of a swap are left
	steps, err := plan(p)
	if err != nil {
		return nil, errors.Join(err, e.end(ctx, "failed", nil))
	}
	for _, a := range p.Actions {
		if a.Kind != propose.Same {
			e.byWard[a.Ward].Total++
		}
	}
	for ward, run := range e.runs {
		if total := e.byWard[ward].Total; total > 0 {
			if err := run.Announce(ctx, total); err != nil {
				return nil, errors.Join(err, e.end(ctx, "failed", nil))
			}
		}
	}
	e.event(Event{Kind: EventBegin})
	e.work(steps, e.mayGoOn, func(s *step) bool { return e.do(ctx, s) })
	if e.o.IfOneFails == Undo && len(e.failures) > 0 && e.broken == nil && ctx.Err() == nil && !e.stopped() {
		e.undo(ctx, steps)
	}
	return e.finish(ctx)
}

// executor is one run over one or several wards.
type executor struct {
	o    Options
	p    *propose.Proposal
	r    *Result // as far as it is known
	runs map[string]*ledger.Run

	tally
	takenBack
	goingOn
	outputs

	adopting     map[string]bool   // by full address
	was          map[string]string // full address -> the one that it is renamed from
	may          func() bool       // what work was told
	begun        map[string]bool   // steps that have made a call
	stumbled     bool              // a call has failed
	unclearCalls []*call
	pace         *pace
	intents      int
	confided     redact.Redactor // texts of secrets that were revealed
	outside      *outside
	found        *finder
}

// begin takes the locks, or takes over those that are held already.
func begin(ctx context.Context, o Options, scopes map[string]ledger.Scope, proposal string) (*executor, error) {
	if o.Parallel <= 0 {
		o.Parallel = DefaultParallel
	}
	if o.Timeout <= 0 {
		o.Timeout = DefaultTimeout
	}
	e := &executor{
		o: o, runs: map[string]*ledger.Run{}, was: map[string]string{}, adopting: map[string]bool{},
		begun: map[string]bool{}, may: func() bool { return true }, pace: newPace(o.Parallel),
		tally: newTally(), takenBack: takenBack{calls: map[string][]*madeCall{}, undoneHalves: map[string]int{}},
		goingOn: goingOn{already: map[string]bool{}},
		outputs: outputs{watched: map[string]bool{}, stirred: map[string]bool{}, seenNow: map[string]*ledger.Record{}},
	}
	e.outside = &outside{ledgers: o.Ledgers, states: map[string]*ledger.State{}}
	e.found = &finder{o: o, e: e, things: map[string]*propose.Found{}}
	h := o.Locks
	if h == nil {
		var err error
		if h, err = TakeLocks(ctx, scopes, proposal, o); err != nil {
			return nil, err
		}
	} else if !h.Covers(scopes) {
		return nil, errors.New("the locks that are held are not enough for the proposal")
	}
	e.o.Run, e.runs = h.id, h.take()
	for w := range e.runs {
		e.byWard[w] = &Counts{}
	}
	return e, nil
}

// prepare does what comes between taking the lock and the first call.
func (e *executor) prepare(ctx context.Context) error {
	if err := e.recover(ctx, nil); err != nil {
		return err
	}
	if err := e.judge(ctx); err != nil {
		return err
	}
	return e.recordOnly(ctx)
}

// recordOnly writes the records of which only needs or care move.
func (e *executor) recordOnly(ctx context.Context) error {
	lines := e.policyNotes()
	for _, a := range e.p.Actions {
		if a.Plan == nil || !a.Plan.RecordOnly {
			continue
		}
		old, err := e.runs[a.Ward].Record(a.Address)
		if err != nil {
			return err
		}
		if old == nil || slices.Contains(e.earlier, old.Run) && old.Declared == a.Plan.Declared {
			continue // an earlier run of the same proposal has done it
		}
		r := *old
		r.Needs, r.Care, r.Declared, r.Inputs, r.Kit = a.Needs, a.Plan.Care, a.Plan.Declared, a.Plan.Inputs, a.Plan.Kit
		r.Version++
		r.Changed, r.Run = now(), e.o.Run
		lines[a.Ward] = append(lines[a.Ward], ledger.Line{Kind: ledger.KindNote,
			Note: &ledger.Note{What: "needs and care", Record: &r}})
	}
	for ward, list := range lines {
		if err := e.runs[ward].Append(ctx, list...); err != nil {
			return err
		}
	}
	return nil
}

func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

// stopped reports whether the run was told to stop.
func (e *executor) stopped() bool {
	select {
	case <-e.o.Stop:
		return true
	default:
		return false
	}
}

// mayGoOn reports whether new steps may start: nothing has failed, or what
// does not depend on it is wanted all the same.
func (e *executor) mayGoOn() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.broken == nil && (e.o.IfOneFails == GoOn || len(e.failures) == 0 && !e.stumbled)
}

// do carries out a step and reports whether what follows may go on.
func (e *executor) do(ctx context.Context, s *step) bool {
	a := s.action
	if e.already[s.name] {
		return true
	}
	h := ""
	tell := e.event
	if s.half == rename && a.Kind != propose.Rename || s.half == adopt && a.Kind != propose.Adopt {
		tell = func(Event) {} // what follows is told
	}
	if len(inCloud(a)) > 1 || a.Kind == propose.Swap {
		h = string(s.half)
	}
	tell(Event{Kind: EventStart, Ward: a.Ward, Address: a.Address, Action: a.Kind, Half: h})
	began := time.Now()
	err := e.carryOut(ctx, s)
	took := time.Since(began)
	seconds := took.Seconds()
	if errors.Is(err, errNotBegun) {
		tell(Event{Kind: EventNotBegun, Ward: a.Ward, Address: a.Address, Action: a.Kind, Half: h})
		return false
	}
	if err != nil {
		unclear := errors.Is(err, errUnclear)
		e.mu.Lock()
		e.errs[a.Full()] = err
		delete(e.unfinished, a.Full())
		e.took[a.Full()] += took
		if unclear {
			e.counts.Unclear++
			e.byWard[a.Ward].Unclear++
		} else {
			e.counts.Failed++
			e.byWard[a.Ward].Failed++
		}
		e.failures = append(e.failures, e.failed(a, err)...)
		e.mu.Unlock()
		e.event(Event{Kind: EventFailed, Ward: a.Ward, Address: a.Address, Action: a.Kind, Half: h, Seconds: seconds,
			Err: err})
		return false
	}
	e.stir(a)
	e.mu.Lock()
	e.took[a.Full()] += took
	whole := e.stepDone(a)
	skipped := e.skipped[a.Full()]
	if whole {
		e.counts.Done++
		e.byWard[a.Ward].Done++
	}
	done := e.byWard[a.Ward].Done
	e.mu.Unlock()
	e.runs[a.Ward].Progress(done)
	kind := EventDone
	if skipped {
		kind = EventSkipped
	}
	tell(Event{Kind: kind, Ward: a.Ward, Address: a.Address, Action: a.Kind, Half: h, Seconds: seconds})
	return true
}

// stepDone counts a step of an action, and reports whether it was the last.
func (e *executor) stepDone(a *propose.Action) bool {
	full := a.Full()
	e.halfDone[full]++
	if e.halfDone[full] == len(halves(a)) {
		delete(e.unfinished, full)
		return true
	}
	e.unfinished[full] = true
	return false
}

// judgeAgain lets the rules judge what they were undecided about.
func (e *executor) judgeAgain(ctx context.Context, a *propose.Action, inputs value.Map) error {
	if e.o.Judge == nil {
		return nil
	}
	said, err := e.o.Judge(ctx, a, inputs)
	e.mu.Lock()
	defer e.mu.Unlock()
	e.said[a.Ward] = append(e.said[a.Ward], said...)
	return err
}

// lookupIn is lookup for value.Resolve.
func (e *executor) lookupIn(ctx context.Context) func(value.Ref) (any, error) {
	return func(ref value.Ref) (any, error) { return e.lookup(ctx, ref) }
}

// lookup answers for an attribute from the records as they are now.
func (e *executor) lookup(ctx context.Context, ref value.Ref) (any, error) {
	if name, ok := value.SecretName(ref.Address); ok {
		return e.secret(name)
	}
	if value.IsFound(ref.Address) {
		return e.found.lookup(ctx, ref, e.lookupIn(ctx))
	}
	ward, _ := value.SplitWard(ref.Address)
	e.mu.Lock()
	seen := e.seenNow[ref.Address]
	e.mu.Unlock()
	if seen != nil {
		v, known := seen.At(ref.Path)
		return e.heard(ref, v, known)
	}
	if e.runs[ward] == nil {
		v, err := e.outside.lookup(ctx, ref)
		if err != nil {
			return nil, err
		}
		return e.heard(ref, v, true)
	}
	r, err := e.recordOf(ref.Address, e.was[ref.Address])
	if err != nil {
		return nil, err
	}
	if r == nil || r.ID == "" {
		return nil, value.ErrUnknown
	}
	v, known := r.At(ref.Path)
	if len(r.Hidden) > 0 {
		e.confide(v)
	}
	return e.heard(ref, v, known)
}

// heard keeps a secret from being shown. One that the cloud has never shown is known to
// nobody, and nothing is sent in its place.
func (e *executor) heard(ref value.Ref, v any, known bool) (any, error) {
	if !ref.Secret {
		return v, nil
	}
	if !known || v == nil {
		return nil, fmt.Errorf("%s of %s is a secret that the cloud has not shown, so nothing can be made from it",
			ref.Path, ref.Address)
	}
	e.confide(v)
	return v, nil
}
