package ledger

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
)

// SealWith makes the ledger one whose every object is sealed.
func (l *Ledger) SealWith(b *seal.Box) { l.box = b }

// object is a stored object that was opened and is yet to be proven.
type object struct {
	plain  []byte
	opened *seal.Opened // nil when it is not sealed
}

// ErrSealed is the error for a sealed ledger that nothing opens here.
var ErrSealed = errors.New("it is sealed, and kasbah.toml says seal = \"off\": `kasbah ledger reseal` with the keys " +
	"that can read it opens the ledger")

// errUnsaid is ErrSealed where kasbah.toml does not ask for a ledger in clear either.
var errUnsaid = errors.New("it is sealed, and [ledger] in kasbah.toml does not say how: seal, recipients, estate_id " +
	"and estate_key are missing. Put them back as they were; the history of kasbah.toml has them")

// OpenOnPurpose says that kasbah.toml asks for a ledger that is not sealed, rather than
// saying nothing.
func (l *Ledger) OpenOnPurpose() { l.unsealed = true }

// sealedHere is the error of a sealed ledger in an estate that seals nothing.
func (l *Ledger) sealedHere() error {
	if l.unsealed {
		return ErrSealed
	}
	return errUnsaid
}

// open decrypts an object. A checkpoint that is not sealed could be anybody's.
func (l *Ledger) open(key string, body []byte, checkpoint bool) (*object, error) {
	switch sealed := seal.IsSealed(body); {
	case sealed && l.box == nil:
		return nil, l.sealedHere()
	case !sealed && l.box != nil && checkpoint && !l.resealing:
		return nil, seal.ErrClear
	case !sealed: // the fold says whether an entry may be
		return &object{plain: body}, nil
	}
	o, err := l.box.Open(key, body)
	if err != nil {
		return nil, err
	}
	return &object{plain: o.Plain, opened: o}, nil
}

// keyring is what proves the entries from the first on: what the newest checkpoint knows of
// keys, for those to whom the first entries are not sealed. Where there is none, the
// entries bring theirs along.
func (l *Ledger) keyring(ctx context.Context) (*keyring, error) {
	k := &keyring{box: l.box}
	if l.box == nil {
		return k, nil
	}
	s, err := l.newestCheckpoint(ctx, 0)
	if err != nil {
		return nil, err
	}
	if s.Readers != nil && s.Readers.Estate != nil {
		for _, g := range s.Former {
			if err := l.box.Learn(g.Estate); err != nil {
				return nil, err
			}
		}
		k.former, k.known, k.last, k.now = s.Former, s.Seq, s.Readers.Estate, s.Readers.Estate
	}
	return k, nil
}

// sealed is an object as it is stored for those who read now, and for those who will when
// the object changes them. Nothing is sealed where nobody is named; what opens a sealed
// ledger is sealed itself, to those who could read before. A key proves it that was in
// force before the object.
func (l *Ledger) sealed(key string, body []byte, was, changed *Readers) ([]byte, error) {
	to, by := was, was
	if changed != nil && len(changed.Recipients) > 0 {
		to = changed
	}
	if to == nil || len(to.Recipients) == 0 {
		return body, nil
	}
	if l.box == nil {
		return nil, l.sealedHere()
	}
	if by == nil || by.Estate == nil {
		by = to
	}
	if by.Estate == nil {
		return nil, errors.New("the estate's key is not known")
	}
	return seal.Seal(*by.Estate, key, body, to.Recipients)
}

// damage names the object of an error, which is damage unless it only cannot be
// opened here.
func (l *Ledger) damage(object string, err error) error {
	var keys *seal.IdentitiesError
	if errors.As(err, &keys) {
		return err
	}
	if errors.Is(err, seal.ErrNoIdentity) || errors.Is(err, ErrSealed) || errors.Is(err, errUnsaid) {
		return fmt.Errorf("%s of the ledger of %s: %w", object, l.Ward, err)
	}
	return &damageError{l.Ward, object, err}
}

// NotSealedError is returned for a ledger that is to be sealed and is not yet.
type NotSealedError struct {
	Ward string
	Seen bool // this machine has seen it as it is, when kasbah.toml did not ask for sealing
}

// Error says what that means, and what to do where that makes nothing worse.
func (e *NotSealedError) Error() string {
	s := fmt.Sprintf("the ledger of %s is not sealed, and kasbah.toml says seal = \"all\": nothing proves who wrote "+
		"it, so it is not trusted", e.Ward)
	if e.Seen {
		s += ". This machine read it in this state before it was to be sealed: `kasbah ledger reseal` seals it"
	}
	return s
}

