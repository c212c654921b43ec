package enact

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/steps"
	"kasbah/core/value"
)

// failed turns an error into problems: one, or one for each attribute that the
// cloud says something of, at the line of each.
func (e *executor) failed(a *propose.Action, err error) []*problem.Problem {
	p := &problem.Problem{Level: problem.Wrong, Ward: a.Ward, Address: a.Address, Position: a.Position, Via: a.Via,
		Message: err.Error()}
	var refusal *rules.Refusal
	if errors.As(err, &refusal) {
		p.Rule, p.Hint = refusal.Rule, refusal.Help
	}
	var de *driver.Error
	if !errors.As(err, &de) || len(de.Problems) == 0 {
		return []*problem.Problem{p}
	}
	var out []*problem.Problem
	for i, said := range de.Problems {
		one := *p
		one.Path = said.Path
		if at, ok := a.Plan.Positions[topLevel(said.Path)]; ok {
			one.Position = at
		}
		if i > 0 {
			one.Message = said.Message
		} else if said.Message != "" && !strings.Contains(p.Message, said.Message) {
			one.Message = strings.TrimSuffix(p.Message, ".") + ": " + said.Message
		}
		if said.Path != "" && !strings.Contains(one.Message, said.Path) {
			one.Message = said.Path + ": " + one.Message
		}
		out = append(out, &one)
	}
	return out
}

func topLevel(path string) string {
	if p, err := value.ParsePath(path); err == nil && len(p) > 0 {
		return p[0].Key
	}
	return path
}

// finish ends the run with its counts and published values.
func (e *executor) finish(ctx context.Context) (*Result, error) {
	c := e.count()
	r := e.r
	r.runs = e.runs
	r.Run, r.Reason, r.Counts, r.Failures, r.Recovered, r.Copies, r.Resumed = e.o.Run, e.o.Reason, c, e.failures,
		e.recovered, e.copies, e.resumedActions
	for _, u := range e.undone {
		u.Error = textOf(u.Err)
		r.Undone = append(r.Undone, u)
	}
	switch {
	case e.tookBackAll:
		r.Outcome = "undone"
	case len(e.failures) > 0:
		r.Outcome = "failed"
	case c.NotBegun+c.Unfinished > 0:
		r.Outcome = "stopped"
	}
	values := map[string]ledger.Values{}
	var unread error
	for _, w := range e.p.Wards {
		run := e.runs[w.Ward]
		if run == nil || len(e.undone) > 0 {
			continue // they stay as they were
		}
		if run.Scope().MayWrite(ledger.PublishedValues) && ctx.Err() == nil && !e.isBroken() {
			unread = errors.Join(unread, e.refreshPublished(ctx, w))
		}
		is := e.values(ctx, w)
		if run.Scope().MayWrite(ledger.PublishedValues) {
			values[w.Ward] = is
		}
		r.Published[w.Ward] = is.Published
	}
	r.Actions = e.actions()
	r.Seconds = time.Since(r.Began).Seconds()
	err := e.end(ctx, r.Outcome, values)
	e.event(Event{Kind: EventEnd})
	return r, errors.Join(err, e.broken, unread)
}

// refreshPublished reads the owners of published outputs again: what is published is
// what is live when the run ends.
func (e *executor) refreshPublished(ctx context.Context, w propose.WardAt) error {
	owners := map[string]bool{}
	for _, v := range w.Published {
		value.Refs(v.V, func(r value.Ref) {
			if e.watched[r.Address] && e.outputOf(ctx, r) {
				owners[r.Address] = true
			}
		})
	}
	for _, full := range value.Keys(owners) {
		if err := e.refresh(ctx, full); err != nil {
			return fmt.Errorf("%s: what is published of it is as it was before, as it could not be read again: %w",
				full, err)
		}
	}
	return nil
}

