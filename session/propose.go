package session

import (
	"context"
	"slices"

	"golang.org/x/sync/errgroup"

	"kasbah/core/approval"
	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// Request says what is proposed.
type Request struct {
	Only    []string // patterns of addresses; none for all
	Swap    []string // addresses that are made again
	Raze    bool     // nothing is to be left
	Restore int64    // the entry whose state is to be restored; 0 for what is declared
	Offline bool     // what the ledgers say stands for what is live
	Anew    bool     // nothing is taken from the last proposal
	// Rehearse says when clouds are asked what they would refuse: auto, always or never.
	Rehearse string
	Adopt    *Adopting // nil for what kasbah.toml says
	Run      string    // that holds locks for the proposal; "" for none
}

// Proposed is a proposal and what is to be said beside it.
type Proposed struct {
	Proposal *propose.Proposal
	Remarks  problem.List // about the declarations
}

// Propose makes a proposal for the session's wards. Ledgers and clouds are read beside the
// evaluation, which keeps one core busy.
func (s *Session) Propose(ctx context.Context, r Request) (*Proposed, error) {
	out, err := s.proposed(ctx, r)
	if err != nil {
		return nil, err
	}
	return out, s.StepsProposed(ctx, out.Proposal)
}

// proposed is Propose without the steps that look at a proposal.
func (s *Session) proposed(ctx context.Context, r Request) (*Proposed, error) {
	var states map[string]*ledger.State
	var live propose.Live
	reading, cancel := context.WithCancel(ctx)
	read, reading := errgroup.WithContext(reading)
	defer func() {
		cancel()
		_ = read.Wait() // nothing goes on reading; what went wrong is told below
	}()
	read.Go(func() (err error) {
		if states, err = s.States(reading); err == nil {
			live, err = s.live(reading, states, r)
		}
		return err
	})
	others := s.Others()
	last := s.recall(ctx, others, r)
	if last != nil && last.was != nil {
		if err := read.Wait(); err != nil {
			return nil, err
		}
		o, err := s.proposeOptions(ctx, others, nil, states, live, r)
		if err != nil {
			return nil, err
		}
		proposal, err := last.was.Again(o)
		if proposal != nil {
			s.detail("The declarations are as they were at the last proposal; they were not evaluated again.")
			s.keepKnownOf(proposal, states, r)
			s.warnReaders(ctx, others, proposal, states)
			return &Proposed{proposal, last.was.Remarks}, nil
		}
		s.forgot(err)
	}
	e := &Evaluation{}
	if !r.Raze {
		var err error
		if e, err = s.evaluateForChange(ctx, others, !r.Anew); err != nil {
			return nil, err
		}
	}
	if err := read.Wait(); err != nil {
		return nil, err
	}
	o, err := s.proposeOptions(ctx, others, e, states, live, r)
	if err != nil {
		return nil, err
	}
	out := &Proposed{Remarks: e.Remarks()}
	if out.Proposal, err = propose.Propose(ctx, o); err != nil {
		return nil, err
	}
	s.remember(last, out, o, others)
	s.warnReaders(ctx, others, out.Proposal, states)
	s.keepKnownOf(out.Proposal, states, r)
	return out, s.rehearse(ctx, out.Proposal, r)
}

// evaluateForChange is EvaluateRight, with the steps that look at what is declared. moved asks for an evaluation of
// what can have changed since the last one; see EvaluateMoved.
func (s *Session) evaluateForChange(ctx context.Context, others *Others, moved bool) (*Evaluation, error) {
	evaluate := s.Evaluate
	if moved {
		evaluate = s.EvaluateMoved
	}
	e, err := evaluate(ctx, others)
	e, err = s.right(ctx, e, err)
	if err != nil {
		return nil, err
	}
	if err := s.StepsDeclared(ctx, e); err != nil {
		return nil, err
	}
	return e, e.Problems.Err()
}

// ProposeFrom makes a proposal from an evaluation and states that are at hand.
func (s *Session) ProposeFrom(ctx context.Context, others *Others, e *Evaluation, states map[string]*ledger.State,
	r Request) (*propose.Proposal, error) {
	live, err := s.live(ctx, states, r)
	if err != nil {
		return nil, err
	}
	o, err := s.proposeOptions(ctx, others, e, states, live, r)
	if err != nil {
		return nil, err
	}
	p, err := propose.Propose(ctx, o)
	if err != nil {
		return nil, err
	}
	s.warnReaders(ctx, others, p, states)
	return p, s.rehearse(ctx, p, r)
}

// rehearse asks the clouds what they would refuse, unless nothing is to be asked.
func (s *Session) rehearse(ctx context.Context, p *propose.Proposal, r Request) error {
	if r.Offline || r.Rehearse == "never" || p.Counts.Changing() == 0 {
		return nil
	}
	return enact.Rehearse(ctx, p, enact.RehearseOptions{
		Each:   r.Rehearse == "always",
		Run:    r.Run,
		Clouds: enact.Clouds{Drivers: s.Drivers, Catalogs: s.Catalogs, Ledgers: s.Ledgers},
	})
}

// live reads what the clouds show of what is recorded; nothing when offline.
func (s *Session) live(ctx context.Context, states map[string]*ledger.State, r Request) (propose.Live, error) {
	if r.Offline {
		return nil, nil
	}
	return propose.ReadLive(ctx, s.Drivers, s.Catalogs, states, nil)
}

// proposeOptions gathers what a proposal is made from. e is nil where nothing was evaluated.
func (s *Session) proposeOptions(ctx context.Context, others *Others, e *Evaluation, states map[string]*ledger.State,
	live propose.Live, r Request) (propose.Options, error) {
	who := s.config.Identity
	policies := map[string]*approval.Policy{}
	for _, ward := range s.Wards {
		var err error
		if policies[ward], err = s.Estate.Approval(s.Env, ward); err != nil {
			return propose.Options{}, err
		}
	}
	o := propose.Options{
		Estate: s.Estate.Name, Env: s.Env, Currency: s.Estate.Prices.Currency, Approval: policies, States: states,
		Catalogs: s.Catalogs,
		Maker:    propose.Maker{By: who.Who, Program: who.Program, Run: r.Run},
		Choice:   propose.Choice{Wards: s.Wards, Only: r.Only, Swap: r.Swap},
		Secrets:  propose.Secrets{Sealed: s.Box != nil, Secret: s.Secrets.Of(ctx)},
		Elsewhere: propose.Elsewhere{Outside: func(ward string) (*ledger.State, error) {
			return others.State(ctx,
				ward)
		}},
	}
	var err error
	if o.Rules, err = s.Rules(ctx); err != nil {
		return o, err
	}
	otherName, err := s.OtherName(ctx, states)
	if err != nil {
		return o, err
	}
	if otherName != "" {
		o.Warnings = append(o.Warnings, otherName)
	}
	if o.ByKey, err = s.proposerKey(states); err != nil {
		return o, err
	}
	for _, w := range s.Estate.Wards {
		if !slices.Contains(s.Wards, w) {
			o.Others = append(o.Others, w)
		}
	}
	if e != nil && e.Declared != nil {
		o.Declared, o.Graph, o.Found = e.Declared, e.Graph, e.Findings()
		o.Steps = e.Steps
		if o.Readings, err = s.readings(ctx, others, e.Declared); err != nil {
			return o, err
		}
		o.RenamedAway = func() (map[string]string, error) { return s.renamedAway(ctx, others, o.Others) }
	}
	if e != nil {
		if o.Adopt, err = s.adoption(ctx, r, e.Declared, states, live); err != nil {
			return o, err
		}
	}
	if r.Offline {
		return o, nil
	}
	o.Live = live
	o.Find = func(typ string, match value.Map) ([]driver.Live, error) {
		drv, name := propose.SplitType(typ)
		return s.Drivers[drv].Find(ctx, name, match)
	}
	o.Vetters = map[string]driver.Vetter{}
	for name, d := range s.Drivers {
		if v, ok := d.(driver.Vetter); ok {
			o.Vetters[name] = v
		}
	}
	return o, nil
}

// renamedAway are the resources of the session's wards that other wards say they have taken
// over: former full address -> present one. Declarations that speak of no renaming are not
// evaluated.
func (s *Session) renamedAway(ctx context.Context, others *Others, wards []string) (map[string]string, error) {
	some, err := declare.SpeakOfRenaming(s.Estate.Dir)
	if err != nil || !some || len(wards) == 0 {
		return nil, err
	}
	o, err := s.Options(ctx, others)
	if err != nil {
		return nil, err
	}
	o.Wards = wards
	e, err := s.evaluate(ctx, o, s.loadRules(ctx, o), nil)
	if err != nil {
		return nil, err
	}
	if err := e.Problems.Err(); err != nil {
		return nil, err
	}
	return e.Declared.RenamedFrom(s.Wards), nil
}

// JudgeAt judges at some stages by their names, and always what is declared. Declarations and
// rules that are wrong are the error.
func (s *Session) JudgeAt(ctx context.Context, stages []string) (rules.Document, problem.List, error) {
	e, err := s.Evaluate(ctx, s.Others())
	if err != nil {
		return rules.Document{}, nil, err
	}
	problems := e.Problems
	if e.Judged == nil {
		return rules.Document{}, nil, problems
	}
	var at []rules.Stage
	for _, stage := range stages {
		at = append(at, rules.Stage(stage))
	}
	reports, err := s.judge(ctx, e, at)
	if err != nil {
		return rules.Document{}, nil, err
	}
	for _, report := range reports[1:] {
		problems = append(problems, report.Problems()...)
	}
	set, err := s.Rules(ctx)
	if err != nil {
		return rules.Document{}, nil, err
	}
	problems.Sort()
	return rules.NewDocument(s.Env, set.Rules, reports...), problems, nil
}

// judge judges at some stages, first of all what is declared, which e holds already.
func (s *Session) judge(ctx context.Context, e *Evaluation, stages []rules.Stage) ([]*rules.Report, error) {
	reports := []*rules.Report{e.Judged}
	if len(stages) == 0 {
		return reports, nil
	}
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	for _, stage := range stages {
		switch stage {
		case rules.Proposed:
			told := *e
			told.Judged = nil // told already
			p, err := s.ProposeFrom(ctx, s.Others(), &told, states, Request{})
			if err != nil {
				return nil, err
			}
			reports = append(reports, p.Judged())
		case rules.Live:
			r, err := s.surveyOf(ctx, states, nil, survey.Asked{})
			if err != nil {
				return nil, err
			}
			reports = append(reports, r.Judged)
		}
	}
	return reports, nil
}
