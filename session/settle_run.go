package session

import (
	"context"
	"fmt"
	"slices"

	"kasbah/core/enact"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/settle"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// SettleRequest says what is settled, and how.
type SettleRequest struct {
	Patterns   []string          // ADDRESS or ADDRESS.PATH; none for all that drifted
	Resolution settle.Resolution // of all; "" to ask for each
	Until      string            // of what is accepted: the last day
	Rehearse   string            // see Request
	Run        Run
	Dry        bool // nothing is written
	Commit     bool // changed files are committed with git
}

// SettleTalk is how a settling talks with a person. Whatever returns an error ends it.
type SettleTalk struct {
	Choose   func(ctx context.Context, list []settle.Difference) (*Chosen, error) // where no resolution is given
	Changes  func(p *Settling) error                                              // shows how files would change
	MayWrite func(ctx context.Context, p *Settling) error
	MayEnact func(ctx context.Context, p *propose.Proposal) error // what is put back
	Done     func(r *enact.Result)                                // the run that has put back
	// Found shows what steps found before and after that run; where something of it stops, the error says so
	Found func(found []rules.Finding, err error) error
}

// Chosen is what a person chose for each difference.
type Chosen struct {
	By         map[settle.Resolution][]settle.Difference
	Until, Why string // of what is accepted
}

// Settle surveys, settles what drifted, and surveys that again: what it still finds is left.
func (s *Session) Settle(ctx context.Context, r SettleRequest, talk SettleTalk) (*settle.Document, error) {
	where := survey.Asked{Located: 1}
	if r.Resolution == "" {
		where.Located = 0 // each is shown
	}
	report, err := s.Survey(ctx, where)
	if err != nil {
		return nil, err
	}
	if err := settle.MatchesAll(report, r.Patterns); err != nil {
		return nil, err
	}
	doc := settle.NewDocument(s.Env)
	list := settle.Differences(report, r.Patterns)
	if len(list) == 0 {
		return doc, nil
	}
	chosen := map[settle.Resolution][]settle.Difference{r.Resolution: list}
	if r.Resolution == "" {
		c, err := talk.Choose(ctx, list)
		if err != nil {
			return nil, err
		}
		if chosen = c.By; c.Why != "" {
			r.Until, r.Run.Reason = c.Until, c.Why
		}
	}
	for _, by := range []settle.Resolution{settle.TakeOver, settle.Leave, settle.LetGo, settle.Accept, settle.PutBack} {
		if some := chosen[by]; len(some) > 0 {
			if err := s.settleBy(ctx, r, by, some, talk, doc); err != nil {
				return nil, err
			}
		}
	}
	if r.Dry {
		return doc, nil
	}
	again, err := s.again(ctx)
	if err != nil {
		return nil, err
	}
	states, err := again.States(ctx)
	if err != nil {
		return nil, err
	}
	if report, err = again.surveyOf(ctx, states, nil, survey.Asked{Only: addressesOf(list), Located: 1}); err == nil {
		doc.StillThere(settle.Differences(report, r.Patterns))
	}
	return doc, err
}

// again is a session of the same kind for the estate as its files are now.
func (s *Session) again(ctx context.Context) (*Session, error) {
	c := s.config
	c.Env, c.Wards = s.Env, s.Wards
	again, err := Open(ctx, c)
	if again != nil {
		s.CloseLater(again.Close)
	}
	return again, err
}

// settleBy settles differences in one way.
func (s *Session) settleBy(ctx context.Context, r SettleRequest, by settle.Resolution, list []settle.Difference,
	talk SettleTalk, doc *settle.Document) error {
	switch {
	case (by == settle.PutBack || by == settle.Accept) && r.Dry:
		return nil
	case by == settle.PutBack:
		if err := s.enactOnly(ctx, r, addressesOf(list), talk); err != nil {
			return err
		}
		doc.Note(by, list)
		return nil
	case by == settle.Accept:
		if err := s.AcceptDrift(ctx, list, r.Until, r.Run.Reason, s.EnactOptions(ctx, r.Run)); err != nil {
			return err
		}
		doc.Note(by, list)
		return nil
	}
	p, err := s.PlanSettle(ctx, list, by)
	if err != nil {
		return err
	}
	for _, d := range p.Decided {
		doc.Leave(by, d)
	}
	doc.Diff += p.Diff
	if err := talk.Changes(p); err != nil || len(p.Settled) == 0 || r.Dry {
		return err
	}
	if err := talk.MayWrite(ctx, p); err != nil {
		return err
	}
	files, err := p.Write()
	if err != nil {
		return err
	}
	doc.Files = append(doc.Files, files...)
	if err := s.follow(ctx, r, p); err != nil {
		return fmt.Errorf("the files are written, and the ledger does not follow them yet; `kasbah enact` lets it: %w", err)
	}
	doc.Note(by, p.Settled)
	if r.Commit && len(files) > 0 {
		return s.CommitFiles(ctx, files, by, p.Settled)
	}
	return nil
}

// follow lets the ledger follow the code.
func (s *Session) follow(ctx context.Context, r SettleRequest, p *Settling) error {
	o := s.EnactOptions(ctx, r.Run)
	if p.Resolution != settle.LetGo {
		return enact.Follow(ctx, p.Followed(), o)
	}
	states, err := s.States(ctx)
	if err != nil {
		return err
	}
	full := slices.DeleteFunc(addressesOf(p.Settled), func(full string) bool {
		ward, address := value.SplitWard(full)
		return states[ward] == nil || states[ward].Records[address] == nil
	})
	if len(full) == 0 {
		return nil
	}
	return enact.Release(ctx, full, o)
}

// enactOnly proposes for some addresses alone, asks, and enacts it.
func (s *Session) enactOnly(ctx context.Context, r SettleRequest, full []string, talk SettleTalk) error {
	now, err := s.again(ctx) // what was taken over before is in the code
	if err != nil {
		return err
	}
	return enact.TakeTurn(ctx, enact.Turn{
		Propose: now.Proposer(Request{Only: full, Rehearse: r.Rehearse}, func(problem.List) {}),
		CarryOut: func(ctx context.Context, p *propose.Proposal, o enact.Options) error {
			if err := enact.Blocked(p); err != nil || p.Idle() {
				return err
			}
			if len(p.Approvals) > 0 {
				return enact.Unsigned(p)
			}
			if err := talk.Found(now.StepsBefore(ctx, p)); err != nil {
				return err
			}
			if p.Counts.Changing() > 0 {
				if err := talk.MayEnact(ctx, p); err != nil {
					return err
				}
			}
			result, err := now.Enact(ctx, p, o)
			if err != nil {
				return err
			}
			if len(result.Failures) > 0 {
				return problem.List(result.Failures)
			}
			if p.Counts.Changing() > 0 {
				talk.Done(result.Result)
			}
			return talk.Found(result.Found, result.Err)
		},
		Options: func() enact.Options { return now.EnactOptions(ctx, r.Run) },
		Tell:    func(words string) { now.tell("%s", words) },
	})
}
