package enact

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kasbah/core/ledger"
	"kasbah/core/propose"
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

func (e *executor) recoverOne(ctx context.Context, run *ledger.Run, open *ledger.OpenIntent, made string) (err error) {
	in := open.Intent
	drv, typ := propose.SplitType(in.Type)
	d, catalog := e.o.Drivers[drv], e.o.Catalogs[drv]
	if d == nil || catalog == nil || catalog.Types[typ] == nil {
		return fmt.Errorf("there is no driver for %s", in.Type)
	}
	c := &call{run: run, within: e.o.Timeout, drv: d, typ: typ, intent: in, counts: countsOfIntent(&in), leave: leaveOf(in.Plan)}
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
	// The dead run may have made the call, or may still. With its key and tag it is made
	// again, so that a late call can only repeat it; a create only while the cloud
	// remembers the key, with room for clocks that differ.
	c.lost, c.sent, c.thing = true, open.At, in.Made
	var live driver.Live
	var outcome driver.Outcome
	memory := catalog.Types[typ].KeyMemory
	forgotten := makes(&in) && time.Since(open.At) >= memory/2
	if err := run.MayCall(ctx); err != nil {
		return err
	}
	if forgotten {
		why := "the cloud remembers no keys"
		if memory > 0 {
			why = fmt.Sprintf("the call is from %s, and the cloud may have forgotten its key", open.At.Local().Format(time.DateTime))
		}
		live, outcome, err = e.resolve(ctx, c, driver.Refuse("%s", why))
	} else {
		live, outcome, err = e.send(ctx, c)
	}
	switch outcome {
	case driver.Done:
		return settle(e.doneResult(run.Ward(), &in, live, 0))
	case driver.NotDone:
		return settle(ledger.Result{Outcome: ledger.Failed, Error: err.Error()})
	}
	if ctx.Err() != nil || e.isBroken() {
		return err
	}
	return fmt.Errorf("%w, so only a person can tell: kasbah lock recover %s -made %s=ID, or =none", err, open.Run, in.Address)
}

// makes reports whether a call makes a thing.
func makes(in *ledger.Intent) bool { return in.Call == "create" || in.Call == ledger.CallCopy }
