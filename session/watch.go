package session

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sync/errgroup"

	"kasbah/core/alert"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schedule"
	"kasbah/core/survey"
	"kasbah/core/value"
	"kasbah/core/watch"
	"kasbah/notify"
	"kasbah/transport"
)

// WatchRequest says what is watched.
type WatchRequest struct {
	Wards  []string // none for all
	Envs   []string // none for KASBAH_ENV, or all
	AtOnce int      // wards surveyed at once in each environment
	Once   bool     // only what is due now
	Now    bool     // survey the wards now, due or not
}

// Watch surveys wards on their schedules until the context ends, or once. It counts the
// surveys. Each survey reads the estate anew, so that it goes by what the files say then.
func Watch(ctx context.Context, c Config, r WatchRequest, command string, log *slog.Logger) (watch.Done, error) {
	e, err := FindEstate(c.Dir)
	if err != nil {
		return watch.Done{}, err
	}
	if _, err := chooseWards(e, r.Wards); err != nil {
		return watch.Done{}, err
	}
	switch {
	case r.Now && len(r.Wards) == 0:
		return watch.Done{}, problem.Usage("watch -now needs the wards that are to be surveyed")
	case r.AtOnce < 1 || r.AtOnce > 100:
		return watch.Done{}, problem.Usage("-at-once must lie between 1 and 100")
	}
	named := r.Envs
	if env := os.Getenv("KASBAH_ENV"); len(named) == 0 && env != "" {
		named = strings.Split(env, ",")
	}
	plan := &plan{c: c, log: log, wards: r.Wards, envs: named, estate: e}
	if plan.body, err = os.ReadFile(filepath.Join(e.Dir, estate.File)); err != nil {
		return watch.Done{}, err
	}
	for _, env := range named {
		if !slices.Contains(e.Environments(), env) {
			return watch.Done{}, &problem.UsageError{Message: "no environment is called " + env, Hint: nearest.Hint(env, e.Environments())}
		}
	}
	envs := plan.scheduled()
	if r.Now && len(named) > 0 {
		envs = named
	} else if r.Now {
		envs = e.Environments()
	}
	if len(envs) == 0 {
		return watch.Done{}, &problem.UsageError{Message: "no ward is to be surveyed on a schedule",
			Hint: "say when in kasbah.toml: [watch] with every = \"6h\""}
	}
	if !r.Once && !r.Now {
		plan.goOn(ctx, r, command)
		return watch.Done{}, nil
	}
	var g errgroup.Group
	var mu sync.Mutex
	var surveys watch.Done
	for _, env := range envs {
		g.Go(func() error {
			n, err := plan.watch(ctx, env, r, command)
			mu.Lock()
			defer mu.Unlock()
			surveys.Surveyed, surveys.Failed = surveys.Surveyed+n.Surveyed, surveys.Failed+n.Failed
			return err
		})
	}
	err = g.Wait()
	return surveys, err
}

// lookAgain is how often it is looked whether further environments are to be watched, and how soon one that
// could not be opened is tried again.
const lookAgain = 10 * time.Second

// goOn watches the environments that have a schedule, each on its own, until the context ends. One that
// cannot be opened keeps no other one back.
func (p *plan) goOn(ctx context.Context, r WatchRequest, command string) {
	var running sync.WaitGroup
	watched := map[string]bool{}
	for ctx.Err() == nil {
		for _, env := range p.scheduled() {
			if watched[env] {
				continue
			}
			watched[env] = true
			running.Go(func() {
				for ctx.Err() == nil {
					if _, err := p.watch(ctx, env, r, command); err != nil && ctx.Err() == nil {
						p.log.Error("the environment cannot be opened; trying again", "env", env, "error", err, "in", lookAgain)
						pause(ctx, lookAgain)
					}
				}
			})
		}
		pause(ctx, lookAgain)
	}
	running.Wait()
}

// pause waits, unless the context ends.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// plan is when which wards are due, as kasbah.toml says at the time.
type plan struct {
	c     Config
	log   *slog.Logger
	wards []string // that were named; none for all
	envs  []string // that were named; none for all

	mu     sync.Mutex
	estate *estate.Estate
	body   []byte // of kasbah.toml, as it was right last
	wrong  string // what is wrong with the file now, and was logged
}

// read reads kasbah.toml again. A file that is wrong is logged once, and the one before holds.
func (p *plan) read() (*estate.Estate, []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	body, err := os.ReadFile(filepath.Join(p.estate.Dir, estate.File))
	if err == nil && p.wrong == "" && bytes.Equal(body, p.body) {
		return p.estate, p.body
	}
	var e *estate.Estate
	if err == nil {
		e, err = estate.Parse(p.estate.Dir, body)
	}
	switch {
	case err == nil:
		p.log.Info("kasbah.toml was read again")
		p.estate, p.body, p.wrong = e, body, ""
	case err.Error() != p.wrong:
		p.wrong = err.Error()
		p.log.Error("kasbah.toml is wrong now; what it said before holds", "error", err)
	}
	return p.estate, p.body
}

