package session

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/oklog/ulid/v2"

	"kasbah/core/declare"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/core/why"
)

// Run says how a run acts.
type Run struct {
	Command    string // as typed, without secrets
	Reason     string // for the ledger
	Parallel   int    // calls at the same time; 0 for the default
	Timeout    time.Duration
	IfOneFails enact.IfOneFails
	Wait       ledger.WaitOptions
}

// EnactOptions are those of a run with an id of its own.
func (s *Session) EnactOptions(ctx context.Context, r Run) enact.Options {
	return enact.Options{
		Run:     ulid.Make().String(),
		Command: r.Command,
		Reason:  r.Reason,
		Wait:    r.Wait,
		Clouds:  enact.Clouds{Drivers: s.Drivers, Catalogs: s.Catalogs, Ledgers: s.Ledgers},
		Pace:    enact.Pace{Parallel: r.Parallel, Timeout: r.Timeout, IfOneFails: r.IfOneFails},
		Secrets: enact.Secrets{Sealed: s.Box != nil, Secret: s.Secrets.Of(ctx), Confide: s.Secrets.Confide},
	}
}

// Proposer makes proposals for a run again and again, each from what the ledgers say then.
// Declarations are evaluated again only where they rest on what other wards publish.
func (s *Session) Proposer(r Request, remarks func(problem.List)) func(ctx context.Context,
	run string) (*propose.Proposal, map[string]*ledger.State, error) {
	var e *Evaluation
	return func(ctx context.Context, run string) (*propose.Proposal, map[string]*ledger.State, error) {
		others := s.Others()
		var err error
		switch {
		case r.Raze:
			e = &Evaluation{}
		case r.Restore > 0 && e == nil:
			e = &Evaluation{}
			e.Declared, err = s.recordedAt(ctx, r.Restore)
		case r.Restore == 0 && (e == nil || slices.ContainsFunc(e.Declared.Wards,
			func(w *declare.Ward) bool { return len(w.Reads) > 0 })):
			if e, err = s.evaluateForChange(ctx, others, false); err == nil {
				remarks(e.Remarks())
			}
		}
		if err != nil {
			return nil, nil, err
		}
		states, err := s.States(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, w := range s.Wards {
			if err := s.Ledgers[w].MayWrite(states[w]); err != nil {
				return nil, nil, err
			}
		}
		now := r
		now.Run = run
		p, err := s.ProposeFrom(ctx, others, e, states, now)
		if err == nil {
			err = s.StepsProposed(ctx, p)
		}
		return p, states, err
	}
}

// recordedAt is what the session's ward would have declared after an entry.
func (s *Session) recordedAt(ctx context.Context, entry int64) (*declare.Declared, error) {
	if len(s.Wards) != 1 {
		return nil, problem.Usage("entries count from 1 in each ward; say which ward")
	}
	st, err := s.At(ctx, s.Wards[0], entry)
	if err != nil {
		return nil, err
	}
	return propose.AsRecorded(s.Env, s.Wards[0], st, s.Catalogs)
}

// At is what the ledger of a ward said after an entry; 0 is now.
func (s *Session) At(ctx context.Context, ward string, entry int64) (*ledger.State, error) {
	st, err := s.Ledgers[ward].LoadAt(ctx, entry)
	if errors.Is(err, store.ErrBlank) {
		return nil, errors.New("that part of the ledger was pruned")
	}
	return st, err
}

// LastChange is the run that last changed a place; nil where nothing is recorded of it.
func (s *Session) LastChange(ctx context.Context, at why.Place, st *ledger.State) (*ledger.RunSummary, error) {
	if st.Records[at.Address] == nil {
		return nil, nil
	}
	attribute := ""
	if len(at.Path) > 0 {
		attribute = at.Path[0].Key
	}
	return s.Ledgers[at.Ward].LastChange(ctx, at.Address, attribute)
}

// Enacted is how a run ended, and what came of it.
type Enacted struct {
	*enact.Result
	Found []rules.Finding // by the steps that ran after it
	Err   error           // what went wrong with these
}

// Enact carries a proposal out for which there is consent, and runs the steps of the stage enacted. The error says
// that the run did not end as it should.
func (s *Session) Enact(ctx context.Context, p *propose.Proposal, o enact.Options) (*Enacted, error) {
	var err error
	if o.Judge, err = s.judgeAgain(ctx, p); err != nil {
		return nil, err
	}
	r, err := enact.Enact(ctx, p, o)
	if err != nil {
		return nil, err
	}
	out := &Enacted{Result: r}
	if ctx.Err() == nil {
		out.Found, out.Err = s.stepsAfter(ctx, r)
	}
	return out, nil
}

// judgeAgain judges actions in the middle of a run by the rules that were undecided about
// them; nil where there are no rules.
func (s *Session) judgeAgain(ctx context.Context, p *propose.Proposal) (func(context.Context, *propose.Action,
	value.Map) ([]string, error), error) {
	set, err := s.Rules(ctx)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, act *propose.Action, inputs value.Map) ([]string, error) {
		report := p.JudgeAgain(ctx, set, act, s.Type(act.Type), inputs)
		var said []string
		for _, f := range report.Findings {
			if f.Blocks() {
				return said, &rules.Refusal{Finding: f}
			}
			said = append(said, fmt.Sprintf("%s: %s", f.Address, f.Sentence()))
		}
		return said, nil
	}, nil
}
