// Package watch surveys on a schedule. Any number of watchers share the work through the journal of an
// environment: whoever is first to append a claim surveys the ward, and writes down what the survey
// changes.
package watch

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sync/errgroup"

	"kasbah/core/alert"
	"kasbah/core/ledger"
	"kasbah/core/schedule"
	"kasbah/core/value"
)

// Options is what a watcher of one environment is made from.
type Options struct {
	Env     string
	Journal *ledger.Ledger
	Command string // for the journal: the command line
	// Wards are those that are watched, with when. It is asked again and again: what it says may have
	// changed.
	Wards  func() map[string]*schedule.Schedule
	Survey func(ctx context.Context, ward string) (*Found, error)
	// Ledgers are those of the wards; receivers hear of their runs.
	Ledgers map[string]*ledger.Ledger
	// Changed says between surveys that other options hold now, so that Watch ends; nil for never.
	Changed func() bool
	// Receivers hear what happens. What happens while there are none they do not hear later either.
	Receivers []Receiver
	// Seen hears what the journal says, as a copy, or why it cannot be read; may be nil.
	Seen func(s *alert.State, err error)
	// Wake lets a watcher look at the journal now; nil for only by itself.
	Wake   <-chan struct{}
	Meter  Meter // nil for none
	AtOnce int   // how many wards are surveyed at once; 1 where it is less
	Log    *slog.Logger
	Clock  Clock
}

// Clock is the time by which wards are due.
type Clock interface {
	Now() time.Time
	// After tells when some time has passed.
	After(d time.Duration) <-chan time.Time
}

// Meter counts what this watcher does.
type Meter interface {
	Surveyed(env, ward string, seconds float64, failed bool)
	// Told is called for each try to tell a receiver.
	Told(env, receiver string, err error)
}

// Found is what the survey of a ward found.
type Found struct {
	Findings []alert.Finding
	Unsure   map[string]bool // addresses that could not be looked at
	Counts   map[string]int  // resources by verdict
	Failed   string          // what could not be surveyed, and why; "" for a whole survey
}

// often is how often a watcher looks at what others have written, and at what is due.
const often = 10 * time.Second

// hesitation is how long a watcher waits at most before it claims what is due, so that several of them seldom
// want the same.
const hesitation = 3 * time.Second

// patience is how long a watcher waits at most before it tries again to reach a store.
const patience = time.Minute

// tooOften is how many failures in a row are an alert.
const tooOften = 3

// Watch surveys what is due, again and again, until the context ends or the options have changed. What
// goes wrong is logged, and tried again. While there is nothing to do it writes nothing.
func (o Options) Watch(ctx context.Context) {
	m, wait := o.newMemory(), time.Second
	for ctx.Err() == nil {
		began := o.Clock.Now()
		err := o.follow(ctx, m)
		if err == nil || ctx.Err() != nil {
			return
		}
		if o.Clock.Now().Sub(began) > patience {
			wait = time.Second
		}
		if o.Seen != nil {
			o.Seen(nil, err)
		}
		o.Log.Error("the journal cannot be used; trying again", "env", o.Env, "error", err, "in", wait)
		o.pause(ctx, wait)
		wait = min(2*wait, patience)
	}
}

// memory is what a watcher knows beside the journal.
type memory struct {
	told    *deliveries
	ledgers *ledgers
	shown   time.Time // when Seen heard last
}

// seenEvery is how often Seen hears of a journal that moves.
const seenEvery = time.Second

// see lets Seen hear what the journal says. It is called by the goroutine that looks for what is due.
func (o Options) see(j journal, m *memory) {
	now := o.Clock.Now()
	if o.Seen == nil || now.Sub(m.shown) < seenEvery {
		return
	}
	m.shown = now
	j.Journal(func(s *alert.State) { o.Seen(s.Clone(), nil) })
}

func (o Options) newMemory() *memory {
	return &memory{told: newDeliveries(), ledgers: &ledgers{of: map[string]*followed{}}}
}

