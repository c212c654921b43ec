package session

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
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

// SeveralEnvironments reports whether -env names several environments: with commas between them, or by a pattern.
func SeveralEnvironments(named string) bool { return strings.ContainsAny(named, ",*?[") }

// ChosenEnvironments are the environments that -env names, each once. A pattern chooses those that have a section,
// and those that a pattern of kasbah.toml has made.
func ChosenEnvironments(ctx context.Context, c Config) ([]string, error) {
	e, err := FindEstate(c.Dir)
	if err != nil {
		return nil, err
	}
	all, err := existing(ctx, c, e)
	if err != nil {
		return nil, err
	}
	return chosen(e, all, c.Env)
}

// chosen are those of some environments that names and patterns choose, which commas part.
func chosen(e *estate.Estate, all []string, named string) ([]string, error) {
	var out []string
	for _, name := range strings.Split(named, ",") {
		fits := func(env string) bool { ok, err := path.Match(name, env); return ok && err == nil }
		some := slices.DeleteFunc(slices.Clone(all), func(env string) bool { return !fits(env) })
		if len(some) == 0 && !strings.ContainsAny(name, "*?[") && e.HasEnvironment(name) {
			some = []string{name}
		}
		if len(some) == 0 {
			return nil, &problem.UsageError{Message: fmt.Sprintf("-env: no environment is called %q", name),
				Hint: nearest.HintOr(name, append(all, e.Patterns()...))}
		}
		for _, env := range some {
			if !slices.Contains(out, env) {
				out = append(out, env)
			}
		}
	}
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
