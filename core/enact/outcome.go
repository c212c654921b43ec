package enact

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kasbah/core/driver"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// defaultShows is how long something that a call made may take until a list or a
// look-up shows it.
const defaultShows = 10 * time.Second

// resolveWithin is how long it may take to find out what became of a call whose own
// time is up.
const resolveWithin = time.Minute

// resolve finds out what became of a call that may have had its effect, and whose
// newest try ended with err: by what it made, by the key, by what identifies the
// thing, by reading the id. Where none of them can tell, the outcome stays unknown.
func (e *executor) resolve(ctx context.Context, c *call, err error) (driver.Live, driver.Outcome, error) {
	if ctx.Err() != nil || e.isBroken() || e.asksAgain(c, err) {
		return driver.Live{}, driver.Unknown, err
	}
	ctx, cancel := context.WithTimeout(ctx, resolveWithin+e.shows())
	defer cancel()
	for {
		live, done, known, asked := e.became(ctx, c)
		switch {
		case asked != nil:
			return driver.Live{}, driver.Unknown, fmt.Errorf("%w; its outcome could not be read: %w", err, asked)
		case done:
			return live, driver.Done, nil
		case !known:
			return driver.Live{}, driver.Unknown, untold{err}
		case !makes(&c.intent):
			return driver.Live{}, driver.NotDone, notDone(err)
		}
		left := e.shows() - time.Since(c.sent)
		if left <= 0 {
			return driver.Live{}, driver.NotDone, notDone(err)
		}
		select {
		case <-time.After(min(left, time.Second)):
		case <-ctx.Done():
			return driver.Live{}, driver.Unknown, err
		}
	}
}

// asksAgain reports whether a call whose time was up is best made again by the next run:
// the cloud may be at it still, and what a look would show is not its final answer.
func (e *executor) asksAgain(c *call, err error) bool {
	passing, _ := driver.IsPassing(err)
	return e.repeatable(c) && driver.OutcomeOf(err) == driver.Unknown &&
		(passing || errors.Is(err, context.DeadlineExceeded))
}

// shows is how long something that was made may take until it is seen.
func (e *executor) shows() time.Duration {
	switch {
	case e.o.Shows == 0:
		return defaultShows
	case e.o.Shows < 0:
		return 0
	}
	return e.o.Shows
}

// notDone is the error of a call of which a look has shown that it had no effect.
func notDone(err error) error {
	if driver.OutcomeOf(err) == driver.NotDone {
		return err
	}
	var said *driver.Error
	if errors.As(err, &said) {
		out := *said
		out.NotDone, out.Made = true, ""
		out.Message = err.Error()
		return &out
	}
	return driver.Unsent(err)
}

// became finds out by looking what became of a call: whether it was carried out, with
// the thing as it is, and whether that can be told at all.
func (e *executor) became(ctx context.Context, c *call) (live driver.Live, done, known bool, err error) {
	in := &c.intent
	drv, _ := propose.SplitType(in.Type)
	t := e.o.Catalogs[drv].Types[c.typ]
	switch {
	case t.Unshown:
		return live, false, false, nil
	case makes(in) && c.thing != "":
		live, err = c.drv.Read(ctx, c.typ, c.thing)
		if errors.Is(err, driver.ErrGone) {
			return driver.Live{}, false, true, nil
		}
		return live, err == nil, err == nil, err
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
		if propose.ValuesDiffer(v, live.Attributes[name]) {
			return live, false, true, nil
		}
	}
	for name := range in.From { // what is taken away is gone, or back at its default
		a := t.Attribute(name)
		if _, stays := in.To[name]; !stays && (a == nil || propose.ValuesDiffer(a.Default, live.Attributes[name])) {
			return live, false, true, nil
		}
	}
	return live, sure, sure, nil
}

// located finds out about a create by asking the cloud what its key made, where it
// can tell.
func (e *executor) located(ctx context.Context, c *call, t *schema.Type) (live driver.Live, made, known bool,
	err error) {
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
func (e *executor) identified(ctx context.Context, c *call, t *schema.Type) (live driver.Live, made, known bool,
	err error) {
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
		at, err := e.recordedElse(ctx, c.run.Ward(), in, l.ID)
		if err != nil {
			return live, false, false, err
		}
		if at == "" {
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
