package enact

import (
	"context"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// callAdopt stands for a call where a run notes what it has done: adopting makes none.
const callAdopt = "adopt"

// adopt records a thing that exists. One that is edited next is recorded as it is live, so that a
// run that ends in between leaves it as adopted and not as declared.
func (e *executor) adopt(ctx context.Context, a *propose.Action) error {
	typ, err := e.typeOf(a)
	if err != nil {
		return err
	}
	live := value.Map(a.Plan.Seen.Live)
	c := e.newCall(a, adopt, callAdopt)
	for _, at := range typ.Attributes {
		if at.Secret { // the proposal does not hold what the cloud shows of it
			l, err := c.drv.Read(ctx, typ.Name, a.Adopts)
			if err != nil {
				return err
			}
			live = l.Attributes
			break
		}
	}
	v, err := value.Resolve(map[string]any(a.Plan.Inputs), e.lookupIn(ctx))
	if err != nil {
		return err
	}
	inputs, _ := v.(map[string]any)
	if a.Kind == propose.Adopt {
		if inputs, err = e.checked(a, inputs); err != nil {
			return err
		}
	}
	r, err := e.record(a, inputs)
	if err != nil {
		return err
	}
	r.ID, r.Tag = a.Adopts, a.Plan.Seen.Tag
	if a.Kind != propose.Adopt {
		r.Declared, r.Inputs, r.Hidden = "", value.Attributes{}, nil
		for name := range a.Plan.Inputs {
			if is, shown := a.Plan.Seen.Live[name]; shown {
				r.Inputs[name] = is
			}
		}
	}
	e.take(r, a.Ward, live)
	if e.isBroken() {
		return errWithheld
	}
	if err := c.run.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteAdopted,
		Record: r}}); err != nil {
		return e.broke(err)
	}
	if a.Kind != propose.Adopt {
		a.Plan.Seen.Version = r.Version
	}
	e.noteCall(&madeCall{call: c, after: r})
	return nil
}

// letGoAgain stops managing what the run has adopted.
func (e *executor) letGoAgain(ctx context.Context, m *madeCall) error {
	return m.call.run.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteReleased,
		Dropped: m.call.intent.Address}})
}
