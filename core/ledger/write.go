package ledger

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kasbah/core/seal"
)

// appending is what one caller wants to append. Each caller writes its own lines
// as JSON, so that this goes on beside the store's work.
type appending struct {
	lines []Line
	body  []byte // the same, as linesOf writes them
	errc  chan error
}

func newAppending(lines []Line) (*appending, error) {
	body, err := linesOf(lines)
	return &appending{lines: lines, body: body, errc: make(chan error, 1)}, err
}

// batch is what goes into one entry.
type batch struct {
	callers []*appending
	lines   []Line
	header  Header
	stored  []byte // the entry, once it is packed
	hash    string // of stored
}

const maxBatch = 512

func (b *batch) add(a *appending) {
	b.callers, b.lines = append(b.callers, a), append(b.lines, a.lines...)
}

// tell ends the waiting of those whose lines these are.
func (b *batch) tell(err error) {
	for _, a := range b.callers {
		a.errc <- err
	}
}

// plain reports whether the entry behind this one is judged and sealed as this one is:
// it changes neither who holds what nor who can read.
func (b *batch) plain() bool {
	if b == nil {
		return true
	}
	for i := range b.lines {
		switch l := &b.lines[i]; l.Kind {
		case KindIntent, KindResult, KindBeat:
		case KindNote:
			if l.Note.wide() {
				return false
			}
		default:
			return false
		}
	}
	return true
}

// place is an entry in the log.
type place struct {
	seq  int64
	hash string
}

// write is the run's only writer. It gathers what is queued into one entry and beats
// when nothing came for a while. While an entry is on its way to the store, the one
// before is folded into the state and its callers are told.
func (r *Run) write(ctx context.Context) {
	defer close(r.idle)
	beat := time.NewTicker(beatAfter)
	defer beat.Stop()
	var stands *batch // in the log, not folded yet, and its callers not told
	settle := func() error {
		b := stands
		if stands = nil; b == nil {
			return nil
		}
		return r.settle(b)
	}
	for {
		next := &batch{}
		rest := r.rest()
		if rest <= 0 {
			r.drain(next)
		}
		if len(next.callers) == 0 || !stands.plain() {
			if err := settle(); err != nil {
				next.tell(err)
				return
			}
		}
		if len(next.callers) == 0 {
			r.makeWay(rest)
			if !r.gather(next, beat.C) {
				return
			}
			r.drain(next)
		}
		// one caller's cancelled context must not lose the others' lines
		err := r.enter(ctx, next, settle)
		if err != nil {
			r.fail(err)
			next.tell(err)
			_ = settle() // those whose lines are in the log; that the run has failed is known
			return
		}
		stands = next
		beat.Reset(beatAfter)
	}
}

// gather waits for the next lines, or writes a beat. It reports whether the run goes on.
func (r *Run) gather(b *batch, beat <-chan time.Time) bool {
	select {
	case <-r.quit:
		return false
	case a := <-r.queue:
		b.add(a)
	case <-beat:
		r.mu.Lock()
		line := Line{Kind: KindBeat, Beat: &Beat{Done: r.done, Total: r.total}}
		r.mu.Unlock()
		a, err := newAppending([]Line{line})
		if err != nil {
			r.fail(err)
			return false
		}
		b.add(a)
	}
	return true
}

// drain adds what is queued now.
func (r *Run) drain(b *batch) {
	for len(b.callers) < maxBatch {
		select {
		case a := <-r.queue:
			b.add(a)
		default:
			return
		}
	}
}

// settle folds an entry that is in the log into the state, and tells those whose
// lines are in it.
func (r *Run) settle(b *batch) error {
	r.mu.Lock()
	err := r.fold(b)
	if err == nil && r.state.wantsCheckpoint() {
		r.checkpointBeside()
	}
	r.mu.Unlock()
	b.tell(err)
	if err != nil {
		r.fail(err)
	}
	return err
}

// fold folds an entry of this run into the state, unless MayCall has read it back already.
func (r *Run) fold(b *batch) error {
	if r.state.Seq >= b.header.Seq {
		return nil
	}
	return r.state.fold(&Entry{Header: b.header, Lines: b.lines, Size: len(b.stored), Hash: b.hash,
		Sealed: seal.IsSealed(b.stored), own: true})
}

// fail says why nothing more can be written.
func (r *Run) fail(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.failed == nil {
		r.failed = err
	}
}

// append writes one entry and folds it.
func (r *Run) append(ctx context.Context, callers ...*appending) error {
	b := &batch{}
	for _, a := range callers {
		b.add(a)
	}
	if err := r.enter(ctx, b, func() error { return nil }); err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.fold(b)
}

// enter writes a batch under the next number. When another program took the number
// its entry is read first; when the outcome is unknown the same bytes go to the same key
// again, until it is known. While the store works, settle sees to what this run has
// written before.
func (r *Run) enter(ctx context.Context, b *batch, settle func() error) error {
	for {
		if err := r.pack(b); err != nil {
			return err
		}
		settled := make(chan error, 1)
		go func() { settled <- settle() }()
		from := r.l.clock()
		won, err := r.l.put(ctx, r.l.logKey(b.header.Seq), b.stored)
		until := r.l.clock()
		if err != nil {
			err = fmt.Errorf("the ledger of %s could not be written: %w", r.l.Ward, err)
		}
		if err := errors.Join(err, <-settled); err != nil {
			return err
		}
		r.mu.Lock()
		if won {
			// The log held no break when the put began; while it went on one may have come.
			r.looked, r.took, r.last = max(r.looked, from), until-from, place{b.header.Seq, b.hash}
		} else {
			err = r.l.advance(ctx, r.state, 0)
		}
		r.mu.Unlock()
		if err != nil || won {
			return err
		}
	}
}