// ReadersError is returned to a writer when the recipients of kasbah.toml are
// not those that the ledger notes.
type ReadersError struct {
	Ward           string
	Missing, Extra []string // in kasbah.toml, against the note
}

// Error says who, and what to do.
func (e *ReadersError) Error() string {
	out := "the recipients in kasbah.toml are not those that the ledger of " + e.Ward + " notes"
	for _, r := range e.Missing {
		out += "; the note has " + r
	}
	for _, r := range e.Extra {
		out += "; kasbah.toml has " + r
	}
	return out + ": `kasbah ledger reseal` makes them the ledger's, or take kasbah.toml back"
}

// MayWrite is an error when the ledger, as it is, takes no entries from here.
func (l *Ledger) MayWrite(s *State) error { return l.agreed(s) }

// agreed is an error unless the ledger's readers and writers are those of kasbah.toml.
func (l *Ledger) agreed(s *State) error {
	if s.Seq == 0 {
		return nil
	}
	return errors.Join(l.readersAgree(s), l.writersDiffer(s))
}

func (l *Ledger) readersAgree(s *State) error {
	switch {
	case l.box == nil && s.Readers == nil, s.Seq == 0:
		return nil
	case l.box == nil:
		return l.sealedHere()
	case s.Readers == nil:
		return &NotSealedError{Ward: l.Ward}
	case s.Readers.Estate == nil || !l.box.InForce(*s.Readers.Estate):
		return &OldKeyError{Ward: l.Ward}
	}
	e := &ReadersError{Ward: l.Ward}
	for _, r := range s.Readers.Recipients {
		if !slices.Contains(l.box.Recipients, r) {
			e.Missing = append(e.Missing, r)
		}
	}
	for _, r := range l.box.Recipients {
		if !slices.Contains(s.Readers.Recipients, r) {
			e.Extra = append(e.Extra, r)
		}
	}
	if len(e.Missing)+len(e.Extra) > 0 {
		return e
	}
	return nil
}

// wanted are the readers that kasbah.toml asks for.
func (l *Ledger) wanted(ctx context.Context) (*Readers, error) {
	e, err := l.box.Need(ctx)
	if err != nil {
		return nil, err
	}
	return &Readers{Recipients: l.box.Recipients, Estate: &e}, nil
}

// Reseal makes the recipients of kasbah.toml the ledger's readers: later
// entries are sealed to them, and a checkpoint that holds all they need. What
// is older stays as it is. It is a run on the whole ledger, and reports whether
// anything was to be changed.
func (l *Ledger) Reseal(ctx context.Context, o BeginOptions) (bool, error) {
	l.resealing = true
	before, err := l.newestSeen() // what is read now proves nothing about itself
	if err != nil {
		return false, err
	}
	s, err := l.Load(ctx)
	if err != nil || s.Seq == 0 || l.agreed(s) == nil {
		return false, err
	}
	if err := l.mayTakeOver(s, before.is(s)); err != nil {
		return false, err
	}
	var to *Readers
	if l.readersAgree(s) != nil {
		if l.box == nil {
			return false, l.sealedHere()
		}
		if to, err = l.wanted(ctx); err != nil {
			return false, err
		}
		if s.Readers != nil && to.Estate.Is(*s.Readers.Estate) && l.lessRead(s) {
			return false, &keyInForceError{l.Ward}
		}
	}
	var by *Writers
	if l.writersDiffer(s) != nil {
		by = &Writers{Keys: l.writers}
	}
	return true, l.change(ctx, to, by, o)
}

// mayTakeOver is an error when resealing would build on what nothing proves, and this
// machine has not seen it before, as seen says of the time since it is to be sealed.
func (l *Ledger) mayTakeOver(s *State, seen bool) error {
	if l.box != nil {
		switch {
		case s.Readers == nil && !l.saw(l.inClear, s):
			return &unprovenError{l.Ward, "it is in clear"}
		case s.Readers != nil && !l.box.InForce(*s.Readers.Estate) && !seen:
			return &unprovenError{l.Ward, "a former key of the estate proves it"}
		}
	}
	if len(l.writers) == 0 {
		return nil
	}
	switch trusted := (&Writers{Keys: l.writers}); {
	case seen || l.saw(l.inClear, s):
	case s.Writers == nil:
		return &unprovenError{l.Ward, "it is not signed"}
	case !trusted.Lists(s.Writers.By):
		return &unprovenError{l.Ward, "its writers were last changed by a key that kasbah.toml does not list"}
	}
	return nil
}

