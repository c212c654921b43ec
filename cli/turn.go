package cli

import (
	"context"
	"errors"
	"slices"
	"time"

	"kasbah/core/declare"
	"kasbah/core/enact"
	"kasbah/core/graph"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// turn is how a run that proposes by itself comes to its turn. What it locks is
// known once it has proposed. Where somebody else holds a part of that, it waits
// until the locks are its own and proposes again, from what the other one has
// left: each waits once, and nobody's proposal is outdated by those before.
type turn struct {
	a     *app
	p     *project
	f     enactFlags
	o     enact.Options
	until time.Time // when waiting ends

	declared  *declare.Declared // nil while nothing was evaluated, and for raze
	graph     *graph.Graph
	held      *enact.Held // nil while nothing is locked
	recovered bool        // unfinished calls were found out about
}

// take proposes, comes to its turn and carries out.
func (t *turn) take(ctx context.Context) error {
	for {
		proposal, locked, err := t.propose(ctx)
		if err != nil {
			return err
		}
		scopes := proposal.Scopes()
		if t.held != nil && !t.held.Covers(scopes) { // what the other one left asks for more
			if err := t.release(ctx); err != nil {
				return err
			}
		}
		if t.held == nil && locked {
			if err := t.hold(ctx, scopes); err != nil {
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
		o, alone := t.o, t.held != nil
		o.Held, o.JudgeLive, o.Wait = t.held, t.f.offline, ledger.WaitOptions{}
		err = t.a.carryOut(ctx, t.p, proposal, t.f, o)
		if alone || !overtaken(err) || t.f.wait == 0 && !t.f.breakStale {
			return err
		}
		t.a.say("Another run was faster; this one proposes again when it has its locks.")
		if err := t.hold(ctx, scopes); err != nil {
			return err
		}
	}
}

// overtaken reports whether a run did not act because another one was faster.
func overtaken(err error) bool {
	var locked *ledger.LockedError
	var refused *enact.Refused
	return errors.As(err, &locked) || errors.As(err, &refused) && refused.Outdated
}

// propose makes a proposal from what the ledgers say now, and reports whether
// somebody holds a lock on a part of it.
func (t *turn) propose(ctx context.Context) (proposal *propose.Proposal, locked bool, err error) {
	clear(t.p.outside)
	if err := t.evaluate(ctx); err != nil {
		return nil, false, err
	}
	states, err := t.p.states(ctx)
	if err != nil {
		return nil, false, err
	}
	for _, w := range t.p.wards {
		if err := t.p.ledgers[w].MayWrite(states[w]); err != nil {
			return nil, false, err
		}
	}
	if proposal, err = t.a.compareNow(ctx, t.p, t.declared, t.graph, states, t.f.proposeFlags); err != nil {
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

// evaluate finds out what is to be; again only where that rests on what other
// wards publish.
func (t *turn) evaluate(ctx context.Context) (err error) {
	switch {
	case t.f.restore > 0:
		if t.declared == nil {
			t.declared, err = t.a.recordedAt(ctx, t.p, t.f.restore)
		}
	case !t.f.raze:
		if t.declared == nil || slices.ContainsFunc(t.declared.Wards, func(w *declare.Ward) bool { return len(w.Reads) > 0 }) {
			t.declared, t.graph, err = t.a.declaredWithSecrets(ctx, t.p)
		}
	}
	if err != nil {
		return err
	}
	return t.a.rulesFor(ctx, t.p)
}

// hold waits for the locks, as long as the flags allow.
func (t *turn) hold(ctx context.Context, scopes map[string]ledger.Scope) (err error) {
	o := t.o
	o.Wait.Wait = max(0, time.Until(t.until))
	if t.held, err = enact.Hold(ctx, scopes, "", o); err == nil {
		t.p.holding = o.Run
	}
	return err
}

// release gives the locks back that are still held.
func (t *turn) release(ctx context.Context) error {
	if t.held == nil {
		return nil
	}
	held := t.held
	t.forget(ctx)
	return held.Release(context.WithoutCancel(ctx))
}

// forget lets somebody else see to the locks. What locks again is another run.
func (t *turn) forget(ctx context.Context) {
	t.held, t.p.holding = nil, ""
	t.o = t.a.enactOptions(ctx, t.p, t.f)
}

// recoverFirst finds out about the unfinished calls that a proposal takes as
// done, by a run of its own, so that the next proposal rests on facts.
func (t *turn) recoverFirst(ctx context.Context, proposal *propose.Proposal) error {
	o := t.o
	o.Held = t.held // enough for this, and given back with it
	t.forget(ctx)
	t.recovered = true
	addresses := map[string][]string{}
	for _, u := range proposal.Unfinished {
		addresses[u.Ward] = append(addresses[u.Ward], u.Address)
	}
	r, err := enact.Recover(ctx, scopesOf(addresses), nil, o)
	if err != nil {
		return err
	}
	for _, full := range r.Recovered {
		_, short := value.SplitWard(full)
		t.a.say("%s: an unfinished call of an earlier run was found out about", short)
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