// pack makes the entry that follows the newest one known. It is an error when the
// log, as far as it is known, forbids the run to write it.
func (r *Run) pack(b *batch) error {
	r.mu.Lock()
	behind := r.last // not in the state yet, maybe
	if r.state.Seq >= behind.seq {
		behind = place{r.state.Seq, r.state.Hash}
	}
	err := r.allowed(b.lines)
	was := r.state.Readers
	r.mu.Unlock()
	if err != nil {
		return err
	}
	bodies := make([][]byte, len(b.callers))
	for i, a := range b.callers {
		bodies[i] = a.body
	}
	// another run wrote the first entry
	if first := b.lines[0].Begin; behind.seq > 0 && first != nil && (first.Readers != nil || first.Writers != nil) {
		begin := *first
		begin.Readers, begin.Writers = nil, nil
		b.lines[0].Begin = &begin
		if bodies[0], err = linesOf(b.lines[:1]); err != nil { // it is the only one
			return err
		}
	}
	b.header = Header{
		Format: Format, Seq: behind.seq + 1, Prev: behind.hash, Time: time.Now().UTC(), Run: r.ID,
		Who: r.l.who.Who, Host: r.l.who.Host, Program: r.l.who.Program, Kind: b.lines[0].Kind,
	}
	key := r.l.logKey(b.header.Seq)
	body, err := r.l.codec.pack(b.header, bodies...)
	if err == nil {
		body, err = r.l.sealed(key, r.signer.sign(key, body), was, readersOf(b.lines))
	}
	if err != nil {
		return err
	}
	b.stored, b.hash = body, hash(body)
	return nil
}

// allowed is an error when the log, as far as it is known, forbids the run to
// write these lines.
func (r *Run) allowed(lines []Line) error {
	if lines[0].Kind == KindBegin {
		return r.state.Locked(r.l.Ward, lines[0].Begin.Scope)
	}
	open := r.state.Open[r.ID]
	if open == nil {
		return ErrBroken
	}
	for i := range lines {
		if beyond := open.Begin.Scope.exceeds(&lines[i], r.state.Records); beyond != "" {
			return fmt.Errorf("this run has not locked %s in %s, and may not write it", beyond, r.l.Ward)
		}
		record, without := recordOf(&lines[i])
		if record == nil {
			continue
		}
		if what, by := r.state.heldTwice(record, without); what != "" {
			return &twiceError{r.l.Ward, record.Address, what, by}
		}
	}
	return nil
}

// recordOf is the record that a line writes, and the address whose record it takes
// away; nil for none.
func recordOf(l *Line) (r *Record, without string) {
	switch l.Kind {
	case KindResult:
		return l.Result.Record, ""
	case KindNote:
		return l.Note.Record, l.Note.Dropped
	}
	return nil, ""
}

// twiceError is returned to a writer that would record a thing at a second address.
type twiceError struct{ Ward, Address, Thing, By string }

// Error names both addresses.
func (e *twiceError) Error() string {
	return fmt.Sprintf("%s cannot hold %s: the ledger of %s records it as %s", e.Address, e.Thing, e.Ward, e.By)
}

// rest is how long the writer waits before it writes again where others write as
// well, so that none of them starves.
func (r *Run) rest() time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	now, wait := r.l.clock(), makeWayAppends*r.took
	switch {
	case len(r.state.Open) > 1:
		wait = max(wait, makeWay)
	case now-r.rested < aloneFor:
		wait = 0
	}
	wait -= now - r.looked
	if wait > 0 {
		r.rested = now + wait
	}
	return wait
}

// makeWay waits, unless the run ends.
func (r *Run) makeWay(rest time.Duration) {
	if rest <= 0 {
		return
	}
	t := time.NewTimer(rest)
	defer t.Stop()
	select {
	case <-t.C:
	case <-r.quit:
	}
}

// checkpointBeside writes a checkpoint of the state as it is now while the run goes on: one of a large ledger takes
// seconds, and longer than the lock may be quiet where the store is slow. One is written at a time. r.mu is held.
func (r *Run) checkpointBeside() {
	if !r.checkpoints.TryLock() {
		return
	}
	now := r.state.snapshot()
	r.state.checkpointed()
	go func() {
		defer r.checkpoints.Unlock()
		r.writeCheckpoint(now)
	}()
}

// checkpoint writes one of the state as it is, and waits for it.
func (r *Run) checkpoint() {
	r.checkpoints.Lock()
	defer r.checkpoints.Unlock()
	r.mu.Lock()
	now := r.state.snapshot()
	r.state.checkpointed()
	r.mu.Unlock()
	r.writeCheckpoint(now)
}

// writeCheckpoint writes one. A checkpoint is a convenience: when it cannot be written the log says the same, so the
// failure is noted and nothing more; the next try comes after as many entries more. r.checkpoints is held.
func (r *Run) writeCheckpoint(now *State) {
	if err := r.l.checkpoint(context.Background(), now, r.signer); err != nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.state.Notes = append(r.state.Notes, err.Error())
	}
}
