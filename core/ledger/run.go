package ledger

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"kasbah/core/store"
)

const (
	beatAfter  = 10 * time.Second // a holder that was quiet this long writes a beat
	fenceAfter = 20 * time.Second // a holder that has not looked this long makes no call
	putTries   = 8                // of one append whose outcome is unknown

	// makeWay is how long a writer waits after an append while another run is
	// open, at least; and in appends, where those take long. Who loses the number
	// has put in vain, lists, reads what took it, and puts again. A writer that
	// knows of no other one waits so many appends as well, once in a while: one
	// that has not begun yet cannot be seen.
	makeWay        = 40 * time.Millisecond
	makeWayAppends = 4
	aloneFor       = time.Second
)

// ErrBroken is returned to a run whose lock was taken away. It can never
// write again and must make no further call.
var ErrBroken = errors.New("the lock of this run was taken away")

// Run is a run that holds the lock, from Begin to End.
type Run struct {
	ID string

	l      *Ledger
	scope  Scope
	signer *signer // nil where nothing says who may write
	queue  chan *appending
	quit   chan struct{}
	idle   chan struct{} // closed when the writer has ended

	last place // of the newest entry that this run has written; only the writer looks at it

	checkpoints exclusive // held while one is written; taken before mu

	mu     exclusive
	state  *State        // up to the newest entry known
	looked time.Duration // when the newest put or look began that met no break, by the ledger's clock
	took   time.Duration // of the newest append that took its number
	rested time.Duration // when it last made way for others, by upTime
	failed error         // why nothing more can be written
	done   int
	total  int
}

// exclusive is a lock that is held over reads and writes of a store. Who waits for it waits for a channel, which
// a simulation of time can tell from work (testing/synctest).
type exclusive chan struct{}

func (e exclusive) Lock()   { e <- struct{}{} }
func (e exclusive) Unlock() { <-e }

// TryLock reports whether the lock was free, and is held now.
func (e exclusive) TryLock() bool {
	select {
	case e <- struct{}{}:
		return true
	default:
		return false
	}
}

// BeginOptions say what a run is.
type BeginOptions struct {
	ID       string // several wards are locked under one
	Command  string
	Reason   string
	Proposal string
	Kept     bool  // the proposal is from a file
	Reseal   bool  // it may write although the readers are others than kasbah.toml says
	Scope    Scope // what it locks; everything when that is not known
}

// Begin takes the lock. A *LockedError says who holds it.
func (l *Ledger) Begin(ctx context.Context, o BeginOptions) (*Run, error) {
	s, err := l.Load(ctx)
	if err != nil {
		return nil, err
	}
	return l.beginOn(ctx, s, o)
}

// beginOn begins a run on a state, which it takes over.
func (l *Ledger) beginOn(ctx context.Context, s *State, o BeginOptions) (r *Run, err error) {
	if o.Scope.Empty() {
		o.Scope = Whole
	}
	r = l.newRun(o.ID, s)
	r.scope = o.Scope
	if !o.Reseal {
		if err := l.agreed(s); err != nil {
			return nil, err
		}
	}
	if r.signer, err = l.newSigner(o.ID, s); err != nil {
		return nil, err
	}
	begin := Line{Kind: KindBegin, Begin: &Begin{Scope: o.Scope, Command: o.Command, Reason: o.Reason,
		Proposal: o.Proposal, Kept: o.Kept, Process: l.who.Process, Key: r.signer.publicOf()}}
	if l.who.Commit != nil {
		begin.Begin.Commit = l.who.Commit()
	}
	if s.Seq == 0 {
		if l.box != nil {
			if begin.Begin.Readers, err = l.wanted(ctx); err != nil {
				return nil, err
			}
		}
		if len(l.writers) > 0 {
			begin.Begin.Writers = &Writers{Keys: l.writers}
		}
	}
	a, err := newAppending([]Line{begin})
	if err != nil {
		return nil, err
	}
	if err := r.append(ctx, a); err != nil {
		return nil, err
	}
	go r.write(context.WithoutCancel(ctx))
	return r, nil
}

// newRun is a run on a state, which it takes over. Its writer does not write yet.
func (l *Ledger) newRun(id string, s *State) *Run {
	return &Run{ID: id, l: l, state: s, mu: make(exclusive, 1), checkpoints: make(exclusive, 1),
		queue: make(chan *appending, 256), quit: make(chan struct{}), idle: make(chan struct{})}
}

// Ward is the ward whose ledger it writes.
func (r *Run) Ward() string { return r.l.Ward }

// State is what the log says up to the newest entry this run knows of, as a copy that
// stays as it is. It costs a map of all records: ask once for what needs several.
func (r *Run) State() *State {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.snapshot()
}

