package enact

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/cenkalti/backoff/v5"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/driver"
)

// perform makes one call under its intent and records what came of it. When
// the thing's tag moved and nothing that counts did, the call goes out again
// under a new intent with the new tag.
func (e *executor) perform(ctx context.Context, c *call) error {
	before, err := c.run.Record(c.intent.Address)
	if err != nil {
		return err
	}
	c.before = before
	for try := 1; ; try++ {
		e.mu.Lock()
		e.intents++
		c.intent.ID = fmt.Sprintf("%d", e.intents)
		e.mu.Unlock()
		c.intent.Attempt, c.lost = try, false
		c.intent.Key = fmt.Sprintf("kasbah-%s-%s", e.o.Run, c.intent.ID)
		intent := c.intent
		if err := e.compareFirst(ctx, c); err != nil {
			return err
		}
		if err := c.run.MayCall(ctx); err != nil {
			return e.broke(err)
		}
		if err := c.run.Append(ctx, ledger.Line{Kind: ledger.KindIntent, Intent: &intent}); err != nil {
			return e.broke(err)
		}
		if ctx.Err() != nil { // stopped between the intent and its call
			return errors.Join(ctx.Err(), e.result(c, ledger.Result{Outcome: ledger.NotStarted}))
		}
		var live driver.Live
		var seconds float64
		e.pace.call(func() {
			began := time.Now()
			live, err = e.send(ctx, c)
			seconds = time.Since(began).Seconds()
		})
		if err == nil && c.made != nil {
			c.made(live)
		}
		switch {
		case err == nil:
			return e.pace.write(func() error { return e.succeeded(c, e.doneResult(c.run.Ward(), &c.intent, live, seconds)) })
		case unknownEnd(err):
			e.unclear(c)
			return fmt.Errorf("%w: %w", err, errUnclear)
		}
		if rerr := e.result(c, ledger.Result{Outcome: ledger.Failed, Error: err.Error(), Seconds: seconds}); rerr != nil {
			return rerr
		}
		if !errors.Is(err, driver.ErrTag) {
			return err
		}
		if try == tagTries {
			return fmt.Errorf("%w, again and again; propose again", driver.ErrTag)
		}
		if err := e.retag(ctx, c); err != nil {
			return err
		}
	}
}

// unknownEnd reports whether a failed call may have had its effect: the
// cloud gave no answer that settles it.
func unknownEnd(err error) bool {
	passing, _ := driver.IsPassing(err)
	return passing || driver.IsUnclear(err) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}

// broke notes that the run can go on no more.
func (e *executor) broke(err error) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.broken == nil {
		e.broken = err
	}
	return err
}

// send makes the call, and makes it again with the same key while the fault
// may pass. A refusal that comes after a try without an answer does not say what
// became of that try: whatever refuses may stand in front of what did it.
func (e *executor) send(ctx context.Context, c *call) (driver.Live, error) {
	ctx, cancel := context.WithTimeout(ctx, c.within)
	defer cancel()
	in := &c.intent
	wait := backoff.NewExponentialBackOff()
	wait.InitialInterval, wait.MaxInterval = 200*time.Millisecond, 20*time.Second
	live, err := backoff.Retry(ctx, func() (driver.Live, error) {
		if err := c.run.MayCall(ctx); err != nil {
			return driver.Live{}, backoff.Permanent(e.broke(err))
		}
		sent := time.Now()
		live, err := once(ctx, c.drv, c.typ, in)
		passing, after := driver.IsPassing(err)
		c.lost = c.lost || driver.IsUnclear(err)
		switch {
		case err == nil:
			e.pace.faster()
			return live, nil
		case !passing, driver.IsUnclear(err) && !e.repeatable(c):
			return live, backoff.Permanent(err)
		}
		e.event(Event{Kind: EventRetry, Address: in.Address, Action: propose.Kind(in.Action), Err: err})
		if driver.IsSlowDown(err) {
			e.pace.slower(sent)
		}
		if after > 0 {
			return live, errors.Join(err, &backoff.RetryAfterError{Duration: after})
		}
		return live, err
	}, backoff.WithBackOff(wait), backoff.WithMaxElapsedTime(c.within))
	if errors.Is(err, context.DeadlineExceeded) {
		err = &noAnswer{c.within}
	}
	e.mu.Lock()
	broken := e.broken != nil
	e.mu.Unlock()
	if err != nil && c.lost && !unknownEnd(err) && !broken {
		switch live, made, known, asked := e.became(ctx, c); {
		case asked != nil:
			err = &driver.Error{Message: fmt.Sprintf("%v; and what became of an earlier try: %v", err, asked), Unclear: true}
		case made:
			return live, nil
		case !known:
			err = &driver.Error{Message: err.Error(), Unclear: true}
		}
	}
	return live, e.redacted(err)
}

// repeatable reports whether a call can be made again although it may have had
// its effect: the cloud repeats the answer, or the call has the same effect
// twice.
func (e *executor) repeatable(c *call) bool {
	return c.intent.Call == "delete" || c.intent.Call == "update" || e.keyMemory(c.intent.Type) > 0
}

// keyMemory is how long the cloud remembers an idempotency key for a type.
func (e *executor) keyMemory(full string) time.Duration {
	drv, typ := propose.SplitType(full)
	if c := e.o.Catalogs[drv]; c != nil && c.Types[typ] != nil {
		return c.Types[typ].KeyMemory
	}
	return 0
}

