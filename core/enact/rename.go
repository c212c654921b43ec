package enact

import (
	"context"
	"errors"
	"slices"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// callRename stands for a call where a run notes what it has done: a rename
// makes none.
const callRename = "rename"

// recordOf is the record of a resource, or that under its former address as
// long as it is there. It is nil when there is none.
func (e *executor) recordOf(full, was string) (*ledger.Record, error) {
	for _, at := range []string{full, was} {
		ward, address := value.SplitWard(at)
		if e.runs[ward] == nil {
			continue
		}
		if r, err := e.runs[ward].Record(address); r != nil || err != nil {
			return r, err
		}
	}
	return nil, nil
}

// rename records a thing under its new address. Where that is all that becomes
// of it, its care and needs move as well.
func (e *executor) rename(ctx context.Context, a *propose.Action) error {
	before, err := e.recordOf(a.Was, "")
	if err != nil {
		return err
	}
	// an earlier run ended between the two ledgers
	if there, err := e.recordOf(a.Full(), ""); there != nil || err != nil {
		return errors.Join(err, e.broke(forget(ctx, e.runs, a.Was, a.Full())))
	}
	r := *before
	r.Address, r.Run, r.Changed = a.Address, e.o.Run, now()
	if a.Kind == propose.Rename {
		r.Needs, r.Care, r.Declared, r.Inputs, r.Kit = a.Needs, a.Plan.Care, a.Plan.Declared, a.Plan.Inputs, a.Plan.Kit
		r.Version++
	}
	if err := move(ctx, e.runs, a.Was, a.Full(), before, &r); err != nil {
		return e.broke(err)
	}
	c := e.newCall(a, rename, callRename)
	c.intent.Thing = a.Was
	e.noteCall(&madeCall{call: c, before: before, after: &r})
	return nil
}

// renameBack takes a rename back. What else became of the thing has been taken
// back before.
func (e *executor) renameBack(ctx context.Context, m *madeCall) error {
	full, was := value.InWard(m.call.run.Ward(), m.call.intent.Address), m.call.intent.Thing
	now, err := e.recordOf(full, "")
	if err != nil {
		return err
	}
	r := *now
	_, r.Address = value.SplitWard(was)
	b := m.before
	r.Needs, r.Care, r.Declared, r.Inputs, r.Kit, r.Run = b.Needs, b.Care, b.Declared, b.Inputs, b.Kit, e.o.Run
	r.Version++
	return move(ctx, e.runs, full, was, now, &r)
}

// move takes a record from one address to another. Between two ledgers the old
// one says first where the thing goes, and forgets it only when the new one
// has it, so that at no moment neither knows of it.
func move(ctx context.Context, runs map[string]*ledger.Run, from, to string, was, is *ledger.Record) error {
	fromWard, old := value.SplitWard(from)
	toWard, _ := value.SplitWard(to)
	note := func(ward string, n ledger.Note) error {
		return runs[ward].Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &n})
	}
	what := "renamed from " + from
	if fromWard == toWard {
		return note(toWard, ledger.Note{What: what, Dropped: old, Record: is})
	}
	leaving := *was
	leaving.MovingTo = to
	if err := note(fromWard, ledger.Note{What: "to be " + to, Record: &leaving}); err != nil {
		return err
	}
	is.MovingTo = ""
	if err := note(toWard, ledger.Note{What: what, Record: is}); err != nil {
		return err
	}
	return forget(ctx, runs, from, to)
}

// forget takes a record out of the ledger that a thing has left.
func forget(ctx context.Context, runs map[string]*ledger.Run, from, to string) error {
	ward, old := value.SplitWard(from)
	return runs[ward].Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "renamed to " + to,
		Dropped: old}})
}

// Rename records a thing under another address, in its ward or another one,
// as a run of its own. What needs it needs the new address from then on. It is
// for when the code cannot say it, and changes nothing in the cloud.
func Rename(ctx context.Context, from, to string, o Options) error {
	fromWard, _ := value.SplitWard(from)
	toWard, address := value.SplitWard(to)
	// which records name the address is known under the lock alone
	e, err := begin(ctx, o, map[string]ledger.Scope{fromWard: ledger.Whole, toWard: ledger.Whole}, "")
	if err != nil {
		return err
	}
	err = e.renameRecord(ctx, from, to, address)
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	return errors.Join(err, e.end(ctx, outcome, nil))
}

// allResolved refuses to change records while a dead run's call has no result.
func (e *executor) allResolved() error {
	for _, run := range e.runs {
		if written, _ := run.Unresolved(); len(written) > 0 {
			return unresolved(written[0])
		}
	}
	return nil
}

func (e *executor) renameRecord(ctx context.Context, from, to, address string) error {
	if err := e.mayBeUnsigned(propose.Rename, "declare it with care(renamed_from = …)"); err != nil {
		return err
	}
	if err := e.allResolved(); err != nil {
		return err
	}
	was, err := e.recordOf(from, "")
	if err != nil {
		return err
	}
	there, err := e.recordOf(to, "")
	switch {
	case err != nil:
		return err
	case was == nil:
		return &Refused{Reasons: []string{from + " is not recorded"}}
	case there != nil:
		return &Refused{Reasons: []string{to + " is recorded already, as " + there.ID}}
	}
	is := *was
	is.Address, is.Run, is.Changed, is.Declared = address, e.o.Run, now(), ""
	is.Version++
	if err := move(ctx, e.runs, from, to, was, &is); err != nil {
		return err
	}
	for _, run := range e.runs {
		lines, err := usersOf(run.State(), from, to, e.o.Run)
		if err != nil {
			return err
		}
		if len(lines) > 0 {
			if err := run.Append(ctx, lines...); err != nil {
				return err
			}
		}
	}
	return nil
}

// usersOf are the notes by which the records of a ward need a new address
// instead of another one.
func usersOf(s *ledger.State, from, to, run string) ([]ledger.Line, error) {
	var lines []ledger.Line
	for _, a := range s.Addresses() {
		if !slices.Contains(s.Records[a].Needs, from) {
			continue
		}
		old, err := s.Records[a].Record()
		if err != nil {
			return nil, err
		}
		r := *old
		r.Needs = slices.Clone(old.Needs)
		for i, n := range r.Needs {
			if n == from {
				r.Needs[i] = to
			}
		}
		r.Version, r.Declared, r.Run, r.Changed = r.Version+1, "", run, now()
		lines = append(lines, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "needs " + to, Record: &r}})
	}
	return lines, nil
}
