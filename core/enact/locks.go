package enact

import (
	"context"
	"errors"
	"fmt"

	"kasbah/core/ledger"
	"kasbah/core/value"
)

// Locks are the locks of a run that has not begun to act.
type Locks struct {
	id   string
	runs map[string]*ledger.Run // by ward
}

// TakeLocks takes the locks of some scopes, by ward, as the options' run. Wards are
// locked in the order of their names, so that no two runs wait for each other.
// proposal is the id of the one that is to be carried out, "" when that is not
// known yet. A *ledger.LockedError says who holds what is wanted.
func TakeLocks(ctx context.Context, scopes map[string]ledger.Scope, proposal string, o Options) (*Locks, error) {
	h := &Locks{id: o.Run, runs: map[string]*ledger.Run{}}
	for _, ward := range value.Keys(scopes) {
		err := fmt.Errorf("there is no ledger for ward %s", ward)
		if l := o.Ledgers[ward]; l != nil {
			h.runs[ward], err = l.BeginWaiting(ctx, ledger.BeginOptions{ID: o.Run, Command: o.Command, Reason: o.Reason,
				Proposal: proposal, Kept: o.Envelope != nil, Scope: scopes[ward]}, o.Wait)
		}
		if err != nil {
			delete(h.runs, ward)
			return nil, errors.Join(err, h.Release(ctx))
		}
	}
	return h, nil
}

// Covers reports whether the locks are enough for some scopes.
func (h *Locks) Covers(scopes map[string]ledger.Scope) bool {
	for ward, s := range scopes {
		if run := h.runs[ward]; run == nil || !run.Scope().Covers(s) {
			return false
		}
	}
	return true
}

// Release gives the locks back when nothing is to be done after all.
func (h *Locks) Release(ctx context.Context) error {
	var errs []error
	for _, ward := range value.Keys(h.runs) {
		if err := h.runs[ward].End(ctx, ledger.End{Outcome: "stopped"}); err != nil && !errors.Is(err,
			ledger.ErrBroken) {
			errs = append(errs, err)
		}
	}
	clear(h.runs)
	return errors.Join(errs...)
}

// take hands the locks over to the run that acts.
func (h *Locks) take() map[string]*ledger.Run {
	runs := h.runs
	h.runs = map[string]*ledger.Run{}
	return runs
}

// unresolved says that a dead run's call is in the way.
func unresolved(in *ledger.OpenIntent) *Refused {
	return &Refused{Reasons: []string{fmt.Sprintf("%s has a call without a result: `kasbah lock recover %s` first",
		in.Intent.Address, in.Run)}}
}