// actions says what became of each.
func (e *executor) actions() []ActionResult {
	undone := map[string]bool{}
	for _, u := range e.undone {
		undone[value.InWard(u.Ward, u.Address)] = u.Err == nil
	}
	out := make([]ActionResult, 0, e.counts.Total)
	for _, a := range e.p.Actions {
		if a.Kind == propose.Same {
			continue
		}
		full := a.Full()
		x := ActionResult{
			Ward: a.Ward, Address: a.Address, Kind: a.Kind, Outcome: "not begun", Position: a.Position.Short(),
			Seconds: e.took[full].Seconds(),
			Err:     e.errs[full], Error: textOf(e.errs[full]),
		}
		switch {
		case undone[full]:
			x.Outcome = "undone"
		case errors.Is(x.Err, errUnclear):
			x.Outcome = "unclear"
		case x.Err != nil:
			x.Outcome = "failed"
		case e.halfDone[full] == len(halves(a)):
			x.Outcome = "done"
		case e.unfinished[full]:
			x.Outcome = "unfinished"
		}
		if r, err := e.recordOf(full, a.Was); err == nil && r != nil {
			x.ID = r.ID
		}
		out = append(out, x)
	}
	return out
}

// values are what the run leaves of a ward besides records, as far as it is
// known; what is not known stays as it was. There are none when the proposal
// removes the ward.
func (e *executor) values(ctx context.Context, w propose.WardAt) ledger.Values {
	out := ledger.Values{Published: value.Attributes{}}
	if e.p.Raze {
		return out
	}
	old := e.runs[w.Ward].Values()
	out.Offered, out.Reads = value.Attributes{}, w.Reads
	for n, v := range w.Published {
		if value.IsSecret(v.V) {
			out.Offered[n] = v.V // the value itself is not recorded
			continue
		}
		known, err := value.Resolve(v.V, e.lookupIn(ctx))
		switch {
		case err == nil && !value.IsPending(known):
			out.Published[n] = known
			if value.IsPending(v.V) {
				out.Offered[n] = v.V
			}
		default:
			if was, ok := old.Published[n]; ok {
				out.Published[n] = was
			}
			if was, ok := old.Offered[n]; ok {
				out.Offered[n] = was
			}
		}
	}
	out.Found = e.found.of(w.Ward, old)
	return out
}

// rulesSaid is what house rules said of a ward's actions without stopping
// them: in the proposal and, of values that were pending then, in the run.
func (e *executor) rulesSaid(ward string) []string {
	if e.p == nil {
		return nil
	}
	var out []string
	for _, f := range e.p.Rules {
		if (f.Ward == ward || f.Ward == "") && f.Verdict != rules.Undecided {
			out = append(out, strings.TrimPrefix(f.Address+": "+f.Sentence(), ": "))
		}
	}
	return append(out, e.said[ward]...)
}

// stepsRan are the steps that ran before.
func (e *executor) stepsRan() []string {
	if e.p == nil {
		return nil
	}
	return steps.Texts(e.p.Steps)
}

// failedIn says what failed in a ward, and why.
func (e *executor) failedIn(ward string) []string {
	var out []string
	for _, f := range e.failures {
		if f.Ward == ward {
			out = append(out, f.Address+": "+f.Message)
		}
	}
	return out
}

// end gives every lock back. Locks that were taken away are past giving.
func (e *executor) end(ctx context.Context, outcome string, values map[string]ledger.Values) error {
	var errs []error
	for _, w := range value.Keys(e.runs) {
		run, c := e.runs[w], e.byWard[w]
		counts := map[string]int{"total": c.Total, "done": c.Done, "failed": c.Failed, "unclear": c.Unclear,
			"undone": c.Undone}
		err := run.End(ctx, ledger.End{Outcome: outcome, Counts: counts, Rules: e.rulesSaid(w), Steps: e.stepsRan(),
			Failed: e.failedIn(w),
			Copies: e.copiesIn(w), Values: values[w]})
		if err != nil && !errors.Is(err, ledger.ErrBroken) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}