// lessRead reports whether somebody who reads the ledger now is no longer to read it.
func (l *Ledger) lessRead(s *State) bool {
	return slices.ContainsFunc(s.Readers.Recipients, func(r string) bool {
		return !slices.Contains(l.box.Recipients,
			r)
	})
}

// keyInForceError is returned to one who takes a reader away and leaves the estate's key,
// which that reader knows.
type keyInForceError struct{ Ward string }

// Error says what to do.
func (e *keyInForceError) Error() string {
	return fmt.Sprintf("the ledger of %s: a reader was removed from kasbah.toml, but the estate still has the key "+
		"that they know, so they could forge entries. Put the reader back, then `kasbah key dismiss NAME`, which "+
		"also makes a new key", e.Ward)
}

// Unseal opens a sealed ledger: later entries are in clear. b opens what is
// there. One that records secrets stays sealed.
func (l *Ledger) Unseal(ctx context.Context, b *seal.Box, o BeginOptions) (bool, error) {
	l.box, l.resealing = b, true
	s, err := l.Load(ctx)
	if err != nil || s.Readers == nil {
		return false, err
	}
	if err := l.nothingHidden(s); err != nil {
		return false, err
	}
	return true, l.change(ctx, &Readers{}, nil, o)
}

// change makes others the ledger's readers and writers; nil leaves them as they are.
func (l *Ledger) change(ctx context.Context, to *Readers, by *Writers, o BeginOptions) error {
	o.Reseal = true
	r, err := l.Begin(ctx, o)
	if err != nil {
		return err
	}
	if to != nil {
		err = r.Append(ctx, Line{Kind: KindNote, Note: &Note{What: "readers", Readers: to}})
	}
	if err == nil && by != nil {
		err = r.Append(ctx, Line{Kind: KindNote, Note: &Note{What: "writers", Writers: by}})
	}
	if err == nil {
		r.checkpoints.Lock()
		err = l.checkpoint(ctx, r.State(), r.signer) // new readers cannot read what is older
		r.checkpoints.Unlock()
	}
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	return errors.Join(err, r.End(ctx, End{Outcome: outcome}))
}

// nothingHidden is an error when records hold secrets, which only a sealed ledger
// may.
func (l *Ledger) nothingHidden(s *State) error {
	secrets, err := s.Secrets()
	if err != nil {
		return err
	}
	held := value.Keys(secrets)
	if len(held) > 3 {
		held = append(held[:3], fmt.Sprintf("%d more", len(held)-3))
	}
	if len(held) > 0 {
		return fmt.Errorf("the ledger of %s stays sealed: it records secrets of %s; take them out of the "+
			"declarations and enact that first", l.Ward, strings.Join(held, ", "))
	}
	return nil
}

// Memory is what a machine remembers of ledgers, so that an old copy that was
// put back is noticed.
type Memory interface {
	// Newest is the newest entry that was seen of a ledger; its Seq is 0 for none.
	Newest(ledger string) (Head, error)
	// Remember takes a newer one.
	Remember(ledger string, newest Head) error
}

// Head is an entry that was the newest of a log at some time.
type Head struct {
	Seq      int64  `json:"seq"`
	Hash     string `json:"hash"`               // SHA-256 of its stored bytes
	Accepted int    `json:"accepted,omitempty"` // how many acceptances stood in the log up to it
}

// is reports whether it is the newest entry of a state.
func (h Head) is(s *State) bool { return h.Seq > 0 && h.Seq == s.Seq && h.Hash == s.Hash }

func (s *State) head() Head { return Head{s.Seq, s.Hash, len(s.Accepted)} }

// RememberIn makes the ledger compare what it reads with what was seen before.
func (l *Ledger) RememberIn(m Memory) { l.memory = m }

// SeenOpen is what was seen of the ledger while it was not to be sealed.
func (l *Ledger) SeenOpen(m Memory) { l.inClear = m }

// RollbackError is returned for a ledger that lacks what was seen of it.
type RollbackError struct {
	Ward      string
	Seen, End int64 // the newest entry that was seen, and the log's last
}

