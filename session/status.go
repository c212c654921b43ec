package session

import (
	"cmp"
	"context"
	"errors"
	"os"
	"slices"
	"time"

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
	err = g.Wait()
	ledger.EndAfter(wards, s.Estate.Ends(s.Env), time.Now())
	return wards, note, err
}

func (s *Session) wardStatus(ctx context.Context, st *ledger.State, ward string) (ledger.WardStatus, error) {
	last := st.Latest
	if last == nil && st.Seq > 0 { // its checkpoint is of a version that did not note it
		runs, _, err := s.Ledgers[ward].Runs(ctx)
		if err != nil {
			return ledger.WardStatus{}, err
		}
		if len(runs) > 0 {
			last = runs[len(runs)-1]
		}
	}
	return ledger.StatusOf(ward, s.Env, st, last), nil
}

// Ended are the environments whose time is over; of one, where the configuration or KASBAH_ENV names it.
func Ended(ctx context.Context, c Config) ([]string, error) {
	named := cmp.Or(c.Env, os.Getenv("KASBAH_ENV"))
	if named != "" {
		e, err := FindEstate(c.Dir)
		if err != nil {
			return nil, err
		}
		if _, err := chooseEnvironment(e, c.Env); err != nil {
			return nil, err
		}
	}
	d, _, err := EstateStatus(ctx, c)
	var out []string
	for _, w := range d.Wards {
		if w.Ends != nil && !w.Ends.After(time.Now()) && !slices.Contains(out, w.Env) && (named == "" || w.Env == named) {
			out = append(out, w.Env)
		}
	}
	return out, err
}

// EstateStatus is how an estate stands in all its environments, and what is to be known about
// the names of ledgers.
func EstateStatus(ctx context.Context, c Config) (ledger.Status, []string, error) {
	e, err := FindEstate(c.Dir)
	if err != nil {
		return ledger.Status{}, nil, err
	}
	d := ledger.Status{Format: "kasbah.status/1", Estate: e.Name, Wards: []ledger.WardStatus{}}
	var notes []string
	envs, err := existing(ctx, c, e)
	if err != nil {
		return d, nil, err
	}
	for _, env := range envs {
		c.Env = env
		wards, note, err := statusIn(ctx, c)
		if err != nil {
			return d, notes, err
		}
		if e.Made(env) && slices.IndexFunc(wards, isThere) < 0 {
			continue
		}
		if d.Wards = append(d.Wards, wards...); note != "" {
			notes = append(notes, note)
		}
	}
	return d, notes, nil
}

// isThere reports whether a ward records anything, or is being changed.
func isThere(w ledger.WardStatus) bool {
	return w.Resources > 0 || w.Locked != nil || w.Last != nil && w.Last.Outcome != "done"
}

func statusIn(ctx context.Context, c Config) (wards []ledger.WardStatus, note string, err error) {
	s, err := Open(ctx, c)
	if s != nil {
		defer func() { err = errors.Join(err, s.Close()) }()
	}
	if err != nil {
		return nil, "", err
	}
	return s.Status(ctx)
}
