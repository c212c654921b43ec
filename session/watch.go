package session

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"kasbah/core/alert"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/schedule"
	"kasbah/core/watch"
	"kasbah/drivers/openapi"
	"kasbah/notify"
	"kasbah/page"
	"kasbah/transport"
)

// WatchRequest says what is watched.
type WatchRequest struct {
	Wards  []string // none for all
	Envs   []string // none for KASBAH_ENV, or all
	AtOnce int      // wards surveyed at once in each environment
	Once   bool     // only what is due now
	Now    bool     // survey the wards now, due or not

	Address   string // where the page is served; "" for nowhere
	Cert, Key string // of the page, PEM files; "" for what a page at that address needs
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
	case r.Address == "" && r.Cert+r.Key != "":
		return watch.Done{}, problem.Usage("-cert and -key are for the page: -address says where it is served")
	case r.Address != "" && (r.Once || r.Now):
		return watch.Done{}, problem.Usage("-address serves a page while it watches, and goes with neither -once nor -now")
	case r.AtOnce < 1 || r.AtOnce > 100:
		return watch.Done{}, problem.Usage("-at-once must lie between 1 and 100")
	}
	named := r.Envs
	if env := os.Getenv("KASBAH_ENV"); len(named) == 0 && env != "" {
		named = strings.Split(env, ",")
	}
	c.Limit = limits()
	plan := &plan{c: c, log: log, wards: r.Wards, envs: named, estate: e}
	plan.look(ctx)
	for _, env := range named {
		if !e.HasEnvironment(env) {
			return watch.Done{}, &problem.UsageError{Message: "no environment is called " + env, Hint: nearest.Hint(env, e.Environments())}
		}
		if e.Made(env) && !slices.Contains(plan.made, env) {
			plan.made = append(plan.made, env)
		}
	}
	envs := plan.scheduled()
	if r.Now && len(named) > 0 {
		envs = named
	} else if r.Now {
		envs = append(e.Environments(), plan.made...)
	}
	if len(envs) == 0 {
		return watch.Done{}, &problem.UsageError{Message: "no ward is to be surveyed on a schedule",
			Hint: "say when in kasbah.toml: [watch] with every = \"6h\""}
	}
	if !r.Once && !r.Now {
		return watch.Done{}, plan.serve(ctx, r, func(ctx context.Context) { plan.goOn(ctx, r, command) })
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

// serve serves the page while something is done, where it is wanted. What is done ends with it.
func (p *plan) serve(ctx context.Context, r WatchRequest, do func(context.Context)) error {
	if r.Address == "" {
		do(ctx)
		return nil
	}
	p.board = page.NewBoard(p.estate.Name, time.Now)
	p.counters = page.NewCounters(p.board)
	at, err := page.Listen(p.board, p.counters, page.Options{Address: r.Address, Cert: r.Cert, Key: r.Key,
		Own: filepath.Join(p.estate.Dir, ".kasbah", "watch")})
	if err != nil {
		return err
	}
	log := p.log.With("url", at.URL)
	if at.Certificate != "" {
		log = log.With("certificate", at.Certificate)
	}
	log.Info("the page is served")
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		do(ctx)
	}()
	select {
	case err = <-at.Ended:
		cancel()
		<-ended
	case <-ended:
	}
	return errors.Join(err, at.Close())
}

// lookAgain is how often it is looked whether further environments are to be watched, and how soon one that
// could not be opened is tried again.
const lookAgain = 10 * time.Second

// goOn watches the environments that have a schedule, each on its own, until the context ends. One that
// cannot be opened keeps no other one back.
func (p *plan) goOn(ctx context.Context, r WatchRequest, command string) {
	var running sync.WaitGroup
	var watched sync.Map // by environment
	for ctx.Err() == nil {
		p.look(ctx)
		for _, env := range p.scheduled() {
			if _, is := watched.LoadOrStore(env, true); is {
				continue
			}
			running.Go(func() {
				defer watched.Delete(env)
				for ctx.Err() == nil && slices.Contains(p.scheduled(), env) {
					if _, err := p.watch(ctx, env, r, command); err != nil && ctx.Err() == nil {
						p.log.Error("the environment cannot be opened; trying again", "env", env, "error", err, "in", lookAgain)
						if p.board != nil {
							p.board.Seen(env, nil, err)
						}
						pause(ctx, lookAgain)
					}
				}
				if p.board != nil && ctx.Err() == nil {
					p.board.Forget(env)
				}
			})
		}
		pause(ctx, lookAgain)
	}
	running.Wait()
}

