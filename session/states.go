package session

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"kasbah/core/ledger"
	"kasbah/core/problem"
)

// ledgersAtOnce is how many ledgers are read at once: some stores are far away.
const ledgersAtOnce = 8

// States reads the ledgers of the session's wards. It is an error when the store records
// resources for a ward that kasbah.toml does not list: they would be managed no more.
func (s *Session) States(ctx context.Context) (map[string]*ledger.State, error) {
	if err := s.forgotten(ctx); err != nil {
		return nil, err
	}
	return s.Load(ctx)
}

// Load is States, whatever else the store holds.
func (s *Session) Load(ctx context.Context) (map[string]*ledger.State, error) {
	states, failed := s.loadEach(ctx)
	for _, w := range s.Wards {
		if failed[w] != nil { // the first in the estate's order
			return nil, failed[w]
		}
	}
	return states, nil
}

// loadEach reads the ledgers of the session's wards, and says which could not be read.
func (s *Session) loadEach(ctx context.Context) (states map[string]*ledger.State, failed map[string]error) {
	states, failed = make(map[string]*ledger.State, len(s.Wards)), map[string]error{}
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(ledgersAtOnce)
	for _, w := range s.Wards {
		g.Go(func() error {
			state, err := s.Ledgers[w].Load(ctx)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				failed[w] = err
			} else {
				states[w] = state
			}
			return nil
		})
	}
	_ = g.Wait() // each has its own error
	return states, failed
}

// OtherName says what to write where an estate or environment begins from nothing although
// the store holds ledgers of its wards under another name; "" where that is not so.
func (s *Session) OtherName(ctx context.Context, states map[string]*ledger.State) (string, error) {
	for _, st := range states {
		if st.Seq > 0 {
			return "", nil
		}
	}
	places, err := ledger.Places(ctx, s.Store)
	if err != nil {
		return "", err
	}
	estateName, envName := s.Estate.LedgerNames(s.Env)
	for _, at := range places {
		if states[at.Ward] == nil || at.Estate == estateName &&
			(at.Env == envName || s.Estate.HasEnvironment(at.Env)) || at.Estate != estateName && at.Env != envName {
			continue
		}
		line := fmt.Sprintf("renamed_from = %q in kasbah.toml", at.Estate)
		if at.Estate == estateName {
			line = fmt.Sprintf("renamed_from = %q under [env.%s]", at.Env, s.Env)
		}
		return fmt.Sprintf("nothing is recorded under %s/%s, and the store holds a ledger of %s under %s/%s: if it "+
			"was renamed, %s keeps to it", estateName, envName, at.Ward, at.Estate, at.Env, line), nil
	}
	return "", nil
}

// forgotten is an error when the store records resources for a ward that is not listed.
func (s *Session) forgotten(ctx context.Context) error {
	estateName, envName := s.Estate.LedgerNames(s.Env)
	base := estateName + "/" + envName + "/"
	for after := ""; ; {
		ward := ""
		for key, err := range s.Store.List(ctx, base, after) {
			if err != nil {
				return err
			}
			ward, _, _ = strings.Cut(strings.TrimPrefix(key, base), "/")
			break
		}
		if ward == "" {
			return nil
		}
		after = base + ward + "0" // the character after the slash: behind all keys of the ward
		if s.Estate.HasWard(ward) {
			continue
		}
		l, err := s.ledgerOf(s.Env, ward, ledger.Identity{})
		if err != nil {
			return err
		}
		st, err := l.Load(ctx)
		if err != nil {
			return err
		}
		if len(st.Records) > 0 {
			e := problem.At(s.Estate.At("wards"), "the ledger of %s records %d resources for ward %q, which is not "+
				"listed", s.Env, len(st.Records), ward)
			e.Ward = ward
			e.Hint = fmt.Sprintf("list %q in wards again to keep them, or list it and `kasbah raze %s -env %s` "+
				"before it goes", ward, ward, s.Env)
			return e
		}
	}
}