// of is the plan of an environment.
func (p *plan) of(env string) map[string]*schedule.Schedule {
	e, _ := p.read()
	out := map[string]*schedule.Schedule{}
	for _, ward := range e.Wards {
		if len(p.wards) > 0 && !slices.Contains(p.wards, ward) {
			continue
		}
		if s := e.Schedule(env, ward); s != nil {
			out[ward] = s
		}
	}
	return out
}

// scheduled are the environments that have a ward to survey.
func (p *plan) scheduled() []string {
	e, _ := p.read()
	return slices.DeleteFunc(slices.Clone(e.Environments()), func(env string) bool {
		return len(p.envs) > 0 && !slices.Contains(p.envs, env) || len(p.of(env)) == 0
	})
}

// watch watches one environment.
func (p *plan) watch(ctx context.Context, env string, r WatchRequest, command string) (n watch.Done, err error) {
	c := p.c
	c.Env, c.Lenient, c.Unpinned = env, true, true
	s, err := Open(ctx, c)
	if s != nil {
		defer func() { err = errors.Join(err, s.Close()) }()
	}
	if err != nil {
		return n, err
	}
	o := watch.Options{Env: env, Journal: s.journal(), Command: command, AtOnce: r.AtOnce, Log: p.log, Clock: realTime{},
		Wards: func() map[string]*schedule.Schedule { return p.of(env) },
		Survey: func(ctx context.Context, ward string) (*watch.Found, error) {
			now := c
			_, body := p.read()
			now.Overlay = map[string][]byte{estate.File: body}
			return surveyed(ctx, now, ward)
		}}
	if err := p.tell(s, &o); err != nil {
		return n, err
	}
	switch {
	case r.Now:
		return o.Now(ctx, r.Wards)
	case r.Once:
		return o.Once(ctx)
	}
	o.Watch(ctx)
	p.log.Info("stopped", "env", env)
	return n, nil
}

// tell lets a watcher tell receivers. Those of a kasbah.toml that is changed later are told as well.
func (p *plan) tell(s *Session, o *watch.Options) error {
	e, _ := p.read()
	made, err := s.receivers(e)
	if err != nil {
		return err
	}
	var mu sync.Mutex
	o.Receivers = func() []watch.Receiver {
		mu.Lock()
		defer mu.Unlock()
		if now, _ := p.read(); now != e {
			again, err := s.receivers(now)
			if err != nil {
				p.log.Error("those who are told of alerts stay as they were", "error", err)
			} else {
				made = again
			}
			e = now
		}
		return made
	}
	return nil
}

// receivers are those of kasbah.toml who are told of alerts.
func (s *Session) receivers(e *estate.Estate) ([]watch.Receiver, error) {
	from := notify.Source{Estate: e.Name, Env: s.Env}
	fetch := func(what string, v any) (func(context.Context) (string, error), error) {
		if v == nil {
			return nil, nil
		}
		c, err := s.Secrets.Credential(what, v)
		if err != nil {
			return nil, err
		}
		return func(ctx context.Context) (string, error) { return c(ctx, false) }, nil
	}
	var out []watch.Receiver
	for _, n := range e.Notify {
		filter := notify.Filter(n.Events)
		switch {
		case len(n.Run) > 0:
			out = append(out, &notify.Program{Filter: filter, Source: from, Called: n.Name, Run: n.Run, Dir: e.Dir})
		case len(n.Mail) > 0:
			if _, _, _, err := notify.Server(n.Server); err != nil {
				return nil, problem.At(n.Position, "%v", err)
			}
			password, err := fetch("password", n.Password)
			if err != nil {
				return nil, problem.At(n.Position, "%v", err)
			}
			out = append(out, &notify.Mail{Filter: filter, Source: from, Called: n.Name, To: n.Mail, From: n.From, Server: n.Server,
				User: n.User, Password: password})
		default:
			url, err := fetch("url", n.URL)
			if err != nil {
				return nil, problem.At(n.Position, "%v", err)
			}
			sign, err := fetch("sign", n.Sign)
			if err != nil {
				return nil, problem.At(n.Position, "%v", err)
			}
			transport, err := transport.New(transport.Options{})
			if err != nil {
				return nil, err
			}
			out = append(out, &notify.Webhook{Filter: filter, Source: from, Called: n.Name, URL: url, Sign: sign, Transport: transport})
		}
	}
	return out, nil
}

// realTime is the clock of the machine.
type realTime struct{}

func (realTime) Now() time.Time                         { return time.Now() }
func (realTime) After(d time.Duration) <-chan time.Time { return time.After(d) }

// surveyed surveys one ward, as the estate's files are now.
func surveyed(ctx context.Context, c Config, ward string) (found *watch.Found, err error) {
	c.Wards = []string{ward}
	s, err := Open(ctx, c)
	if s != nil {
		defer func() { err = errors.Join(err, s.Close()) }()
	}
	if err != nil {
		return nil, err
	}
	r, err := s.Survey(ctx, survey.Asked{})
	if err != nil {
		return nil, err
	}
	for _, f := range r.Failures {
		if f.Ward != "" { // nothing is known of what it records
			return nil, errors.New(f.Error)
		}
	}
	return foundIn(r, ward), nil
}