// Unresolved lists the calls of dead runs that have no result yet, of what this
// one writes and of what it only reads.
func (r *Run) Unresolved() (written, read []*OpenIntent) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, in := range r.state.Unresolved() {
		switch {
		case r.scope.MayWrite(in.Intent.Address):
			written = append(written, in)
		case has(r.scope.Reads, in.Intent.Address):
			read = append(read, in)
		}
	}
	return written, read
}

// Scope is what the run has locked.
func (r *Run) Scope() Scope { return r.scope }

// Values are the ward's as the last run that knew them left them.
func (r *Run) Values() Values {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.Values
}

// Record is the newest record of an address, or nil.
func (r *Run) Record(address string) (*Record, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.state.Records[address]
	if s == nil {
		return nil, nil
	}
	return s.Record()
}

// RecordedAs is the address under which a thing of a type is recorded, or "".
func (r *Run) RecordedAs(typ, id string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state.RecordedAs(typ, id)
}

// Announce tells others how many actions the run has before it.
func (r *Run) Announce(ctx context.Context, total int) error {
	r.mu.Lock()
	r.total = total
	r.mu.Unlock()
	return r.Append(ctx, Line{Kind: KindBeat, Beat: &Beat{Total: total}})
}

// Progress counts the actions done, for the next beat.
func (r *Run) Progress(done int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.done = done
}

// Append writes lines. When it returns nil they are durable. Lines of many
// goroutines that are ready together go into one entry.
func (r *Run) Append(ctx context.Context, lines ...Line) error {
	a, err := newAppending(lines)
	if err != nil {
		return err
	}
	select {
	case r.queue <- a:
	case <-r.idle:
		return r.failure()
	}
	select {
	case err := <-a.errc:
		return err
	case <-r.idle:
		select {
		case err := <-a.errc:
			return err
		default:
			return r.failure()
		}
	}
}

func (r *Run) failure() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.failed != nil {
		return r.failed
	}
	return errors.New("the run has ended")
}

// put writes bytes under a key until it is known whether they are there. A key
// that holds the same bytes was taken by an earlier try, even one that a library
// has made behind our back: no two writers make the same bytes.
func (l *Ledger) put(ctx context.Context, key string, body []byte) (won bool, err error) {
	for try := 0; ; try++ {
		err = l.store.PutIfAbsent(ctx, key, body)
		if err == nil {
			return true, nil
		}
		if errors.Is(err, store.ErrExists) {
			there, getErr := l.store.Get(ctx, key)
			if getErr == nil {
				return bytes.Equal(there, body), nil
			}
			if errors.Is(getErr, store.ErrBlank) {
				return false, nil
			}
			err = getErr
		}
		if try+1 == putTries || ctx.Err() != nil {
			return false, err
		}
		wait := time.NewTimer(min(time.Duration(50<<try)*time.Millisecond, 2*time.Second))
		select {
		case <-wait.C:
		case <-ctx.Done():
			wait.Stop()
			return false, errors.Join(err, ctx.Err())
		}
	}
}

// MayCall is asked before every call to the cloud. It is an error unless the
// run still holds its lock by its own newest knowledge, which must be younger
// than 20 s by a clock that runs on while the machine sleeps.
func (r *Run) MayCall(ctx context.Context) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.failed != nil {
		return r.failed
	}
	if began := r.l.clock(); began-r.looked > fenceAfter {
		if err := r.l.advance(ctx, r.state, 0); err != nil {
			return err
		}
		r.looked = began
		if r.l.clock()-began > fenceAfter {
			return fmt.Errorf("a look at the ledger of %s took longer than %s: the lock may be gone by now", r.l.Ward,
				fenceAfter)
		}
	}
	if r.state.Open[r.ID] == nil {
		return ErrBroken
	}
	return nil
}

// End gives the lock back. Calls that were never started get their result
// from the caller before.
func (r *Run) End(ctx context.Context, end End) error {
	defer r.stop()
	r.mu.Lock()
	long := r.state.long() // what comes next would read them all
	r.mu.Unlock()
	if long {
		r.checkpoint()
	}
	err := r.Append(context.WithoutCancel(ctx), Line{Kind: KindEnd, End: &end})
	if err == nil && r.l.memory != nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		err = r.l.memory.Remember(r.l.prefix, r.state.head())
	}
	return err
}

func (r *Run) stop() {
	select {
	case <-r.quit:
	default:
		close(r.quit)
	}
	<-r.idle
	r.checkpoints.Lock() // the one that is on its way is written
	r.checkpoints.Unlock()
}