// follow reads the journal as it grows, and does what there is to do. It ends without an error when the
// options have changed.
func (o Options) follow(ctx context.Context, m *memory) error {
	f, err := o.Journal.Follow(ctx)
	if err != nil {
		return err
	}
	for ctx.Err() == nil {
		if err := o.bury(ctx, f); err != nil {
			return err
		}
		if o.changed() {
			return nil
		}
		o.see(f, m)
		m.ledgers.look(ctx, o, f)
		if len(o.due(f)) > 0 { // others may be as quick, and one of them is enough
			if o.pause(ctx, rand.N(hesitation)); ctx.Err() != nil {
				return ctx.Err()
			}
			if err := o.bury(ctx, f); err != nil {
				return err
			}
		}
		if len(o.due(f)) > 0 || m.ledgers.news(o, f) != nil || o.toTell(f, m.told) {
			if err := o.session(ctx, f, m, (*watcher).turn); err != nil {
				return err
			}
		}
		o.pause(ctx, o.rest())
	}
	return ctx.Err()
}

func (o Options) changed() bool { return o.Changed != nil && o.Changed() }

// pause waits, unless the context ends or the watcher is woken.
func (o Options) pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-o.Wake:
	case <-o.Clock.After(d):
	}
}

// bury looks at the journal, and takes dead watchers' runs away, so that what they have claimed is free.
func (o Options) bury(ctx context.Context, f *ledger.Follower) error {
	dead, _, err := f.Look(ctx)
	if err != nil {
		return err
	}
	for _, run := range dead {
		o.Log.Warn("another watcher is dead; what it surveyed is free again", "env", o.Env, "run", ledger.ShortRun(run))
		if err := o.Journal.Break(ctx, run, "its watcher is dead", ""); err != nil {
			o.Log.Warn("it could not be taken for dead", "env", o.Env, "run", ledger.ShortRun(run), "error", err)
		}
	}
	if len(dead) > 0 {
		_, _, err = f.Look(ctx)
	}
	return err
}

// Done counts surveys.
type Done struct{ Surveyed, Failed int }

// Once surveys what is due, tells what there is to tell, and ends.
func (o Options) Once(ctx context.Context) (n Done, err error) {
	f, err := o.Journal.Follow(ctx)
	if err == nil {
		err = o.bury(ctx, f)
	}
	if err != nil {
		return n, err
	}
	m := o.newMemory()
	m.ledgers.look(ctx, o, f)
	if len(o.due(f)) == 0 && m.ledgers.news(o, f) == nil && !o.toTell(f, m.told) {
		return n, nil
	}
	err = o.session(ctx, f, m, func(w *watcher, ctx context.Context) error {
		err := w.turn(ctx)
		n = w.done
		return err
	})
	return n, err
}

// Now surveys some wards, whether they are due or not.
func (o Options) Now(ctx context.Context, wards []string) (n Done, err error) {
	err = o.session(ctx, o.Journal, o.newMemory(), func(w *watcher, ctx context.Context) error {
		g := &errgroup.Group{}
		g.SetLimit(max(1, w.AtOnce))
		for _, ward := range wards {
			g.Go(func() error { return w.survey(ctx, ward, nil) })
		}
		err := errors.Join(g.Wait(), w.noteLedgers(ctx))
		n = w.done
		if err == nil {
			err = w.deliver(ctx)
		}
		return err
	})
	return n, err
}

// Note writes down what somebody else's surveys found, by ward.
func (o Options) Note(ctx context.Context, found map[string]*Found) error {
	return o.session(ctx, o.Journal, o.newMemory(), func(w *watcher, ctx context.Context) error {
		for _, ward := range value.Keys(found) {
			if err := w.note(ctx, &alert.Survey{Ward: ward}, found[ward], true); err != nil {
				return err
			}
		}
		return nil
	})
}

// watcher is a run on the journal.
type watcher struct {
	Options
	*memory
	run  *ledger.Run
	news chan struct{} // there may be something to deliver

	mu   sync.Mutex
	done Done
}