// Record notes what a survey saw in the records, and what it found among the alerts: of whole wards, as
// asked says. It returns how many records were written.
func (s *Session) Record(ctx context.Context, r *survey.Report, asked survey.Asked, o enact.Options) (int, error) {
	n, err := enact.RecordSeen(ctx, r.Seen, o)
	if err != nil || len(asked.Only) > 0 || !asked.Since.IsZero() {
		return n, err
	}
	found := map[string]*watch.Found{}
	for _, ward := range s.Wards {
		if !slices.ContainsFunc(r.Failures, func(f survey.Failure) bool { return f.Ward == ward }) {
			found[ward] = foundIn(r, ward)
		}
	}
	receivers, err := s.receivers(s.Estate)
	if err != nil {
		return n, err
	}
	return n, watch.Options{Env: s.Env, Journal: s.journal(), Command: o.Command, Clock: realTime{}, Log: slog.New(slog.DiscardHandler),
		Receivers: func() []watch.Receiver { return receivers }}.Note(ctx, found) // a watcher tells them
}

// foundIn is what a survey found in a ward, as alerts have it.
func foundIn(r *survey.Report, ward string) *watch.Found {
	out := &watch.Found{Unsure: map[string]bool{}, Counts: map[string]int{}}
	var failed []string // why something could not be looked at
	for _, res := range r.Resources {
		if res.Ward != ward {
			continue
		}
		out.Counts[string(res.Verdict)]++
		f := alert.Finding{Ward: res.Ward, Address: res.Address, Type: res.Type, Position: res.Position}
		switch res.Verdict {
		case survey.Unchecked:
			out.Unsure[res.Address] = true
			if res.Unread() && !slices.Contains(failed, res.Because) {
				failed = append(failed, res.Because)
			}
		case survey.Gone:
			f.Verdict, f.By, f.At = alert.Gone, res.By, res.At
			out.Findings = append(out.Findings, f)
		case survey.Differs:
			f.Verdict = alert.Differs
			for _, d := range res.Differences {
				if d.Accepted == nil {
					f.Path, f.Expected, f.Found, f.By, f.At = d.Path, &value.Any{V: d.Expected.V}, &value.Any{V: d.Found.V}, d.By, d.At
					if d.Position != "" {
						f.Position = d.Position
					}
					out.Findings = append(out.Findings, f)
				}
			}
		}
	}
	out.Failed = strings.Join(failed, "; ")
	return out
}

// Alerts lists the alerts of the session's environment; resolved ones as well with all.
func (s *Session) Alerts(ctx context.Context, all bool) (*alert.List, error) {
	st, err := s.journal().Load(ctx)
	if err != nil {
		return nil, err
	}
	out := &alert.List{Format: alert.Format, Env: s.Env, Alerts: []*alert.Alert{}, Wards: map[string]alert.WardStatus{}}
	if st.Watch == nil {
		return out, nil
	}
	for _, a := range st.Watch.Sorted() {
		if all || a.Phase != alert.Resolved {
			out.Alerts = append(out.Alerts, a)
		}
	}
	for name, w := range st.Watch.Wards {
		if w.Last == nil {
			continue
		}
		status := alert.WardStatus{At: w.At, Counts: w.Last.Counts, Error: w.Last.Error}
		if plan := s.Estate.Schedule(s.Env, name); plan != nil {
			if next := plan.Next(time.Now()); !next.IsZero() {
				status.Next = &next
			}
		}
		out.Wards[name] = status
	}
	return out, nil
}

// Acknowledge says that somebody knows of alerts, why that is enough, and until which day; "" for as
// long as they stay as they are. It returns them as they are then.
func (s *Session) Acknowledge(ctx context.Context, ids []string, why, until, command string) (*alert.List, error) {
	list, err := s.Alerts(ctx, false)
	if err != nil {
		return nil, err
	}
	var known []*alert.Alert
	var lines []ledger.Line
	for _, id := range ids {
		a, err := list.Alert(id)
		if err != nil {
			return nil, err
		}
		a.Phase, a.Ack = alert.Acknowledged, &alert.Ack{Who: s.config.Identity.Who, Why: why, Until: until}
		known = append(known, a)
		e := &alert.Event{Kind: alert.WasAcknowledged, ID: a.ID, Ack: a.Ack}
		if len(s.Estate.Notify) > 0 {
			e.Message = ulid.Make().String()
		}
		lines = append(lines, ledger.Line{Kind: ledger.KindWatch, Watch: &alert.Line{Event: e}})
	}
	id := ulid.Make().String()
	run, err := s.journal().Begin(ctx, ledger.BeginOptions{ID: id, Command: command, Reason: why,
		Scope: ledger.NewScope([]string{"person/" + id}, nil)})
	if err != nil {
		return nil, err
	}
	list.Alerts = known
	return list, errors.Join(run.Append(ctx, lines...), run.End(ctx, ledger.End{Outcome: "done"}))
}
