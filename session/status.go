package session

import (
	"context"

	"golang.org/x/sync/errgroup"

	"kasbah/core/ledger"
)

// Status is how the session's wards stand, and what is to be known about the ledgers' names;
// "" for nothing.
func (s *Session) Status(ctx context.Context) ([]ledger.WardStatus, string, error) {
	states, err := s.Load(ctx)
	if err != nil {
		return nil, "", err
	}
	note, err := s.OtherName(ctx, states)
	if err != nil {
		return nil, "", err
	}
	wards := make([]ledger.WardStatus, len(s.Wards))
	var g errgroup.Group
	g.SetLimit(ledgersAtOnce)
	for i, w := range s.Wards {
		g.Go(func() (err error) {
			wards[i], err = s.wardStatus(ctx, states[w], w)
			return err
		})
	}
	return wards, note, g.Wait()
}

func (s *Session) wardStatus(ctx context.Context, st *ledger.State, ward string) (ledger.WardStatus, error) {
	last := st.Latest
	if last == nil && st.Seq > 0 { // its checkpoint is of a version that did not note it
		runs, _, err := s.Ledgers[ward].History(ctx)
		if err != nil {
			return ledger.WardStatus{}, err
		}
		if len(runs) > 0 {
			last = runs[len(runs)-1]
			last.Calls = nil
		}
	}
	return ledger.StatusOf(ward, s.Env, st, last), nil
}
