package ledger

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"golang.org/x/crypto/ssh"

	"kasbah/core/seal"
	"kasbah/core/store"
)

// Ledger is the log of one ward in one environment. It may be used by many
// goroutines; it holds no state of its own.
type Ledger struct {
	Ward   string
	store  store.Store
	prefix string
	codec  *codec
	who    Identity

	box       *seal.Box // nil when nothing is sealed
	unsealed  bool      // on purpose
	memory    Memory    // nil when nothing is remembered
	inClear   Memory    // of the time when it was not sealed; nil when nothing is remembered
	writers   []string  // the public keys of those who may write; none: anybody who can
	resealing bool      // what is not sealed yet may be read

	clock func() time.Duration // upTime, or that of a simulation
}

// Identity says who writes.
type Identity struct {
	Who     string
	Host    string
	Program string // version of kasbah
	Process Process
	// Commit is that of the estate's repository, as Begin has it; nil where there is none.
	Commit func() string
	// Sign is the first key of this machine among some public ones, as in an
	// authorized_keys file; nil for none.
	Sign func(among []string) (ssh.Signer, error)
}

// New names the ledger of a ward in an environment of an estate.
func New(s store.Store, estate, env, ward string, who Identity) (*Ledger, error) {
	c, err := newCodec()
	if err != nil {
		return nil, err
	}
	return &Ledger{Ward: ward, store: s, prefix: estate + "/" + env + "/" + ward + "/", codec: c, who: who,
		clock: upTime}, nil
}

// ClockedBy has the ledger measure time by another clock than the machine's, as a simulation does. Such a
// clock runs on, and is never set.
func (l *Ledger) ClockedBy(clock func() time.Duration) { l.clock = clock }

func (l *Ledger) logKey(seq int64) string { return fmt.Sprintf("%slog/%010d", l.prefix, seq) }

// damageError says that a stored object is not what was written.
type damageError struct {
	Ward   string
	Object string // such as "entry 12"
	Err    error
}

// Error names the object and what is wrong.
func (e *damageError) Error() string {
	return fmt.Sprintf("the ledger of %s is damaged at %s: %v", e.Ward, e.Object, e.Err)
}

// Unwrap is what is wrong.
func (e *damageError) Unwrap() error { return e.Err }

// Load reads the newest state.
func (l *Ledger) Load(ctx context.Context) (*State, error) {
	seen, err := l.newestSeen() // before: another program may see more in the meantime
	if err != nil {
		return nil, err
	}
	s, err := l.LoadAt(ctx, 0)
	if err != nil {
		return nil, err
	}
	if s.Moved != "" {
		return nil, &MovedError{l.Ward, s.Moved}
	}
	return s, l.compareMemory(ctx, s, seen)
}

// standsOn is an error unless the newest state is proven by what kasbah.toml pins: the
// estate's key in force, and one who may write.
func (l *Ledger) standsOn(s *State) error {
	if s.Seq == 0 || l.resealing {
		return nil
	}
	if l.box != nil {
		switch {
		case s.Readers == nil:
			return &NotSealedError{Ward: l.Ward, Seen: l.saw(l.inClear, s)}
		case s.Readers.Estate == nil || !l.box.InForce(*s.Readers.Estate):
			return &OldKeyError{Ward: l.Ward, Seen: l.saw(l.memory, s)}
		}
	}
	err := l.writersAgree(s)
	var unsigned *UnsignedError
	if errors.As(err, &unsigned) {
		unsigned.Seen = l.saw(l.memory, s)
	}
	return err
}

// saw reports whether a machine's memory says that a state is as it was when this machine
// read it last.
func (l *Ledger) saw(m Memory, s *State) bool {
	if m == nil {
		return false
	}
	seen, err := m.Newest(l.prefix)
	return err == nil && seen.is(s)
}

// LoadAt reads the state as it was after entry seq, or the newest for 0. The
// error wraps store.ErrNotFound when the log is shorter, and store.ErrBlank
// when that part of it was pruned.
func (l *Ledger) LoadAt(ctx context.Context, seq int64) (*State, error) {
	var s *State
	var err error
	for range 5 { // a listed object may be gone when it is read
		s, err = l.loadOnce(ctx, seq)
		if !errors.Is(err, errListedGone) {
			break
		}
	}
	return s, err
}

var errListedGone = errors.New("an object was removed while it was read")

func (l *Ledger) loadOnce(ctx context.Context, seq int64) (*State, error) {
	s, err := l.newestCheckpoint(ctx, seq)
	if err != nil {
		return nil, err
	}
	if err := l.advance(ctx, s, seq); err != nil {
		return nil, err
	}
	if seq == 0 {
		if err := l.standsOn(s); err != nil {
			return nil, err
		}
	}
	if seq != 0 && s.Seq != seq {
		return nil, &noEntryError{l.Ward, seq, s.Seq}
	}
	return s, nil
}

// noEntryError is a store.ErrNotFound for an entry behind the newest one.
type noEntryError struct {
	Ward       string
	Entry, End int64
}

// Error names the ledger and its newest entry.
func (e *noEntryError) Error() string {
	return fmt.Sprintf("the ledger of %s has no entry %d: it ends at entry %d", e.Ward, e.Entry, e.End)
}

// Unwrap is store.ErrNotFound.
func (e *noEntryError) Unwrap() error { return store.ErrNotFound }