// Error says what happened and what to do.
func (e *RollbackError) Error() string {
	what := fmt.Sprintf("it ends at entry %d", e.End)
	if e.Seen <= e.End {
		what = fmt.Sprintf("it has another entry %d", e.Seen)
	}
	return fmt.Sprintf("the ledger of %s is not the one that this machine has seen: entry %d was there, and now %s. "+
		"An old copy was put back, or another one. "+
		"If it was restored from a backup on purpose: kasbah ledger verify %s -accept %d -why \"…\"", e.Ward, e.Seen,
		what, e.Ward, e.End)
}

// newestSeen is the newest entry that this machine has seen.
func (l *Ledger) newestSeen() (Head, error) {
	if l.memory == nil {
		return Head{}, nil
	}
	return l.memory.Newest(l.prefix)
}

// compareMemory holds a state against what was seen before it was read.
func (l *Ledger) compareMemory(ctx context.Context, s *State, n Head) error {
	if l.memory == nil {
		return nil
	}
	if n.Seq > 0 {
		there, err := l.holds(ctx, s, n.Seq, n.Hash)
		if err != nil {
			return err
		}
		// An acceptance that stood in the log already when the entry was seen excuses nothing.
		if !there && (n.Accepted >= len(s.Accepted) || s.Accepted[n.Accepted].Entry >= n.Seq) {
			return &RollbackError{l.Ward, n.Seq, s.Seq}
		}
	}
	if s.Seq == 0 || s.head() == n || l.resealing { // what was read to be resealed is not proven yet
		return nil
	}
	return l.memory.Remember(l.prefix, s.head())
}

// holds reports whether the log up to a state holds an entry with a hash. Of one that was
// pruned, the list that the pruning run has left says what it was; a blank alone says nothing.
func (l *Ledger) holds(ctx context.Context, s *State, seq int64, hashed string) (bool, error) {
	if seq >= s.Seq {
		return seq == s.Seq && hashed == s.Hash, nil
	}
	body, err := l.store.Get(ctx, l.logKey(seq))
	switch {
	case errors.Is(err, store.ErrBlank):
		was, err := l.prunedHash(ctx, s, seq)
		return err == nil && was == hashed, err
	case errors.Is(err, store.ErrNotFound):
		return false, nil
	case err != nil:
		return false, err
	}
	return hash(body) == hashed, nil
}

// excuses reports whether an acceptance says that an entry of which only the number is
// known, such as that of a proposal, is gone.
func (s *State) excuses(seq int64) bool {
	return slices.ContainsFunc(s.Accepted, func(a Acceptance) bool { return a.Entry < seq && seq <= a.By })
}

// Accept notes that the log was lost or restored and ends at an entry, 0 for one of
// which nothing is left, so that machines that have seen more of it go on. It is a run.
// Locks of runs that the end cuts off are taken away: their rest cannot be proven.
func (l *Ledger) Accept(ctx context.Context, at int64, o BeginOptions) error {
	memory := l.memory
	l.memory = nil
	defer func() { l.memory = memory }()
	s, err := l.Load(ctx)
	if err != nil {
		return err
	}
	if s.Seq != at {
		return fmt.Errorf("the ledger of %s ends at entry %d, not at %d", l.Ward, s.Seq, at)
	}
	end := Acceptance{Entry: s.Seq, Hash: s.Hash}
	for _, h := range s.Holders() {
		if err := l.Break(ctx, h.Run, "the log was restored and ends inside of it: "+o.Reason, o.ID); err != nil &&
			!errors.Is(err, errHoldsNone) {
			return err
		}
	}
	r, err := l.Begin(ctx, o)
	if err != nil {
		return err
	}
	err = r.Append(ctx, Line{Kind: KindNote, Note: &Note{What: "accepted", Acceptance: &end}})
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	err = errors.Join(err, r.End(ctx, End{Outcome: outcome}))
	if err == nil && memory != nil {
		err = memory.Remember(l.prefix, r.state.head())
	}
	return err
}

// Contains is an error unless the log holds the entry that somebody has seen.
func (l *Ledger) Contains(ctx context.Context, seq int64, hashed string) error {
	s, err := l.Load(ctx)
	if err != nil || seq == 0 {
		return err
	}
	there, err := l.holds(ctx, s, seq, hashed)
	if err == nil && !there && !s.excuses(seq) {
		err = &RollbackError{l.Ward, seq, s.Seq}
	}
	return err
}