// beginner begins runs on the journal.
type beginner interface {
	Begin(ctx context.Context, o ledger.BeginOptions) (*ledger.Run, error)
}

// session is a run on the journal. What it has claimed and not ended is given back with its end.
func (o Options) session(ctx context.Context, on beginner, m *memory, do func(w *watcher, ctx context.Context) error) error {
	id := ulid.Make().String()
	run, err := on.Begin(ctx, ledger.BeginOptions{ID: id, Command: o.Command,
		Scope: ledger.NewScope([]string{"watcher/" + id}, nil)})
	if err != nil {
		return err
	}
	err = do(&watcher{Options: o, memory: m, run: run, news: make(chan struct{}, 1)}, ctx)
	end := ledger.End{Outcome: "done"}
	if err != nil && ctx.Err() == nil {
		end.Outcome = "failed"
	}
	if endErr := run.End(ctx, end); endErr != nil && err == nil {
		err = endErr
	}
	return err
}

// turn surveys what is due and tells what happens, until nothing is due any more.
func (w *watcher) turn(ctx context.Context) error {
	surveyed := make(chan struct{})
	var g errgroup.Group
	if err := w.noteLedgers(ctx); err != nil {
		return err
	}
	g.Go(func() error { return w.deliverUntil(ctx, surveyed) })
	g.Go(func() error { return w.noteLedgersUntil(ctx, surveyed) })
	err := w.surveyDue(ctx)
	close(surveyed)
	return errors.Join(err, g.Wait())
}

// surveyDue surveys the wards that are due, AtOnce of them at a time, and those that become due meanwhile.
func (w *watcher) surveyDue(ctx context.Context) (err error) {
	ended := make(chan error)
	running := 0
	for {
		mine, more := []alert.Claim(nil), false
		if room := max(1, w.AtOnce) - running; room > 0 && err == nil && ctx.Err() == nil && !w.changed() {
			due := w.due(w.run)
			rand.Shuffle(len(due), func(i, j int) { due[i], due[j] = due[j], due[i] }) // so that watchers seldom want the same
			mine, err = w.claim(ctx, due[:min(room, len(due))])
			more = err == nil && len(mine) < min(room, len(due))
		}
		for _, c := range mine {
			running++
			go func() { ended <- w.survey(ctx, c.Ward, &c.Due) }()
		}
		if more { // another one was quicker
			continue
		}
		if running == 0 {
			return errors.Join(err, ctx.Err())
		}
		look := false
		select {
		case one := <-ended:
			running--
			err = errors.Join(err, one)
		case <-w.Wake:
			look = true
		case <-w.Clock.After(often):
			look = true
		}
		if look {
			if lookErr := w.run.Look(ctx); lookErr != nil {
				err = errors.Join(err, lookErr)
			}
		}
		w.see(w.run, w.memory)
	}
}

// journal is whatever knows what the journal says.
type journal interface{ Journal(func(*alert.State)) }

// due are the slots that are due and free.
func (o Options) due(j journal) []alert.Claim {
	wards, now := o.Wards(), o.Clock.Now()
	var out []alert.Claim
	j.Journal(func(s *alert.State) {
		for _, ward := range value.Keys(wards) {
			if c := (alert.Claim{Ward: ward, Due: wards[ward].Last(now)}); !c.Due.IsZero() && s.Free(c) {
				out = append(out, c)
			}
		}
	})
	return out
}

// rest is how long there is nothing to do, as far as is known.
func (o Options) rest() time.Duration {
	now, rest := o.Clock.Now(), often
	for _, s := range o.Wards() {
		if next := s.Next(now); !next.IsZero() {
			rest = min(rest, next.Sub(now))
		}
	}
	return rest
}

