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
	if memory := catalog.Types[typ].KeyMemory; makes(&in) && time.Since(open.At) >= memory/2 {
		live, was, known, err := e.became(ctx, c)
		switch {
		case err != nil:
			return err
		case was:
			return settle(e.doneResult(run.Ward(), &in, live, 0))
		case known:
			return settle(ledger.Result{Outcome: ledger.Failed, Error: "nothing was made"})
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
	}
	// Refused: by the cloud, which would have repeated its answer if it had done it,
	// or by what stands in front of it, or because of its own effect. What is so
	// decides. As before the call, or edited by hand: it had no effect, and the
	// comparison that follows every recovery says which.
	if live, was, _, asked := e.became(ctx, c); asked != nil {
		return asked
	} else if was {
		return settle(e.doneResult(run.Ward(), &in, live, 0))
	}
	return settle(ledger.Result{Outcome: ledger.Failed, Error: err.Error()})
}

// makes reports whether a call makes a thing.
func makes(in *ledger.Intent) bool { return in.Call == "create" || in.Call == ledger.CallCopy }

// became finds out by looking what became of a call: whether it was carried out, with
// the thing as it is, and whether that can be told at all.
func (e *executor) became(ctx context.Context, c *call) (live driver.Live, done, known bool, err error) {
	in := &c.intent
	drv, _ := propose.SplitType(in.Type)
	t := e.o.Catalogs[drv].Types[c.typ]
	switch {
	case makes(in):
		if live, done, known, err = e.located(ctx, c, t); known || err != nil {
			return live, done, known, err
		}
		return e.identified(ctx, c, t)
	case in.Thing == "":
		return live, true, true, nil // there was nothing to do
	}
	live, err = c.drv.Read(ctx, c.typ, in.Thing)
	switch {
	case errors.Is(err, driver.ErrGone):
		return driver.Live{}, in.Call == "delete", true, nil
	case err != nil:
		return driver.Live{}, false, false, err
	}
	if in.Call != "update" {
		return live, false, true, nil
	}
	sure := true
	for name, v := range in.To {
		if a := t.Attribute(name); a != nil && a.Secret {
			sure = false // nobody shows it
			continue
		}
		if propose.Differ(v, live.Attributes[name]) {
			return live, false, true, nil
		}
	}
	for name := range in.From { // what is taken away is gone, or back at its default
		a := t.Attribute(name)
		if _, stays := in.To[name]; !stays && (a == nil || propose.Differ(a.Default, live.Attributes[name])) {
			return live, false, true, nil
		}
	}
	return live, sure, sure, nil
}

// located finds out about a create by asking the cloud what its key made, where it
// can tell.
func (e *executor) located(ctx context.Context, c *call, t *schema.Type) (live driver.Live, made, known bool, err error) {
	locator, ok := c.drv.(driver.Locator)
	if !ok || !t.Locate || c.intent.Call != "create" {
		return live, false, false, nil
	}
	live, err = locator.Locate(ctx, t.Name, c.intent.Key)
	if errors.Is(err, driver.ErrGone) {
		return live, false, true, nil
	}
	return live, err == nil, err == nil, err
}

// identified finds out about a create by the attributes that together identify
// one thing of its type: none like it means that nothing was made, and one that
// no record holds is the one.
func (e *executor) identified(ctx context.Context, c *call, t *schema.Type) (live driver.Live, made, known bool, err error) {
	in := &c.intent
	if in.Call != "create" || len(t.Identify) == 0 {
		return live, false, false, nil
	}
	match := value.Map{}
	for _, name := range t.Identify {
		v, ok := in.Inputs[name]
		if !ok || value.IsPending(v) {
			return live, false, false, nil
		}
		match[name] = v
	}
	found, err := c.drv.Find(ctx, t.Name, match)
	if err != nil {
		return live, false, false, err
	}
	var unknown []driver.Live
	for _, l := range found {
		held := false
		for _, w := range value.Keys(e.o.Ledgers) {
			at, err := e.manages(w, in.Type, l.ID)
			if err != nil {
				return live, false, false, err
			}
			held = held || at != ""
		}
		if !held {
			unknown = append(unknown, l)
		}
	}
	switch len(unknown) {
	case 0:
		return live, false, true, nil
	case 1:
		return unknown[0], true, true, nil
	}
	return live, false, false, nil
}