// look looks for the environments that patterns have made.
func (p *plan) look(ctx context.Context) {
	e := p.read()
	all, err := existing(ctx, p.c, e)
	if err != nil {
		p.log.Error("it is not known which environments there are; those that were known are watched", "error", err)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.made = slices.DeleteFunc(all, func(env string) bool { return !e.Made(env) })
}

// pause waits, unless the context ends.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// limits makes limiters that surveys at once share.
func limits() func(env, driver string, perSecond float64) *rate.Limiter {
	type key struct {
		env, driver string
		perSecond   float64
	}
	var mu sync.Mutex
	made := map[key]*rate.Limiter{}
	return func(env, driver string, perSecond float64) *rate.Limiter {
		mu.Lock()
		defer mu.Unlock()
		k := key{env, driver, perSecond}
		if made[k] == nil {
			made[k] = openapi.Limit(perSecond)
		}
		return made[k]
	}
}

// plan is when which wards are due, as kasbah.toml says at the time.
type plan struct {
	c     Config
	log   *slog.Logger
	wards []string // that were named; none for all
	envs  []string // that were named; none for all

	board    *page.Board // what the page shows; nil where there is none
	counters *page.Counters

	mu     sync.Mutex
	made   []string       // environments that patterns made, as they were looked for last
	estate *estate.Estate // as its files were right last
	wrong  string         // what is wrong with them now, and was logged
}

// read reads kasbah.toml, and each ward.toml, again. What is wrong is logged once, and what they said before
// holds.
func (p *plan) read() *estate.Estate {
	p.mu.Lock()
	defer p.mu.Unlock()
	e, err := estate.Load(p.estate.Dir)
	switch {
	case err == nil && e.Digest == p.estate.Digest && p.wrong == "":
	case err == nil:
		p.log.Info("kasbah.toml was read again")
		p.estate, p.wrong = e, ""
	case err.Error() != p.wrong:
		p.wrong = err.Error()
		p.log.Error("kasbah.toml is wrong now; what it said before holds", "error", err)
	}
	return p.estate
}

// of is the plan of an environment.
func (p *plan) of(e *estate.Estate, env string) map[string]*schedule.Schedule {
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
	e := p.read()
	p.mu.Lock()
	all := append(e.Environments(), p.made...)
	p.mu.Unlock()
	return slices.DeleteFunc(all, func(env string) bool {
		return len(p.envs) > 0 && !slices.Contains(p.envs, env) || len(p.of(e, env)) == 0
	})
}

// watch watches one environment. A session stands for what kasbah.toml says; once the file says something
// else, the next one goes on. A file with which none can be opened counts for nothing.
func (p *plan) watch(ctx context.Context, env string, r WatchRequest, command string) (n watch.Done, err error) {
	at, err := p.open(ctx, env)
	if err != nil {
		return n, err
	}
	for {
		at.shown(p, command)
		var next *watched
		over, refused := false, at.estate
		o := at.options(p, r, command)
		o.Changed = func() bool {
			now := p.read()
			switch {
			case next != nil || over:
				return true
			case now == at.estate || now == refused:
				return false
			case !slices.Contains(p.scheduled(), env):
				p.log.Info("kasbah.toml has no schedule for the environment any more", "env", env)
				over = true
				return true
			}
			opened, err := p.open(ctx, env)
			if err != nil {
				refused = now
				p.log.Error("the environment cannot be watched as kasbah.toml says now; what it said before holds", "env", env, "error", err)
			}
			next = opened
			return next != nil
		}
		switch {
		case r.Now:
			n, err = o.Now(ctx, r.Wards)
		case r.Once:
			n, err = o.Once(ctx)
		default:
			o.Watch(ctx)
			if next == nil {
				p.log.Info("stopped", "env", env)
			}
		}
		if next == nil {
			return n, errors.Join(err, at.Close())
		}
		if err := at.Close(); err != nil {
			p.log.Warn("what was opened could not be closed", "env", env, "error", err)
		}
		at = next
	}
}

// watched is an environment as one text of kasbah.toml has it.
type watched struct {
	*Session
	estate    *estate.Estate // by which plan.read tells whether the text has changed
	receivers []watch.Receiver
	wake      chan struct{} // asks the watcher to look at the journal now
}

func (p *plan) open(ctx context.Context, env string) (*watched, error) {
	e := p.read()
	c := p.c
	c.Env, c.Lenient, c.Unpinned, c.Overlay = env, true, true, e.Texts()
	s, err := Open(ctx, c)
	at := &watched{Session: s, estate: e, wake: make(chan struct{}, 1)}
	if err == nil {
		at.receivers, err = s.receivers(e)
	}
	if err == nil {
		return at, nil
	}
	if s != nil {
		err = errors.Join(err, s.Close())
	}
	return nil, err
}

// shown shows the environment on the page, where there is one.
func (at *watched) shown(p *plan, command string) {
	if p.board == nil {
		return
	}
	look := func() {
		select {
		case at.wake <- struct{}{}:
		default: // it was asked for already
		}
	}
	wards := p.of(at.estate, at.Env)
	for _, ward := range at.estate.Wards {
		wards[ward] = wards[ward] // nil for one that is not surveyed by schedule
	}
	p.board.Watch(page.Environment{Name: at.Env, Wards: wards, Look: look, Draw: at.maps(),
		Acknowledge: func(ctx context.Context, id string, ack alert.Ack) (*alert.State, error) {
			if _, err := at.Acknowledge(ctx, []string{id}, ack, command); err != nil {
				return nil, err
			}
			s, err := at.journal().Load(ctx)
			if err != nil {
				return nil, err
			}
			return s.Watch, nil
		}})
}

func (at *watched) options(p *plan, r WatchRequest, command string) watch.Options {
	c := at.config
	o := watch.Options{Env: at.Env, Journal: at.journal(), Command: command, AtOnce: r.AtOnce, Log: p.log, Clock: realTime{},
		Wards:     func() map[string]*schedule.Schedule { return p.of(at.estate, at.Env) },
		Ledgers:   at.Ledgers,
		Survey:    func(ctx context.Context, ward string) (*watch.Found, error) { return surveyed(ctx, c, ward) },
		Receivers: at.receivers, Wake: at.wake,
	}
	if p.board != nil {
		o.Meter, o.Seen = p.counters, func(s *alert.State, err error) { p.board.Seen(at.Env, s, err) }
		survey := o.Survey
		o.Survey = func(ctx context.Context, ward string) (*watch.Found, error) {
			return survey(propose.CountCalls(ctx, func(driver string) { p.counters.Called(at.Env, driver) }), ward)
		}
	}
	return o
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
		filter := notify.Filter{Events: n.Events, Ward: n.Ward}
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