// claim claims slots, and returns those that no other watcher had claimed before.
func (w *watcher) claim(ctx context.Context, slots []alert.Claim) (mine []alert.Claim, err error) {
	if len(slots) == 0 {
		return nil, nil
	}
	var lines []ledger.Line
	for i := range slots {
		lines = append(lines, watchLine(&alert.Line{Claim: &slots[i]}))
	}
	if err := w.run.Append(ctx, lines...); err != nil {
		return nil, err
	}
	w.run.Journal(func(s *alert.State) {
		for _, c := range slots {
			if s.Claimed(c, w.run.ID) {
				mine = append(mine, c)
			}
		}
	})
	return mine, nil
}

// survey surveys a ward for a slot, or beside the schedule for nil, and writes down what that changes.
// A ward that cannot be surveyed is no error: the journal says so.
func (w *watcher) survey(ctx context.Context, ward string, due *time.Time) error {
	began := w.Clock.Now()
	found, err := w.Survey(ctx, ward)
	if err != nil && ctx.Err() != nil {
		return ctx.Err() // the slot is given back
	}
	if err != nil {
		found = &Found{Failed: err.Error()}
	}
	return w.note(ctx, &alert.Survey{Ward: ward, Due: due, Seconds: w.Clock.Now().Sub(began).Seconds()}, found, err == nil)
}

// note writes down what a survey found and what that changes. looked says whether it found out anything.
func (w *watcher) note(ctx context.Context, v *alert.Survey, found *Found, looked bool) error {
	v.Counts, v.Error = found.Counts, found.Failed
	tell := len(w.Receivers) > 0
	var lines []ledger.Line
	w.run.Journal(func(s *alert.State) {
		for _, e := range w.events(s, v.Ward, found, looked) {
			if tell {
				e.Message = ulid.Make().String()
			}
			lines = append(lines, watchLine(&alert.Line{Event: &e}))
		}
	})
	// what was surveyed is written down, even if the watcher ends now
	if err := w.run.Append(context.WithoutCancel(ctx), append(lines, watchLine(&alert.Line{Survey: v}))...); err != nil {
		return err
	}
	w.hint()
	w.log(v, found, lines)
	return nil
}

// log logs and counts what a survey has found, once it is written down.
func (w *watcher) log(v *alert.Survey, found *Found, lines []ledger.Line) {
	log := w.Log.With("env", w.Env, "ward", v.Ward)
	for _, l := range lines {
		e := l.Watch.Event
		log := log.With("alert", e.ID)
		if e.Finding != nil {
			log = log.With("verdict", e.Finding.Verdict, "subject", e.Finding.Subject())
		}
		log.Info("alert " + string(e.Kind))
	}
	if log = log.With("seconds", v.Seconds); found.Failed != "" {
		log.Error("the ward could not be surveyed", "error", found.Failed)
	} else {
		log.Info("surveyed", "differs", found.Counts[alert.Differs], "gone", found.Counts[alert.Gone])
	}
	if w.Meter != nil {
		w.Meter.Surveyed(w.Env, v.Ward, v.Seconds, found.Failed != "")
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.done.Surveyed++; found.Failed != "" {
		w.done.Failed++
	}
}

// hint says that there may be something to deliver.
func (w *watcher) hint() {
	select {
	case w.news <- struct{}{}:
	default:
	}
}

// events are what a survey changes. What could not be looked at stays as it is known; failures in a row
// are an alert of their own.
func (w *watcher) events(s *alert.State, ward string, found *Found, looked bool) []alert.Event {
	findings := found.Findings
	if found.Failed != "" {
		failures := 1
		if known := s.Wards[ward]; known != nil {
			failures += known.Failures
		}
		if failures >= tooOften {
			findings = append(findings, alert.Finding{Ward: ward, Verdict: alert.Failed,
				Because: fmt.Sprintf("it could not be surveyed %d times in a row", tooOften)})
		}
	}
	unsure := func(f *alert.Finding) bool {
		return f.Verdict != alert.Failed && (!looked || found.Unsure[f.Address] || f.Address == "" && len(found.Unsure) > 0)
	}
	return s.Compare(w.Env, ward, findings, unsure, w.Clock.Now().Format(time.DateOnly))
}
