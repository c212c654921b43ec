package enact

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/driver"
)

// Recover is a run of its own that finds out about the unfinished calls within
// some scopes, by ward. made says what a person knows: address -> id in the
// cloud, or "none".
func Recover(ctx context.Context, scopes map[string]ledger.Scope, made map[string]string, o Options) (*Result, error) {
	e, err := begin(ctx, o, scopes, "")
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

// recover resolves the unfinished calls of dead runs on what this one writes,
// and refuses to rest on what has some: each recorded call is
// made again with its recorded key and tag, so that a late call of the dead
// run can only repeat it.
func (e *executor) recover(ctx context.Context, made map[string]string) error {
	for _, ward := range value.Keys(e.runs) {
		run := e.runs[ward]
		written, read := run.Unresolved()
		if len(read) > 0 {
			return unresolved(read[0])
		}
		for _, open := range written {
			if err := e.recoverOne(ctx, run, open, made[open.Intent.Address]); err != nil {
				return fmt.Errorf("%s: its unfinished %s of run %s: %w", open.Intent.Address, open.Intent.Call, open.Run, err)
			}
			e.recovered = append(e.recovered, value.InWard(ward, open.Intent.Address))
		}
	}
	return nil
}

func (e *executor) recoverOne(ctx context.Context, run *ledger.Run, open *ledger.OpenIntent, made string) error {
	in := open.Intent
	drv, typ := propose.SplitType(in.Type)
	d, catalog := e.o.Drivers[drv], e.o.Catalogs[drv]
	if d == nil || catalog == nil || catalog.Types[typ] == nil {
		return fmt.Errorf("there is no driver for %s", in.Type)
	}
	c := &call{run: run, within: e.o.Timeout, drv: d, typ: typ, intent: in}
	if in.Plan != nil {
		c.within = e.timeout(in.Plan.Care)
		e.confide(map[string]any(in.Plan.Hidden))
	}
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
		return settle(e.doneResult(run.Ward(), &in, live, 0))
	}
	// with a tag a repeated call is safe at any time; a create only while the
	// cloud remembers its key, with room for clocks that differ
	if memory := catalog.Types[typ].KeyMemory; (in.Call == "create" || in.Call == ledger.CallCopy) && time.Since(open.At) >= memory/2 {
		r, err := e.located(ctx, run.Ward(), d, catalog.Types[typ], &in)
		if r == nil && err == nil {
			r, err = e.identified(ctx, run.Ward(), d, catalog.Types[typ], &in)
		}
		if r != nil || err != nil {
			if err != nil {
				return err
			}
			return settle(*r)
		}
		why := "the cloud remembers no keys"
		if memory > 0 {
			why = fmt.Sprintf("the call is from %s, and the cloud may have forgotten its key", open.At.Local().Format(time.DateTime))
		}
		return fmt.Errorf("%s, so only a person can tell: kasbah lock recover %s -made %s=ID, or =none", why, open.Run, in.Address)
	}
	if err := run.MayCall(ctx); err != nil {
		return err
	}
	live, err := e.send(ctx, c)
	switch {
	case err == nil:
		return settle(e.doneResult(run.Ward(), &in, live, 0))
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

// located finds out about a create by asking the cloud what its key made. It is
// nil where the cloud cannot tell.
func (e *executor) located(ctx context.Context, ward string, d driver.Driver, t *schema.Type, in *ledger.Intent) (*ledger.Result, error) {
	locator, ok := d.(driver.Locator)
	if !ok || !t.Locate || in.Call != "create" {
		return nil, nil
	}
	live, err := locator.Locate(ctx, t.Name, in.Key)
	if errors.Is(err, driver.ErrGone) {
		return &ledger.Result{Outcome: ledger.Failed, Error: "nothing was made"}, nil
	}
	if err != nil {
		return nil, err
	}
	r := e.doneResult(ward, in, live, 0)
	return &r, nil
}

// identified finds out about a create by the attributes that together identify
// one thing of its type: none like it means that nothing was made, and one that
// no record holds is the one. It is nil where that does not tell.
func (e *executor) identified(ctx context.Context, ward string, d driver.Driver, t *schema.Type, in *ledger.Intent) (*ledger.Result, error) {
	if in.Call != "create" || len(t.Identify) == 0 {
		return nil, nil
	}
	match := value.Map{}
	for _, name := range t.Identify {
		v, ok := in.Inputs[name]
		if !ok || value.IsPending(v) {
			return nil, nil
		}
		match[name] = v
	}
	found, err := d.Find(ctx, t.Name, match)
	if err != nil {
		return nil, err
	}
	var unknown []driver.Live
	for _, l := range found {
		held := false
		for _, w := range value.Keys(e.o.Ledgers) {
			at, err := e.manages(w, in.Type, l.ID)
			if err != nil {
				return nil, err
			}
			held = held || at != ""
		}
		if !held {
			unknown = append(unknown, l)
		}
	}
	switch len(unknown) {
	case 0:
		return &ledger.Result{Outcome: ledger.Failed, Error: "nothing was made"}, nil
	case 1:
		r := e.doneResult(ward, in, unknown[0], 0)
		return &r, nil
	}
	return nil, nil
}

// recoverChanged decides about a call whose tag is refused: the thing is as
// intended, or it is not.
func (e *executor) recoverChanged(ctx context.Context, c *call, settle func(ledger.Result) error) error {
	in := c.intent
	live, err := c.drv.Read(ctx, c.typ, in.Thing)
	if errors.Is(err, driver.ErrGone) && in.Call == "delete" {
		return settle(e.doneResult(c.run.Ward(), &in, driver.Live{}, 0))
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
		return settle(e.doneResult(c.run.Ward(), &in, live, 0))
	}
	// As before the call, or edited by hand: the call had no effect either way,
	// and the comparison that follows every recovery says which.
	return settle(ledger.Result{Outcome: ledger.Failed, Error: driver.ErrTag.Error()})
}
