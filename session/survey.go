package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// Survey compares what is recorded with what is live. Wards and drivers that cannot be read hide
// nothing of the others where the session is lenient.
func (s *Session) Survey(ctx context.Context, r survey.Asked) (*survey.Report, error) {
	var states map[string]*ledger.State
	failed := map[string]error{}
	var err error
	if s.config.Lenient {
		states, failed = s.loadEach(ctx)
		var forgotten *problem.Problem
		if err := s.forgotten(ctx); errors.As(err, &forgotten) {
			failed[forgotten.Ward] = err
		} else if err != nil {
			s.tell("Whether the store holds a ward that is not listed could not be checked: %v", err)
		}
	} else if states, err = s.States(ctx); err != nil {
		return nil, err
	}
	if len(failed) == 0 { // else it may be in a ward that cannot be read
		if err := survey.MatchesAll(states, r.Only); err != nil {
			return nil, err
		}
	}
	report, err := s.surveyOf(ctx, states, failed, r)
	if err != nil {
		return nil, err
	}
	return report, s.stepsSurveyed(ctx, report)
}

func (s *Session) surveyOf(ctx context.Context, states map[string]*ledger.State, failed map[string]error,
	r survey.Asked) (*survey.Report, error) {
	set, err := s.Rules(ctx)
	if err != nil {
		return nil, err
	}
	o := survey.Options{
		Env:      s.Env,
		States:   states,
		Wards:    s.Wards,
		Drivers:  s.Drivers,
		Catalogs: s.Catalogs,
		Rules:    set,
		Asked:    r,
		Trouble:  survey.Trouble{Broken: s.Broken, Failed: failed},
		Known:    survey.Known{Today: time.Now().Format(time.DateOnly), At: s.placesOf(ctx)},
	}
	for _, i := range s.Estate.Ignored {
		o.Ignore = append(o.Ignore, survey.Ignore(i))
	}
	if r.Strangers != "" {
		o.Elsewhere = s.thingsElsewhere(ctx, true)
	}
	return survey.Survey(ctx, o)
}

// File is where a file is that a position names: of the estate, or of one of its kits.
func (s *Session) File(name string) string {
	if rest, ok := strings.CutPrefix(name, "kit:"); ok {
		kit, path, _ := strings.Cut(rest, "/")
		name = filepath.Join(s.Estate.Kits(s.Env)[kit].Folder, path)
	}
	return s.below(name)
}

// placesOf is where resources and their values are declared, as FILE:LINE. The declarations are
// evaluated when it is first asked; it knows nothing where they are wrong.
func (s *Session) placesOf(ctx context.Context) func(full, path string) string {
	declared := sync.OnceValue(func() *declare.Declared {
		e, err := s.Evaluate(ctx, s.Others())
		if err != nil || e.Problems.Wrong() > 0 && e.Declared == nil {
			return nil
		}
		return e.Declared
	})
	return func(full, path string) string {
		d := declared()
		r := d.Resource(full)
		if r == nil {
			return ""
		}
		at, _ := r.Position()
		if path != "" {
			at, _ = r.At(path)
		}
		return at.Short()
	}
}

// thingsElsewhere are the things, as `TYPE ID`, that the wards and environments of the estate record,
// each with the address and environment that does. Environments with another cloud are left out: one
// id is two things there. A ledger that cannot be read is told; strangers says for what.
func (s *Session) thingsElsewhere(ctx context.Context, strangers bool) map[string]string {
	out := map[string]string{}
	tell := func(env, ward string, err error) {
		so := "it is not known what it records"
		if strangers {
			so = "its things may be listed as strangers"
		}
		s.tell("The ledger of %s in %s could not be read, so %s: %v", ward, env, so, err)
	}
	envs, err := existing(ctx, s.config, s.Estate)
	if err != nil {
		s.tell("It is not known which environments there are, so what they record is not known: %v", err)
	}
	for _, env := range envs {
		from, same := s, map[string]bool{} // drivers whose cloud is this one's
		for _, name := range s.Estate.Drivers() {
			same[name] = sameCloud(s.Estate.Driver(name, s.Env), s.Estate.Driver(name, env))
		}
		if env != s.Env {
			if !slices.Contains(slices.Collect(maps.Values(same)), true) {
				continue
			}
			c := s.config
			c.Env, c.Wards, c.Lenient, c.Unpinned = env, nil, true, true
			opened, err := Open(ctx, c)
			if opened != nil {
				s.CloseLater(opened.Close)
			}
			if err != nil {
				tell(env, "every ward", err)
				continue
			}
			from = opened
		}
		for _, w := range from.Estate.Wards {
			st, err := from.Ledgers[w].Load(ctx)
			if err != nil {
				tell(env, fmt.Sprintf("ward %s", w), err)
				continue
			}
			for thing, address := range st.Things() {
				if drv, _, _ := strings.Cut(thing, "."); same[drv] {
					out[thing] = value.InWard(w, address) + " in " + env
				}
			}
		}
	}
	return out
}

// whoAndHow are settings of drivers that say who asks, and how fast, but not which cloud.
var whoAndHow = []string{"token", "bearer", "user", "password", "oauth", "headers", "ca", "cert", "key", "pace", "rate",
	"quota", "parallel", "timeout", "overlay"}

// sameCloud reports whether the settings of a driver in two environments lead to one cloud.
func sameCloud(a, b estate.Settings) bool {
	a, b = maps.Clone(a), maps.Clone(b)
	for _, name := range whoAndHow {
		delete(a, name)
		delete(b, name)
	}
	return value.Equal(map[string]any(a), map[string]any(b))
}