// noAnswer is the error of a call that the cloud did not answer in time.
type noAnswer struct{ within time.Duration }

func (e *noAnswer) Error() string { return fmt.Sprintf("the cloud gave no answer within %s", e.within) }

// Is makes it what it stands for.
func (e *noAnswer) Is(target error) bool { return target == context.DeadlineExceeded }

// once makes the call that an intent describes.
func once(ctx context.Context, d driver.Driver, typ string, in *ledger.Intent) (driver.Live, error) {
	if value.IsPending(map[string]any(in.Inputs)) && in.Call == "create" || value.IsPending(map[string]any(in.To)) {
		return driver.Live{}, fmt.Errorf("it needs %s, which is not known here", firstPending([]any{map[string]any(in.Inputs), map[string]any(in.To)}))
	}
	switch in.Call {
	case "create":
		return d.Create(ctx, typ, value.Map(in.Inputs), in.Key)
	case "update":
		return d.Update(ctx, typ, in.Thing, driver.Change{From: value.Map(in.From), To: value.Map(in.To), All: value.Map(in.Inputs)}, in.Tag, in.Key)
	case ledger.CallCopy:
		copier, ok := d.(driver.Copier)
		if !ok {
			return driver.Live{}, fmt.Errorf("its driver cannot copy")
		}
		live, err := copier.Copy(ctx, typ, in.Thing, in.Key)
		if errors.Is(err, driver.ErrGone) { // there is nothing to copy, and nothing to lose
			return driver.Live{}, nil
		}
		return live, err
	case "delete":
		if in.Thing == "" {
			return driver.Live{}, nil
		}
		err := d.Delete(ctx, typ, in.Thing, in.Tag, in.Key)
		if errors.Is(err, driver.ErrGone) {
			err = nil
		}
		return driver.Live{}, err
	}
	return driver.Live{}, fmt.Errorf("a call of kind %q is not known", in.Call)
}

// doneResult completes an intent's plan by what the cloud showed.
func (e *executor) doneResult(ward string, in *ledger.Intent, live driver.Live, seconds float64) ledger.Result {
	r := ledger.Result{Outcome: ledger.Done, Seconds: float64(int(seconds*1000)) / 1000}
	if in.Plan == nil {
		r.Dropped = true
		return r
	}
	record := *in.Plan
	if in.Call == ledger.CallCopy {
		if live.ID != "" {
			record.Copies = append(slices.Clone(record.Copies), ledger.Copy{Of: in.Thing, ID: live.ID, At: now()})
		}
		r.Record = &record
		return r
	}
	for i := range record.Leftovers {
		if in.Call == "create" && record.Leftovers[i].ID == "" { // an undo makes a leftover again
			record.Leftovers = append([]ledger.Leftover(nil), record.Leftovers...)
			record.Leftovers[i].ID, record.Leftovers[i].Tag = live.ID, live.Tag
			r.Record = &record
			return r
		}
	}
	if in.Call != "delete" {
		record.ID, record.Tag = live.ID, live.Tag
		e.take(&record, ward, live.Attributes)
	}
	r.Record = &record
	return r
}

// result writes what became of a call. It is written even when the run was
// interrupted: the call has happened.
func (e *executor) result(c *call, r ledger.Result) error {
	r.Intent, r.Address = c.intent.ID, c.intent.Address
	if err := c.run.Append(context.Background(), ledger.Line{Kind: ledger.KindResult, Result: &r}); err != nil {
		return e.broke(fmt.Errorf("the call for %s is made, and its result could not be recorded: %w", r.Address, err))
	}
	return nil
}

// retag reads a thing whose tag was refused. If nothing that counts has
// moved, the call may go out with the new tag.
func (e *executor) retag(ctx context.Context, c *call) error {
	live, err := c.drv.Read(ctx, c.typ, c.intent.Thing)
	if err != nil {
		return err
	}
	if err := c.unmoved(live); err != nil {
		return err
	}
	c.intent.Tag, c.intent.Before = live.Tag, value.Attributes(live.Attributes)
	return nil
}

// unmoved is an error when what counts of a thing is not as it was seen.
func (c *call) unmoved(live driver.Live) error {
	for _, name := range value.Keys(c.counts) {
		if propose.Differ(c.counts[name], live.Attributes[name]) {
			return &driver.Error{
				Message:  fmt.Sprintf("somebody changed %s from %s to %s meanwhile; nothing was overwritten: propose again", name, value.Plain(c.counts[name]), value.Plain(live.Attributes[name])),
				Problems: []driver.Problem{{Path: name, Message: "changed meanwhile"}},
			}
		}
	}
	return nil
}

// compareFirst reads a thing right before it is changed where its type has no
// tags that would tell of a change by somebody else.
func (e *executor) compareFirst(ctx context.Context, c *call) error {
	drv, typ := propose.SplitType(c.intent.Type)
	if t := e.o.Catalogs[drv].Types[typ]; t.Tags || c.intent.Thing == "" || c.counts == nil {
		return nil
	}
	live, err := c.drv.Read(ctx, c.typ, c.intent.Thing)
	switch {
	case errors.Is(err, driver.ErrGone):
		return nil // the call says so itself
	case err != nil:
		return err
	}
	return c.unmoved(live)
}
