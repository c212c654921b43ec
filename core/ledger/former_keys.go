package ledger

import (
	"errors"
	"fmt"

	"kasbah/core/seal"
)

// An estate gets another key when somebody is dismissed. Each key holds for a part of the
// log: the entry that brings a new one is the last that the one before proves. So who knows
// a former key forges nothing behind that entry.

// generation is a key of the estate that was in force up to an entry.
type generation struct {
	Until  int64       `json:"until"`
	Estate seal.Estate `json:"estate"`
}

// keyring knows which key proves which entry, as a log is read.
type keyring struct {
	box    *seal.Box
	now    *seal.Estate // in force behind the newest entry read; nil while nothing is sealed
	former []generation // of the newest checkpoint
	known  int64        // up to which entry former and last say it
	last   *seal.Estate // in force at known
}

// at is the key that proves an entry. The first sealed one brings its own, which must be
// pinned.
func (k *keyring) at(e *Entry) (*seal.Estate, error) {
	if e.Seq <= k.known {
		for i := range k.former {
			if e.Seq <= k.former[i].Until {
				return &k.former[i].Estate, nil
			}
		}
		return k.last, nil
	}
	if k.now != nil {
		return k.now, nil
	}
	r := e.readers()
	if r == nil || r.Estate == nil {
		return nil, errors.New("no key is named that proves it")
	}
	return r.Estate, k.box.Learn(*r.Estate)
}

// follow takes what an entry says about keys.
func (k *keyring) follow(e *Entry) error {
	r := e.readers()
	switch {
	case r == nil:
	case len(r.Recipients) == 0:
		k.now = nil
	case r.Estate != nil:
		if k.box != nil {
			if err := k.box.Learn(*r.Estate); err != nil {
				return err
			}
		}
		k.now = r.Estate
	}
	return nil
}

// prove holds an entry against the key of its place, and takes what it says about keys.
func (k *keyring) prove(e *Entry, o *object) error {
	if o.opened == nil {
		return nil
	}
	by, err := k.at(e)
	if err != nil {
		return err
	}
	if by == nil {
		return seal.ErrForged
	}
	if err := o.opened.Prove(*by); err != nil {
		return err
	}
	return k.follow(e)
}

// change takes new readers into the state, and keeps the key that was in force.
func (s *State) change(to *Readers, seq int64) {
	was := s.Readers
	if len(to.Recipients) == 0 {
		if s.Readers = nil; was != nil && was.Estate != nil {
			s.Former = append(s.Former[:len(s.Former):len(s.Former)], generation{seq, *was.Estate})
		}
		return
	}
	now := *to
	switch {
	case was == nil || was.Estate == nil:
	case now.Estate == nil:
		now.Estate = was.Estate
	case !now.Estate.Is(*was.Estate):
		s.Former = append(s.Former[:len(s.Former):len(s.Former)], generation{seq, *was.Estate})
	}
	s.Readers = &now
}

// OldKeyError is returned for a ledger that a key proves which is in force no more.
type OldKeyError struct {
	Ward string
	Seen bool // this machine has seen it as it is
}

// Error says what that means, and what to do where that makes nothing worse.
func (e *OldKeyError) Error() string {
	s := fmt.Sprintf("the ledger of %s is proven by a former key of the estate: an old copy was put back, or it has "+
		"not been resealed since the key changed", e.Ward)
	if e.Seen {
		s += ". This machine has read it in this state before: `kasbah ledger reseal` proves it by the new key"
	}
	return s
}

// unprovenError is returned to one who would reseal a ledger of which nothing is proven.
type unprovenError struct{ Ward, Why string }

// Error says why.
func (e *unprovenError) Error() string {
	return fmt.Sprintf("the ledger of %s cannot be resealed on this machine: %s, and this machine has not read it in "+
		"this state before. A reseal confirms whatever is there, also a forgery. Reseal it on a machine that read "+
		"the ledger before kasbah.toml changed", e.Ward, e.Why)
}
