package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"kasbah/core/declare"
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
	return s.surveyOf(ctx, states, failed, r)
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
		o.Elsewhere = s.thingsElsewhere(ctx)
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

// thingsElsewhere are the things, as `TYPE ID`, that other wards and environments of the estate
// record. A ledger that cannot be read is told: its things look like strangers.
func (s *Session) thingsElsewhere(ctx context.Context) map[string]bool {
	out := map[string]bool{}
	tell := func(env, ward string, err error) {
		s.tell("The ledger of %s in %s could not be read, so its things may be listed as strangers: %v", ward, env, err)
	}
	for _, env := range s.Estate.Environments() {
		from := s
		if env != s.Env {
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
		for _, w := range value.Keys(from.Ledgers) {
			st, err := from.Ledgers[w].Load(ctx)
			if err != nil {
				tell(env, fmt.Sprintf("ward %s", w), err)
				continue
			}
			maps.Copy(out, st.Things())
		}
	}
	return out
}