// newestCheckpoint is the state of the newest checkpoint not after seq (0 for
// any), or an empty state.
func (l *Ledger) newestCheckpoint(ctx context.Context, seq int64) (*State, error) {
	keys, err := l.keys(ctx, l.prefix+"checkpoint/", "")
	if err != nil {
		return nil, err
	}
	for i := len(keys) - 1; i >= 0; i-- {
		n, err := seqOf(keys[i])
		if err != nil {
			return nil, err
		}
		if seq != 0 && n > seq {
			continue
		}
		s, err := l.readCheckpoint(ctx, keys[i])
		if errors.Is(err, seal.ErrClear) {
			continue // anybody could have written it
		}
		return s, err
	}
	return NewState(), nil
}

// advance folds the entries after s.Seq, up to seq (0 for all).
func (l *Ledger) advance(ctx context.Context, s *State, seq int64) error {
	var ring *keyring
	if s.Seq > 0 {
		ring = &keyring{box: l.box}
		if s.Readers != nil {
			ring.now = s.Readers.Estate
		}
	}
	for e, err := range l.entries(ctx, s.Seq, seq, ring, nil) {
		if err != nil {
			return err
		}
		if err := s.fold(e); err != nil {
			return &damageError{l.Ward, fmt.Sprintf("entry %d", e.Seq), err}
		}
	}
	return nil
}

// readCheckpoint reads one checkpoint and proves it.
func (l *Ledger) readCheckpoint(ctx context.Context, key string) (*State, error) {
	n, err := seqOf(key)
	if err != nil {
		return nil, err
	}
	body, err := l.store.Get(ctx, key)
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, store.ErrBlank) {
		return nil, errListedGone
	}
	if err != nil {
		return nil, err
	}
	damaged := func(err error) error { return l.damage(fmt.Sprintf("checkpoint %d", n), err) }
	o, err := l.open(key, body, true)
	if err != nil {
		return nil, damaged(err)
	}
	signed, err := unsign(key, o.plain)
	if err != nil {
		return nil, damaged(err)
	}
	// nothing is decoded before it is proven
	s, err := l.codec.decodeCheckpoint(n, signed.body, func(h *checkpointHeader) error {
		if err := l.proves(o, h.Readers); err != nil {
			return err
		}
		return l.signedBy(signed, h)
	})
	if err != nil {
		return nil, damaged(err)
	}
	return s, nil
}

// proves is an error unless a checkpoint's own key, which must be pinned, proves it.
func (l *Ledger) proves(o *object, r *Readers) error {
	if o.opened == nil {
		return nil
	}
	if r == nil || r.Estate == nil {
		return seal.ErrForged
	}
	if err := l.box.Learn(*r.Estate); err != nil {
		return err
	}
	return o.opened.Prove(*r.Estate)
}

// signedBy is an error unless one of those who may write has signed a checkpoint.
func (l *Ledger) signedBy(s *signature, h *checkpointHeader) error {
	if h.Writers == nil {
		return nil
	}
	if h.Key == nil {
		return errors.New("it is not signed, and this ledger has writers")
	}
	if err := h.Key.proven(l.prefix, h.Run); err != nil {
		return err
	}
	if err := s.by(h.Key); err != nil {
		return err
	}
	if !h.Writers.Lists(h.Key.By) {
		return fmt.Errorf("it is signed by %s, which is not one of the writers", fingerprint(h.Key.By))
	}
	return nil
}

// fetchAhead is how many entries are read at once.
const fetchAhead = 8

// entries reads the entries after one, up to another (0 for all), in order, and proves them
// by the keys of a ring; nil for one that is made from what the ledger holds. Lines may be passed over.
func (l *Ledger) entries(ctx context.Context, after, to int64, ring *keyring, over passing) iter.Seq2[*Entry, error] {
	return func(yield func(*Entry, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		from := ""
		if after > 0 {
			from = l.logKey(after)
		}
		keys, err := l.keys(ctx, l.prefix+"log/", from)
		if err == nil && ring == nil {
			ring, err = l.keyring(ctx)
		}
		if err != nil {
			yield(nil, err)
			return
		}
		type fetched struct {
			e   *Entry
			o   *object
			err error
		}
		coming := make(chan chan fetched, fetchAhead)
		go func() {
			defer close(coming)
			for _, k := range keys {
				c := make(chan fetched, 1)
				select {
				case coming <- c:
				case <-ctx.Done():
					return
				}
				go func() {
					e, o, err := l.entry(ctx, k, over)
					c <- fetched{e, o, err}
				}()
			}
		}()
		for c := range coming {
			f := <-c
			if f.e != nil && to != 0 && f.e.Seq > to {
				return
			}
			if f.err == nil { // in the order of entries: an earlier one may hold the key
				if err := ring.prove(f.e, f.o); err != nil {
					f.e, f.err = nil, l.damage(fmt.Sprintf("entry %d", f.e.Seq), err)
				}
			}
			if !yield(f.e, f.err) {
				return
			}
		}
		if err := ctx.Err(); err != nil {
			yield(nil, err)
		}
	}
}

// entry reads one entry.
func (l *Ledger) entry(ctx context.Context, key string, over passing) (*Entry, *object, error) {
	seq, err := seqOf(key)
	if err != nil {
		return nil, nil, err
	}
	body, err := l.store.Get(ctx, key)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, nil, errListedGone
	case err != nil:
		return nil, nil, fmt.Errorf("entry %d of %s: %w", seq, l.Ward, err)
	}
	o, err := l.open(key, body, false)
	var e *Entry
	var signed *signature
	if err == nil {
		signed, err = unsign(key, o.plain)
	}
	if err == nil {
		e, err = l.codec.decode(seq, signed.body, over)
	}
	if err != nil {
		return nil, nil, l.damage(fmt.Sprintf("entry %d", seq), err)
	}
	e.Size, e.Hash, e.Sealed, e.sig = len(body), hash(body), o.opened != nil, signed
	return e, o, nil
}
