package session

import (
	"context"
	"errors"
	"slices"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// existing are the environments of an estate: those that have a section, and those that patterns make and that
// have ledgers.
func existing(ctx context.Context, c Config, e *estate.Estate) ([]string, error) {
	out := e.Environments()
	looked := map[string][]ledger.Place{} // by the settings of a store
	for _, pattern := range e.Patterns() {
		s := newSession(e, strings.Replace(pattern, "*", "1", 1), c)
		places, err := s.places(ctx, looked)
		if err != nil {
			return nil, err
		}
		estateName, _ := e.LedgerNames(s.Env)
		for _, at := range places {
			if at.Estate == estateName && e.PatternOf(at.Env) == pattern && !slices.Contains(out, at.Env) {
				out = append(out, at.Env)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

// places lists the ledgers in the session's store, which is opened for that.
func (s *Session) places(ctx context.Context, looked map[string][]ledger.Place) (places []ledger.Place, err error) {
	if s.settings, err = readSettings(s.Estate, s.config.Given.Settings); err != nil {
		return nil, err
	}
	set := s.ledgerSettings()
	for _, k := range sealKeys {
		delete(set, k)
	}
	at := string(value.Encode(set))
	if known, is := looked[at]; is {
		return known, nil
	}
	st, err := s.OpenStore(ctx, set)
	if err != nil {
		return nil, err
	}
	places, err = ledger.Places(ctx, st)
	looked[at] = places
	return places, errors.Join(err, st.Close())
}
