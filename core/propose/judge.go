package propose

import (
	"context"
	"slices"

	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// RuleCounts count what the rules said of a proposal.
type RuleCounts struct {
	Passed    int `json:"passed"`
	Broken    int `json:"broken"`
	Undecided int `json:"undecided"`
	Excused   int `json:"excused"`
	Failed    int `json:"failed"` // rules that went wrong themselves
}

// judge holds the proposal against the estate's rules.
func (w *proposer) judge(ctx context.Context) error {
	if w.o.Rules == nil || len(w.o.Rules.Rules) == 0 {
		return nil
	}
	subjects := make([]*rules.Subject, len(w.p.Actions))
	for i, a := range w.p.Actions {
		s, err := w.subject(a)
		if err != nil {
			return err
		}
		subjects[i] = s
	}
	c := w.p.Counts
	extra := value.Map{
		"counts": value.Map{"new": int64(c.New), "edit": int64(c.Edit), "swap": int64(c.Swap), "drop": int64(c.Drop),
			"adopt":   int64(c.Adopt),
			"release": int64(c.Release), "rename": int64(c.Rename), "same": int64(c.Same)},
		"cost": costMap(w.p.Cost),
	}
	report, err := w.o.Rules.Judge(ctx, rules.Proposed, subjects, extra)
	if err != nil {
		return err
	}
	w.p.Rules = append(w.p.Rules, report.Findings...)
	w.p.judged = report
	for _, t := range report.Tallies {
		n := &w.p.RuleCounts
		n.Passed, n.Broken, n.Undecided, n.Excused, n.Failed = n.Passed+t.Passed, n.Broken+t.Broken,
			n.Undecided+t.Undecided, n.Excused+t.Excused, n.Failed+t.Failed
	}
	for i := range report.Findings {
		if f := &report.Findings[i]; f.Blocks() {
			w.p.Blocked = append(w.p.Blocked, Block{Ward: f.Ward, Address: f.Address, Because: f.Sentence(),
				Position: f.Position, Rule: f.Rule})
		}
	}
	return nil
}

func costMap(c *Cost) value.Map {
	if c == nil {
		c = &Cost{}
	}
	return value.Map{"was": c.Was, "will_be": c.WillBe, "change": c.Change, "unknown": int64(c.Unknown)}
}

// subject is an action as rules see it. What is dropped has no inputs.
func (w *proposer) subject(a *Action) (*rules.Subject, error) {
	d := w.o.Declared.Resource(a.Full())
	r, err := w.recorded.get(a.Full())
	if err != nil {
		return nil, err
	}
	typ, err := w.typeOf(d, r)
	if err != nil {
		return nil, err
	}
	s := subjectOf(a, typ)
	if r != nil {
		s.Was = value.Map(r.Live)
		s.Excuse = r.Care.Excuse
		if a.Kind == Same {
			s.Inputs = value.Map(r.Inputs)
		}
	}
	if d != nil {
		s.Excuse = d.Care.Excuse
		s.Guarded = d.Care.Guard
	}
	return s, nil
}

func subjectOf(a *Action, typ *schema.Type) *rules.Subject {
	s := &rules.Subject{Ward: a.Ward, Address: a.Address, Type: a.Type, Schema: typ, Kit: a.Kit, Action: string(a.Kind),
		Inputs: value.Map{}, Position: a.Position}
	if p := a.Plan; p != nil {
		s.Guarded, s.Excuse = p.Care.Guard, p.Care.Excuse
		if !a.Leaves() {
			s.Inputs = value.Map(p.Inputs)
		}
		if p.Seen != nil {
			if s.Was = value.Map(p.Seen.Live); s.Was == nil {
				s.Was = value.Map(p.Seen.Inputs)
			}
		}
	}
	return s
}

// Judged is what the rules said of a proposal that was made just now.
func (p *Proposal) Judged() *rules.Report {
	if p.judged == nil {
		return &rules.Report{}
	}
	return p.judged
}

// JudgeAgain judges an action by the rules that were undecided about it, now
// that its inputs are known.
func (p *Proposal) JudgeAgain(ctx context.Context, set *rules.Set, a *Action, typ *schema.Type,
	inputs value.Map) *rules.Report {
	var names []string
	for _, f := range p.Rules {
		if f.Verdict == rules.Undecided && f.At == rules.Proposed && f.Ward == a.Ward && f.Address == a.Address &&
			!slices.Contains(names, f.Rule) {
			names = append(names, f.Rule)
		}
	}
	if set == nil || names == nil {
		return &rules.Report{}
	}
	s := subjectOf(a, typ)
	s.Inputs = inputs
	return set.Reconsider(ctx, rules.Proposed, names, s)
}
