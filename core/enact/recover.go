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
	"kasbah/core/value"
)

// Recover is a run of its own that finds out about the unfinished calls within
// some scopes, by ward. made says what a person knows: address with its ward, or
// without it where one ward alone has such a call -> id in the cloud, or "none".
func Recover(ctx context.Context, scopes map[string]ledger.Scope, made map[string]string, o Options) (*Result, error) {
	e, err := begin(ctx, o, scopes, "")
	if err != nil {
		return nil, err
	}
	e.p = &propose.Proposal{}
	known, err := e.known(made)
	if err == nil {
		err = e.recover(ctx, known)
	}
	r := newResult(e.p)
	r.Run, r.Recovered = o.Run, e.recovered
	if err != nil {
		r.Outcome = "failed"
	}
	return r, errors.Join(err, e.end(ctx, r.Outcome, nil))
}

// known is what a person knows by full address. An address without a call that is
// unfinished, or with several, is an error.
func (e *executor) known(made map[string]string) (map[string]string, error) {
	out := map[string]string{}
	for _, named := range value.Keys(made) {
		if made[named] == "" {
			return nil, problem.Usage("%s needs the id of what was made, or none: %s=none", named, named)
		}
		var hits []string
		for _, ward := range value.Keys(e.runs) {
			written, _ := e.runs[ward].Unresolved()
			for _, open := range written {
				full := value.InWard(ward, open.Intent.Address)
				if full == named || open.Intent.Address == named {
					hits = append(hits, full)
				}
			}
		}
		switch len(hits) {
		case 0:
			return nil, fmt.Errorf("%s has no unfinished call here", named)
		case 1:
			out[hits[0]] = made[named]
		default:
			return nil, fmt.Errorf("%s has unfinished calls in several wards: say which, as %s", named,
				strings.Join(hits, " or "))
		}
	}
	return out, nil
}

// recordedAs is the full address under which a thing is recorded in any ward of the
// environment, or "".
func (e *executor) recordedAs(ctx context.Context, typ, id string) (string, error) {
	for _, w := range value.Keys(e.o.Ledgers) {
		at, err := e.manages(ctx, w, typ, id)
		if err != nil {
			return "", err
		}
		if at != "" {
			return value.InWard(w, at), nil
		}
	}
	return "", nil
}

// recordedElse is recordedAs but for the record of what a call makes again because it was
// gone: where people choose what identifies a thing, the new one has the same id.
func (e *executor) recordedElse(ctx context.Context, ward string, in *ledger.Intent, id string) (string, error) {
	at, err := e.recordedAs(ctx, in.Type, id)
	if propose.Kind(in.Action) == propose.New && at == value.InWard(ward, in.Address) {
		return "", err
	}
	return at, err
}

// recover resolves the unfinished calls of dead runs on what this one writes,
// and refuses to rest on what has some: each recorded call is
// made again with its recorded key and tag, so that a late call of the dead
// run can only repeat it.
func (e *executor) recover(ctx context.Context, made map[string]string) error {
	var failed []error
	for _, ward := range value.Keys(e.runs) {
		run := e.runs[ward]
		written, read := run.Unresolved()
		if len(read) > 0 {
			return unresolved(read[0])
		}
		for _, open := range written {
			full := value.InWard(ward, open.Intent.Address)
			if err := e.recoverOne(ctx, run, open, made[full]); err != nil {
				failed = append(failed, fmt.Errorf("%s: its unfinished %s of run %s: %w", full, open.Intent.Call,
					open.Run, err))
				if ctx.Err() != nil || e.isBroken() {
					return errors.Join(failed...)
				}
				continue // one that only a person knows about keeps no other one open
			}
			e.recovered = append(e.recovered, full)
		}
	}
	return errors.Join(failed...)
}

func (e *executor) recoverOne(ctx context.Context, run *ledger.Run, open *ledger.OpenIntent, made string) (err error) {
	in := open.Intent
	drv, typ := propose.SplitType(in.Type)
	d, catalog := e.o.Drivers[drv], e.o.Catalogs[drv]
	if d == nil || catalog == nil || catalog.Types[typ] == nil {
		return fmt.Errorf("there is no driver for %s", in.Type)
	}
	c := &call{run: run, within: e.o.Timeout, drv: d, typ: typ, intent: in, counts: e.countsOfIntent(&in),
		leave: leaveOf(in.Plan)}
	if in.Plan != nil {
		c.within = max(c.within, e.timeout(in.Plan.Care)) // its own time was not enough, maybe
		e.confide(map[string]any(in.Plan.Hidden))
	}
	settle := func(r ledger.Result) error {
		r.Intent, r.Run, r.Address = in.ID, open.Run, in.Address
		return run.Append(context.Background(), ledger.Line{Kind: ledger.KindResult, Result: &r})
	}
	if made == "none" {
		return settle(ledger.Result{Outcome: ledger.Failed, Error: "a person reported that nothing was made"})
	}
	if made != "" {
		at, err := e.recordedElse(ctx, run.Ward(), &in, made)
		if err != nil {
			return err
		}
		if full := value.InWard(run.Ward(), in.Address); at != "" && (at != full || makes(&in)) {
			return fmt.Errorf("%s %s is recorded as %s already", in.Type, made, at)
		}
		live := driver.Live{ID: made, Attributes: value.Map(in.Inputs)}
		if !catalog.Types[typ].Unshown {
			if live, err = d.Read(ctx, typ, made); err != nil {
				return fmt.Errorf("%s %s: %w", in.Type, made, err)
			}
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
			why = fmt.Sprintf("the call is from %s, and the cloud may have forgotten its key",
				open.At.Local().Format(time.DateTime))
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
	return unclearEnd(c, open.Run, err)
}

// makes reports whether a call makes a thing.
func makes(in *ledger.Intent) bool { return in.Call == "create" || in.Call == ledger.CallCopy }
