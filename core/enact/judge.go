package enact

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// judge holds the proposal against the ledger as it is under the lock, and
// against what is live where it is asked to.
func (e *executor) judge(ctx context.Context) error {
	refused := &Refused{}
	no := func(a *propose.Action, format string, args ...any) {
		refused.Outdated = true
		refused.Reasons = append(refused.Reasons, a.Address+": "+fmt.Sprintf(format, args...)+"; propose again")
	}
	if err := e.judgeKept(refused); err != nil {
		return err
	}
	if len(refused.Reasons) > 0 {
		return refused
	}
	for _, a := range e.p.Actions {
		if a.Plan == nil {
			continue
		}
		r, err := e.recordOf(a.Full(), a.Was)
		if err != nil {
			return err
		}
		s := a.Plan.Seen
		switch {
		case e.resumed(a, r):
			continue
		case a.Adopts != "" && r == nil:
		case a.Adopts != "":
			no(a, "run %s has recorded it since the proposal", r.Run)
			continue
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
		if err := e.judgeUses(ctx, a, no); err != nil {
			return err
		}
	}
	if err := e.judgeUsers(ctx, no); err != nil {
		return err
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

// judgeUses holds what an action was made from against the records, after what has moved
// was taken into them.
func (e *executor) judgeUses(ctx context.Context, a *propose.Action, no func(*propose.Action, string, ...any)) error {
	for _, u := range a.Plan.Uses {
		path, err := value.ParsePath(u.Path)
		if err != nil {
			no(a, "the proposal names a path that is none: %v", err)
			continue
		}
		ref := value.Ref{Address: u.Address, Path: path}
		if e.ownWork(u.Address) || e.adopting[u.Address] { // recorded by this run, as it is live
			continue
		}
		now, err := e.lookup(ctx, ref)
		if err == nil && propose.ValuesDiffer(now, u.Value.V) && e.outputOf(ctx, ref) {
			if err := e.refresh(ctx, u.Address); err != nil {
				return fmt.Errorf("%s, which %s uses, could not be read: %w", u.Address, a.Address, err)
			}
			now, err = e.lookup(ctx, ref)
		}
		if err != nil || propose.ValuesDiffer(now, u.Value.V) {
			no(a, "it uses %s, which was %s when this was proposed", ref.In(a.Ward), value.Plain(u.Value.V))
		}
	}
	return nil
}

// ownWork reports whether earlier runs of the same proposal changed a resource.
func (e *executor) ownWork(full string) bool {
	ward, address := value.SplitWard(full)
	run := e.runs[ward]
	if len(e.earlier) == 0 || run == nil {
		return false
	}
	r, err := run.Record(address)
	return err == nil && r != nil && slices.Contains(e.earlier, r.Run)
}

func (e *executor) judgeLive(ctx context.Context, no func(*propose.Action, string, ...any)) error {
	states := map[string]*ledger.State{}
	for _, w := range e.p.Wards {
		if run := e.runs[w.Ward]; run != nil {
			states[w.Ward] = run.State()
		}
	}
	adopted := map[string][]string{}
	for _, a := range e.p.Actions {
		if a.Adopts != "" {
			adopted[a.Type] = append(adopted[a.Type], a.Adopts)
		}
	}
	live, err := propose.ReadLive(ctx, e.o.Drivers, e.o.Catalogs, states, adopted)
	if err != nil {
		return err
	}
	for _, a := range e.p.Actions {
		if a.Plan == nil || a.Plan.Seen == nil || a.Plan.Seen.ID == "" || e.touched(a) {
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
			now, err := l.Attributes()
			if err != nil {
				return err
			}
			r, err := e.recordOf(a.Full(), a.Was)
			if err != nil {
				return err
			}
			if typ := e.typ(a.Type); typ != nil && r != nil {
				now = r.Conceal(typ, now)
			}
			counts := countsOf(a, s)
			if a.Leaves() || a.Kind == propose.Swap { // it goes, with all that somebody gave it
				counts = e.countsOfRemoval(a.Type, value.Map(s.Live))
			}
			if a.Adopts != "" { // all of it was compared
				counts = value.Map{}
				for name := range a.Plan.Inputs {
					counts[name] = s.Live[name]
				}
			}
			for _, name := range value.Keys(counts) {
				moved, _ := propose.Compare(name, counts[name], now[name], a.Plan.Care.Leave)
				for _, c := range moved {
					no(a, "%s was %s when this was proposed, and is %s now", c.Path, value.Plain(c.WillBe.V),
						value.Plain(c.Was.V))
				}
			}
			s.Tag = l.Tag
		}
	}
	return nil
}

// judgeUsers refuses to take away what something uses that the proposal does
// not know of: it was made since, or -only left it out.
func (e *executor) judgeUsers(ctx context.Context, no func(*propose.Action, string, ...any)) error {
	going, known := map[string]*propose.Action{}, map[string]*propose.Action{}
	for _, a := range e.p.Actions {
		known[a.Full()], known[a.Was] = a, a
		if a.Plan != nil && !e.touched(a) && (a.Leaves() || a.Kind == propose.Swap && a.Remakes()) {
			going[a.Full()] = a
		}
	}
	if len(going) == 0 {
		return nil
	}
	within := map[string]bool{}
	for _, w := range e.p.Wards {
		within[w.Ward] = true
	}
	for _, ward := range value.Keys(e.o.Ledgers) {
		s, err := e.state(ctx, ward)
		if err != nil {
			return err
		}
		users := map[*propose.Action]string{} // the first of each
		for address, st := range s.Records {
			full := value.InWard(ward, address)
			for _, n := range st.Needs {
				a := going[n]
				if a == nil || !within[ward] && !a.Leaves() || reckonedWith(known[full], n) {
					continue
				}
				if first := users[a]; first == "" || full < first {
					users[a] = full
				}
			}
		}
		for _, full := range value.Keys(going) {
			if by := users[going[full]]; by != "" {
				no(going[full], "%s uses it, and is not part of the proposal",
					value.Ref{Address: by}.In(going[full].Ward))
			}
		}
	}
	return nil
}

// reckonedWith reports whether the proposal knew, by its action on a resource,
// that this needs another one. The action is nil when it has none.
func reckonedWith(a *propose.Action, need string) bool {
	return a != nil && (a.Plan != nil || slices.Contains(a.Needs, need))
}

// state is what the ledger of a ward says: under the lock where the run has
// one there, else as it was when it was first asked for.
func (e *executor) state(ctx context.Context, ward string) (*ledger.State, error) {
	if run := e.runs[ward]; run != nil {
		return run.State(), nil
	}
	e.outside.mu.Lock()
	defer e.outside.mu.Unlock()
	return e.outside.state(ctx, ward)
}

// errOvertaken is returned where another person or program has changed a thing since it was seen.
var errOvertaken = errors.New("another person or program changed it since it was read")

// overtaken says what was changed.
func overtaken(path, format string, args ...any) error {
	return &overtakenError{&driver.Error{NotDone: true, Message: fmt.Sprintf(format, args...) +
		"; nothing was overwritten: propose again",
		Problems: []driver.Problem{{Path: path, Message: "changed since it was read"}}}}
}

type overtakenError struct{ said *driver.Error }

func (e *overtakenError) Error() string { return e.said.Error() }

func (e *overtakenError) Unwrap() []error { return []error{errOvertaken, e.said} }
