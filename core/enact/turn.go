package enact

import (
	"context"
	"errors"
	"time"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// Turn is how a run that proposes by itself comes to its turn. What it locks is known once it
// has proposed. Where another run holds a part of that, it waits until the locks are its own
// and proposes again, from what the other one has left: each waits once, and no proposal is
// outdated by those before.
type Turn struct {
	// Propose makes a proposal from what the ledgers say now. run holds locks for it; "" for
	// none.
	Propose func(ctx context.Context, run string) (*propose.Proposal, map[string]*ledger.State, error)
	// CarryOut shows a proposal, asks for consent and enacts it.
	CarryOut func(ctx context.Context, p *propose.Proposal, o Options) error
	// Options are those of a run with an id of its own.
	Options func() Options
	// Tell tells a person how the turn goes.
	Tell func(words string)
}

// turn is a Turn under way.
type turn struct {
	Turn
	options   Options
	until     time.Time // when waiting ends
	locks     *Locks    // nil while nothing is locked
	recovered bool      // unfinished calls were looked at
}

// TakeTurn proposes, waits for its turn and carries out.
func TakeTurn(ctx context.Context, how Turn) error {
	t := &turn{Turn: how, options: how.Options()}
	t.until = time.Now().Add(t.options.Wait.Wait)
	err := t.take(ctx)
	return errors.Join(err, t.release(ctx))
}

func (t *turn) take(ctx context.Context) error {
	for {
		proposal, locked, err := t.propose(ctx)
		if err != nil {
			return err
		}
		scopes := proposal.Scopes()
		if t.locks != nil && !t.locks.Covers(scopes) { // what the other one left asks for more
			if err := t.release(ctx); err != nil {
				return err
			}
		}
		if t.locks == nil && locked {
			if err := t.lock(ctx, scopes); err != nil {
				return err
			}
			continue
		}
		if len(proposal.Unfinished) > 0 && !t.recovered {
			if err := t.recoverFirst(ctx, proposal); err != nil {
				return err
			}
			continue
		}
		o, alone := t.options, t.locks != nil
		o.Locks, o.Wait = t.locks, ledger.WaitOptions{}
		err = t.CarryOut(ctx, proposal, o)
		if alone || !wasOvertaken(err) || !t.options.waits() {
			return err
		}
		t.Tell("Another run was faster; this one proposes again when it has its locks.")
		if err := t.lock(ctx, scopes); err != nil {
			return err
		}
	}
}

// waits reports whether a run waits for locks, or breaks those of dead runs.
func (o *Options) waits() bool { return o.Wait.Wait > 0 || o.Wait.BreakStale }

// wasOvertaken reports whether a run did not act because another one was faster.
func wasOvertaken(err error) bool {
	var locked *ledger.LockedError
	var refused *Refused
	return errors.As(err, &locked) || errors.As(err, &refused) && refused.Outdated
}

// propose makes a proposal, and reports whether another run holds a lock on a part of it.
func (t *turn) propose(ctx context.Context) (proposal *propose.Proposal, locked bool, err error) {
	run := ""
	if t.locks != nil {
		run = t.options.Run
	}
	proposal, states, err := t.Propose(ctx, run)
	if err != nil {
		return nil, false, err
	}
	for ward, scope := range proposal.Scopes() {
		s := states[ward]
		if s == nil { // it is only read there; the lock is asked for when all else is clear
			continue
		}
		locked = locked || s.Locked(ward, scope) != nil
	}
	return proposal, locked, nil
}

// lock waits for the locks, as long as it may.
func (t *turn) lock(ctx context.Context, scopes map[string]ledger.Scope) (err error) {
	o := t.options
	o.Wait.Wait = max(0, time.Until(t.until))
	t.locks, err = TakeLocks(ctx, scopes, "", o)
	return err
}

// release gives the locks back that are still held.
func (t *turn) release(ctx context.Context) error {
	if t.locks == nil {
		return nil
	}
	locks := t.forget()
	return locks.Release(context.WithoutCancel(ctx))
}

// forget leaves the locks to the caller. What locks again is another run.
func (t *turn) forget() *Locks {
	locks := t.locks
	t.locks, t.options = nil, t.Options()
	return locks
}

// recoverFirst finds out about the unfinished calls that a proposal takes as done, by a run of
// its own, so that the next proposal rests on facts.
func (t *turn) recoverFirst(ctx context.Context, proposal *propose.Proposal) error {
	o := t.options
	o.Locks = t.forget() // enough for this, and given back with it
	t.recovered = true
	addresses := map[string][]string{}
	for _, u := range proposal.Unfinished {
		addresses[u.Ward] = append(addresses[u.Ward], u.Address)
	}
	r, err := Recover(ctx, scopesOf(addresses), nil, o)
	if err != nil {
		return err
	}
	for _, full := range r.Recovered {
		_, short := value.SplitWard(full)
		t.Tell(short + ": an unfinished call of an earlier run was settled")
	}
	return nil
}

// scopesOf are the scopes of a run that writes some addresses, by ward.
func scopesOf(addresses map[string][]string) map[string]ledger.Scope {
	out := map[string]ledger.Scope{}
	for ward, list := range addresses {
		out[ward] = ledger.NewScope(list, nil)
	}
	return out
}
