package enact

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/cenkalti/backoff/v5"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
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
		c.intent.Attempt, c.lost, c.sent, c.thing = try, false, time.Time{}, ""
		c.intent.Key = fmt.Sprintf("kasbah-%s-%s", e.o.Run, c.intent.ID)
		if err := e.lookFirst(ctx, c); err != nil {
			return err
		}
		intent := c.intent
		if err := c.run.MayCall(ctx); err != nil {
			return e.broke(err)
		}
		if err := c.run.Append(ctx, ledger.Line{Kind: ledger.KindIntent, Intent: &intent}); err != nil {
			return e.broke(err)
		}
		var live driver.Live
		var outcome driver.Outcome
		var seconds float64
		var stopped error // between the intent and its call
		e.pace.call(func() {
			if stopped = ctx.Err(); stopped == nil && !e.begins(c) {
				stopped = errNotBegun
			}
			if stopped != nil {
				return
			}
			began := time.Now()
			live, outcome, err = e.send(ctx, c)
			seconds = time.Since(began).Seconds()
			if err != nil && !errors.Is(err, driver.ErrTag) {
				e.stumble() // before another call has its room
			}
		})
		if stopped != nil {
			return errors.Join(stopped, e.result(c, ledger.Result{Outcome: ledger.NotStarted}))
		}
		if outcome == driver.Done && makes(&c.intent) && live.ID != "" {
			at, rerr := e.recordedElse(ctx, c.run.Ward(), &c.intent, live.ID)
			if rerr != nil {
				return e.broke(rerr)
			}
			if at != "" {
				outcome, err = driver.Unknown, fmt.Errorf("the cloud answered with %s, which the ledger already "+
					"records as %s", live.ID, at)
			}
		}
		switch outcome {
		case driver.Done:
			if c.made != nil {
				c.made(live)
			}
			return e.pace.write(func() error {
				return e.succeeded(c, e.doneResult(c.run.Ward(), &c.intent, live,
					seconds))
			})
		case driver.Unknown:
			if rerr := e.unclear(c); rerr != nil {
				return rerr
			}
			return unclearEnd(c, e.o.Run, err)
		}
		if rerr := e.result(c, ledger.Result{Outcome: ledger.Failed, Error: err.Error(),
			Seconds: seconds}); rerr != nil {
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

// errNotBegun is the error of a step that had no room for its first call until the run was to start nothing more.
var errNotBegun = errors.New("it was not begun")

// begins reports whether a call may be made: the first one of a step only while the run starts more.
func (e *executor) begins(c *call) bool {
	e.mu.Lock()
	begun := e.begun[c.step]
	e.mu.Unlock()
	if !begun && (e.stopped() || !e.may()) {
		return false
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.begun[c.step] = true
	return true
}

// stumble notes that a call has failed, of which a failure of the run will come.
func (e *executor) stumble() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.stumbled = true
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

// isBroken reports whether the run can go on no more.
func (e *executor) isBroken() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.broken != nil
}

// send makes the call, and makes it again with the same key while the fault may
// pass, within the call's time. Once a try may have had its effect, no later refusal
// makes it certain that there was none: what is live decides, and where that cannot
// tell, the outcome stays unknown. The error holds no secret.
func (e *executor) send(ctx context.Context, c *call) (driver.Live, driver.Outcome, error) {
	began := time.Now()
	for {
		live, err := e.try(ctx, c, c.within-time.Since(began))
		outcome := driver.OutcomeOf(err)
		switch {
		case outcome == driver.Done:
			return live, outcome, nil
		case !c.lost:
			outcome = driver.NotDone
		default:
			live, outcome, err = e.resolve(ctx, c, err)
		}
		again, _ := driver.IsPassing(err)
		if outcome == driver.NotDone && again && c.lost && time.Since(began) < c.within && ctx.Err() == nil &&
			!e.isBroken() {
			c.lost, c.sent, c.thing = false, time.Time{}, ""
			continue // nothing came of it, and it may go better now
		}
		return live, outcome, e.redacted(err)
	}
}

// unknownTries is how often a call is made whose answers settle nothing and do not say
// that they may pass.
const unknownTries = 3

// try makes the call until it succeeds, is refused, or the time is up.
func (e *executor) try(ctx context.Context, c *call, within time.Duration) (driver.Live, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	in := &c.intent
	wait := backoff.NewExponentialBackOff()
	wait.InitialInterval, wait.MaxInterval = 200*time.Millisecond, 20*time.Second
	tries := 0
	live, err := backoff.Retry(ctx, func() (driver.Live, error) {
		if err := c.run.MayCall(ctx); err != nil {
			return driver.Live{}, backoff.Permanent(e.broke(err))
		}
		if tries++; c.lost {
			if live, done, err := e.lookAgain(ctx, c); done || err != nil {
				return live, backoff.Permanent(err)
			}
		}
		sent := time.Now()
		live, err := once(ctx, c.drv, c.typ, in)
		outcome := driver.OutcomeOf(err)
		if outcome != driver.Done {
			e.doubt(c, sent, outcome, err)
		}
		passing, after := driver.IsPassing(err)
		switch {
		case outcome == driver.Done:
			c.sent = sent
			e.pace.faster()
			return live, nil
		case outcome == driver.NotDone && !passing, outcome == driver.Unknown && !e.repeatable(c), ctx.Err() != nil,
			e.stopped(),
			outcome == driver.Unknown && !passing && tries >= unknownTries:
			return live, backoff.Permanent(err)
		}
		e.event(Event{Kind: EventRetry, Address: in.Address, Action: propose.Kind(in.Action), Err: e.redacted(err)})
		if driver.IsSlowDown(err) {
			e.pace.slower(sent)
		}
		if after > 0 {
			return live, errors.Join(err, &backoff.RetryAfterError{Duration: after})
		}
		return live, err
	}, backoff.WithBackOff(wait), backoff.WithMaxElapsedTime(within))
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		err = &cutShort{fmt.Sprintf("the cloud gave no answer within %s", c.within), err}
	case errors.Is(err, context.Canceled):
		err = &cutShort{"it was interrupted", err}
	}
	return live, err
}

