package enact

import (
	"context"
	"errors"
	"fmt"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/driver"
)

// Recover is a run of its own that finds out about unfinished calls. made
// says what a person knows: address -> id in the cloud, or "none".
func Recover(ctx context.Context, wards []string, made map[string]string, o Options) (*Result, error) {
	e, err := begin(ctx, o, wards, "")
	if err != nil {
		return nil, err
	}
	e.p = &propose.Proposal{}
	err = e.recover(ctx, made)
	r := &Result{Run: o.Run, Outcome: "done", Recovered: e.recovered}
	if err != nil {
		r.Outcome = "failed"
	}
	return r, errors.Join(err, e.end(ctx, r.Outcome, nil))
}

// recover resolves the unfinished calls of dead runs: each recorded call is
// made again with its recorded key and tag, so that a late call of the dead
// run can only repeat it.
func (e *executor) recover(ctx context.Context, made map[string]string) error {
	for _, ward := range value.Keys(e.runs) {
		run := e.runs[ward]
		for _, open := range run.Unresolved() {
			if err := e.recoverOne(ctx, ward, run, open, made[open.Intent.Address]); err != nil {
				return fmt.Errorf("%s: its unfinished %s of run %s: %w", open.Intent.Address, open.Intent.Call, open.Run, err)
			}
			e.recovered = append(e.recovered, value.InWard(ward, open.Intent.Address))
		}
	}
	return nil
}

func (e *executor) recoverOne(ctx context.Context, ward string, run *ledger.Run, open *ledger.OpenIntent, made string) error {
	in := open.Intent
	drv, typ := propose.SplitType(in.Type)
	d, catalog := e.o.Drivers[drv], e.o.Catalogs[drv]
	if d == nil || catalog == nil || catalog.Types[typ] == nil {
		return fmt.Errorf("there is no driver for %s", in.Type)
	}
	c := &call{run: run, drv: d, typ: typ, intent: in}
	settle := func(r ledger.Result) error {
		r.Intent, r.Run, r.Address = in.ID, open.Run, in.Address
		return run.Append(context.Background(), ledger.Line{Kind: ledger.KindResult, Result: &r})
	}
	if made == "none" {
		return settle(ledger.Result{Outcome: ledger.Failed, Error: "a person says that nothing was made"})
	}
	if made != "" {
		live, err := d.Read(ctx, typ, made)
		if err != nil {
			return err
		}
		return settle(e.doneResult(&in, live, 0))
	}
	if in.Call == "create" && catalog.Types[typ].KeyMemory == 0 {
		return fmt.Errorf("the cloud remembers no keys, so only a person can tell: kasbah lock recover %s -made %s=ID, or =none", open.Run, in.Address)
	}
	if err := run.MayCall(ctx); err != nil {
		return err
	}
	live, err := e.send(ctx, c)
	switch {
	case err == nil:
		return settle(e.doneResult(&in, live, 0))
	case unknownEnd(err):
		return err
	case errors.Is(err, driver.ErrGone) && in.Call == "update":
		return settle(ledger.Result{Outcome: ledger.Failed, Error: err.Error()})
	case errors.Is(err, driver.ErrTag):
		return e.recoverChanged(ctx, c, settle)
	}
	// the cloud refuses: the call has no effect
	return settle(ledger.Result{Outcome: ledger.Failed, Error: err.Error()})
}

// recoverChanged decides about a call whose tag is refused: the thing is as
// intended, or it is not.
func (e *executor) recoverChanged(ctx context.Context, c *call, settle func(ledger.Result) error) error {
	in := c.intent
	live, err := c.drv.Read(ctx, c.typ, in.Thing)
	if errors.Is(err, driver.ErrGone) && in.Call == "delete" {
		return settle(e.doneResult(&in, driver.Live{}, 0))
	}
	if err != nil {
		return err
	}
	matches := func(want value.Map) bool {
		for name, v := range want {
			if propose.Differ(v, live.Attributes[name]) {
				return false
			}
		}
		return true
	}
	if in.Call == "update" && matches(value.Map(in.To)) {
		return settle(e.doneResult(&in, live, 0))
	}
	// As before the call, or edited by hand: the call had no effect either way,
	// and the comparison that follows every recovery says which.
	return settle(ledger.Result{Outcome: ledger.Failed, Error: driver.ErrTag.Error()})
}

// judge holds the proposal against the ledger as it is under the lock, and
// against what is live where it is asked to.
func (e *executor) judge(ctx context.Context) error {
	refused := &Refused{}
	no := func(a *propose.Action, format string, args ...any) {
		refused.Reasons = append(refused.Reasons, a.Address+": "+fmt.Sprintf(format, args...)+"; propose again")
	}
	for _, a := range e.p.Actions {
		if a.Plan == nil {
			continue
		}
		r, err := e.runs[a.Ward].Record(a.Address)
		if err != nil {
			return err
		}
		s := a.Plan.Seen
		switch {
		case s == nil && r != nil:
			no(a, "run %s has made it since the proposal", r.Run)
		case s != nil && r == nil:
			no(a, "it has been dropped from the ledger since the proposal")
		case s == nil || r.Version == s.Version && r.ID == s.ID:
		case s.Unfinished && value.Equal(map[string]any(r.Inputs), map[string]any(s.Inputs)):
			s.ID, s.Tag, s.Version, s.Leftovers = r.ID, r.Tag, r.Version, r.Leftovers
			if s.Live == nil {
				s.Live = r.Live
			}
		default:
			no(a, "run %s has changed it since the proposal", r.Run)
		}
		e.judgeUses(a, no)
	}
	if e.o.JudgeLive && len(refused.Reasons) == 0 {
		if err := e.judgeLive(ctx, no); err != nil {
			return err
		}
	}
	if len(refused.Reasons) > 0 {
		return refused
	}
	return nil
}

// judgeUses holds what an action was made from against the records.
func (e *executor) judgeUses(a *propose.Action, no func(*propose.Action, string, ...any)) {
	for _, u := range a.Plan.Uses {
		path, err := value.ParsePath(u.Path)
		if err != nil {
			no(a, "the proposal names a path that is none: %v", err)
			continue
		}
		ref := value.Ref{Address: u.Address, Path: path}
		now, err := e.lookup(ref)
		if err != nil || propose.Differ(now, u.Value.V) {
			no(a, "it uses %s, which was %s when this was proposed", ref, value.Plain(u.Value.V))
		}
	}
}

func (e *executor) judgeLive(ctx context.Context, no func(*propose.Action, string, ...any)) error {
	states := map[string]*ledger.State{}
	for w, run := range e.runs {
		states[w] = run.State()
	}
	live, err := propose.ReadLive(ctx, e.o.Drivers, states, false)
	if err != nil {
		return err
	}
	for _, a := range e.p.Actions {
		if a.Plan == nil || a.Plan.Seen == nil || a.Plan.Seen.ID == "" {
			continue
		}
		s := a.Plan.Seen
		l, there := live[a.Type][s.ID]
		switch {
		case !there && s.Gone:
		case !there:
			no(a, "it is gone from the cloud since the proposal")
		case s.Gone:
			no(a, "it is back in the cloud since the proposal")
		default:
			for _, name := range value.Keys(countsOf(s)) {
				if propose.Differ(s.Live[name], l.Attributes[name]) {
					no(a, "%s was %s when this was proposed, and is %s now", name, value.Plain(s.Live[name]), value.Plain(l.Attributes[name]))
				}
			}
			s.Tag = l.Tag
		}
	}
	return nil
}