// doubt notes what a try that did not succeed may have done.
func (e *executor) doubt(c *call, sent time.Time, outcome driver.Outcome, err error) {
	if c.sent = sent; outcome == driver.Unknown {
		c.lost = true
	}
	if made := driver.MadeBy(err); made != "" {
		c.thing = made
	}
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

// cutShort is the error of a call that was not waited for any longer.
type cutShort struct {
	why string
	err error
}

func (e *cutShort) Error() string { return e.why }

// Unwrap is what the call ended with.
func (e *cutShort) Unwrap() error { return e.err }

// once makes the call that an intent describes. Nothing that is not known is ever sent,
// and a driver that panics has given no answer.
func once(ctx context.Context, d driver.Driver, typ string, in *ledger.Intent) (live driver.Live, err error) {
	inputs, to := value.Map(in.Inputs), value.Map(in.To)
	if in.Call == "create" || in.Call == "update" {
		for _, m := range []value.Map{inputs, to} {
			if value.IsPending(m) {
				return live, driver.Refuse("it needs %s, which is not known here", firstPending(m))
			}
		}
	}
	defer func() {
		if p := recover(); p != nil {
			err = &driver.Error{Message: fmt.Sprintf("its driver failed in the middle of the call: %v", p)}
		}
	}()
	switch in.Call {
	case "create":
		return d.Create(ctx, typ, inputs, in.Key)
	case "update":
		return d.Update(ctx, typ, in.Thing, driver.Change{From: withoutPending(in.From), To: to, All: inputs}, in.Tag,
			in.Key)
	case ledger.CallCopy:
		copier, ok := d.(driver.Copier)
		if !ok {
			return live, driver.Refuse("its driver cannot copy")
		}
		live, err = copier.Copy(ctx, typ, in.Thing, in.Key)
		if errors.Is(err, driver.ErrGone) { // there is nothing to copy, and nothing to lose
			return driver.Live{}, nil
		}
		return live, err
	case "delete":
		if in.Thing == "" {
			return live, nil
		}
		if err = d.Delete(ctx, typ, in.Thing, in.Tag, in.Key); errors.Is(err, driver.ErrGone) {
			err = nil
		}
		return live, err
	}
	return live, driver.Refuse("a call of kind %q is not known", in.Call)
}

// withoutPending is what was, with null in place of each secret: it is not shown, and a
// change needs to know only that it was there.
func withoutPending(from value.Attributes) value.Map {
	return value.Replace(map[string]any(from), func(leaf any) any {
		if _, pending := leaf.(*value.Pending); pending {
			return nil
		}
		return leaf
	}).(map[string]any)
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
		_ = e.broke(err) // told at the end of the run
		return &unclearError{fmt.Errorf("its result could not be recorded: %w", err), errUnclear.Error()}
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
	if hidden := c.sendsHidden(e.typ(c.intent.Type), live); hidden != "" && c.intent.Before != nil &&
		sameShown(c.intent.Before, live.Attributes) {
		return overtaken(hidden, "something was changed that the cloud does not show, and it may be %s", hidden)
	}
	return e.build(c, live)
}

// sendsHidden is the first secret attribute that the call changes and the cloud does not
// show; "" for none.
func (c *call) sendsHidden(t *schema.Type, live driver.Live) string {
	for _, name := range value.Keys(c.intent.To) {
		if _, shown := live.Attributes[name]; !shown && t != nil && t.Attribute(name) != nil &&
			t.Attribute(name).Secret {
			return name
		}
	}
	return ""
}

// sameShown reports whether all that the cloud shows is as it was, but for secrets.
func sameShown(was value.Attributes, now value.Map) bool {
	for name, v := range now {
		if !value.IsSecret(was[name]) && propose.ValuesDiffer(was[name], v) {
			return false
		}
	}
	for name, v := range was {
		if _, shown := now[name]; !shown && !value.IsSecret(v) && propose.ValuesDiffer(v, nil) {
			return false
		}
	}
	return true
}

// lookFirst reads a thing right before it is changed where no tag that is at hand would
// tell of a change by another person or program.
func (e *executor) lookFirst(ctx context.Context, c *call) error {
	if c.intent.Thing == "" || e.tagged(c) || e.unshown(c.intent.Type) || c.counts == nil ||
		c.intent.Call != "update" && c.intent.Call != "delete" {
		return nil
	}
	switch live, err := c.drv.Read(ctx, c.typ, c.intent.Thing); {
	case errors.Is(err, driver.ErrGone):
		return nil // the call says so itself
	case err != nil:
		return driver.Unsent(err)
	default:
		return e.build(c, live)
	}
}

// unshown reports whether the cloud shows none of a type, so that the record stands for what
// is there.
func (e *executor) unshown(full string) bool {
	t := e.typ(full)
	return t != nil && t.Unshown
}

// tagged reports whether a tag keeps the call from overwriting what another person or program did.
func (e *executor) tagged(c *call) bool {
	t := e.typ(c.intent.Type)
	return t != nil && t.Tags && c.intent.Tag != ""
}

// lookAgain comes before a call is repeated that may have had its effect. It reports
// whether it has had it, where no tag keeps a second try from overwriting what somebody
// else did after the first.
func (e *executor) lookAgain(ctx context.Context, c *call) (live driver.Live, done bool, err error) {
	if makes(&c.intent) || c.intent.Thing == "" || e.tagged(c) {
		return live, false, nil
	}
	live, done, known, err := e.became(ctx, c)
	switch {
	case err != nil:
		return live, false, driver.Uncertain(err, "")
	case done:
		return live, true, nil
	case known && live.ID != "":
		return live, false, c.unmoved(e.typ(c.intent.Type), live)
	}
	return live, false, nil
}

// build makes a call one on the thing as it is now, if nothing that counts has moved.
func (e *executor) build(c *call, live driver.Live) error {
	if err := c.unmoved(e.typ(c.intent.Type), live); err != nil {
		return err
	}
	c.intent.Tag, c.intent.Before = live.Tag, value.Attributes(c.conceal(e.typ(c.intent.Type), live.Attributes))
	if len(c.leave) == 0 || c.intent.Call != "update" {
		return nil
	}
	// what others own is as they have it
	for _, m := range []*value.Attributes{&c.intent.From, &c.intent.To, &c.intent.Inputs} {
		*m = value.Attributes(propose.LeaveAlone(value.Map(*m), live.Attributes, c.leave))
	}
	return nil
}

// conceal is what the cloud shows, with secrets as the record before the call has them.
func (c *call) conceal(t *schema.Type, live value.Map) value.Map {
	if c.before == nil || t == nil {
		return live
	}
	return c.before.Conceal(t, live)
}

// unmoved is an error when what counts of a thing is not as it was seen.
func (c *call) unmoved(t *schema.Type, live driver.Live) error {
	now := c.conceal(t, live.Attributes)
	for _, name := range value.Keys(c.counts) {
		moved, _ := propose.Compare(name, c.counts[name], now[name], c.leave)
		if len(moved) == 0 {
			continue
		}
		was, is := value.Plain(moved[0].WillBe.V), value.Plain(moved[0].Was.V)
		what := fmt.Sprintf("from %s to %s", was, is)
		if value.IsSecret(moved[0].Was.V) || value.IsSecret(moved[0].WillBe.V) {
			what = "(secret)"
		}
		return overtaken(moved[0].Path, "%s was changed %s since it was read", moved[0].Path, what)
	}
	return nil
}
