// Package session opens an estate for work: its folder, an environment, wards, inputs,
// drivers, ledgers, kits and rules. Commands, the editor and the watcher all start from one.
package session

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

	"golang.org/x/time/rate"

	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/home"
)

// Config says what is opened, and for whom.
type Config struct {
	Dir   string   // the estate's folder, or one below it
	Env   string   // "" for KASBAH_ENV, or the only environment there is
	Wards []string // none for all of them
	Given Given    // on the command line

	Identity ledger.Identity            // who acts
	Home     func() (*home.Home, error) // what this machine keeps for the person
	Tell     func(words string)         // tells a person what is worth knowing though nothing is wrong
	Detail   func(words string)         // tells those who look closely; nil for nowhere
	Log      func(line string)          // takes lines that drivers' programs log; nil for nowhere
	Overrun  func(words string)         // see declare.Options
	Unpinned bool                       // drivers are taken as they are, whatever pins.toml says
	Overlay  map[string][]byte          // texts in place of files, by their path below the estate's folder
	Lenient  bool                       // a driver that cannot be opened is noted, see Session.Broken
	AnyEnv   bool                       // the first environment serves when none is named
	Bare     bool                       // no ledger is opened: declarations alone are asked about
	Beside   string                     // a folder where programs are that the estate's one does not hold; "" for none
	// Limit is what several sessions share that keep to the rate of a driver; nil for none.
	Limit func(env, driver string, perSecond float64) *rate.Limiter
}

// Given are settings and inputs from the command line.
type Given struct {
	Settings []string // ledger.KEY=VALUE or drivers.NAME.KEY=VALUE
	Inputs   []string // name=value or ward:name=value
	Files    []string // of inputs, TOML or JSON
}

// Session is an estate in one environment, with its drivers and ledgers at hand. It does not
// change once it is open.
type Session struct {
	Estate   *estate.Estate
	Env      string
	Wards    []string // asked for, in the estate's order
	Drivers  map[string]driver.Driver
	Catalogs map[string]*schema.Catalog
	Store    store.Store
	Box      *seal.Box                 // seals the ledgers; nil where nothing does
	Ledgers  map[string]*ledger.Ledger // of all wards of the estate, and the journal under its name
	Secrets  *Secrets
	Broken   map[string]error // drivers that could not be opened, where Config.Lenient says to go on

	config    Config
	alone     bool              // a kit's that is on its own
	settings  map[string]any    // of [ledger] and [drivers.*], given from outside the file
	kinds     map[string]string // of the drivers
	options   lazy[declare.Options]
	loaded    lazy[loadedRules]
	programs  lazy[string] // what identifies this program
	details   sync.Mutex
	source    lazy[Source]
	elsewhere elsewhere // other estates
	closers   closers
}

// lazy is a value that is made when it is first asked for.
type lazy[T any] struct {
	once sync.Once
	v    T
	err  error
}

func (l *lazy[T]) get(make func() (T, error)) (T, error) {
	l.once.Do(func() { l.v, l.err = make() })
	return l.v, l.err
}

// closers are what is closed when a session is.
type closers struct {
	mu  sync.Mutex
	all []func() error
}

func (c *closers) add(f func() error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all = append(c.all, f)
}

func (c *closers) close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	var errs []error
	for _, f := range c.all {
		errs = append(errs, f())
	}
	c.all = nil
	return errors.Join(errs...)
}

// Open reads the estate and prepares drivers and ledgers. No ledger is read yet, and nothing
// is written. A wrong name is a *problem.UsageError. The session is to be closed, also after
// an error that comes with one.
func Open(ctx context.Context, c Config) (*Session, error) {
	dir, err := estate.Find(c.Dir)
	if err != nil {
		return nil, err
	}
	e, err := estate.Read(dir, c.Overlay)
	if err != nil {
		return nil, err
	}
	if all := e.Environments(); c.AnyEnv && c.Env == "" && os.Getenv("KASBAH_ENV") == "" && len(all) > 0 {
		c.Env = all[0]
	}
	env, err := chooseEnvironment(e, c.Env)
	if err != nil {
		return nil, err
	}
	s := newSession(e, env, c)
	if s.Wards, err = chooseWards(e, c.Wards); err != nil {
		return nil, err
	}
	if s.settings, err = readSettings(e, c.Given.Settings); err != nil {
		return nil, err
	}
	if err := s.staysSealed(); err != nil {
		return nil, err
	}
	if err := s.openDrivers(ctx); err != nil {
		return s, err
	}
	if c.Bare {
		return s, nil
	}
	return s, s.openLedgers(ctx)
}

// openKit is a session for a kit that is on its own: a bare estate with the simulated cloud.
func openKit(ctx context.Context, c Config) (*Session, error) {
	e, err := estate.Parse(c.Dir, []byte("estate = \"kit\"\nwards = [\"tests\"]\n[drivers.medina]\nkind = "+
		"\"medina\"\napi = \"embedded\"\n[env.test]\n"))
	if err != nil {
		return nil, err
	}
	s := newSession(e, "test", c)
	s.alone = true
	return s, s.openDrivers(ctx)
}

func newSession(e *estate.Estate, env string, c Config) *Session {
	return &Session{
		Estate: e, Env: env, config: c, kinds: map[string]string{},
		Drivers: map[string]driver.Driver{}, Catalogs: map[string]*schema.Catalog{},
		Ledgers: map[string]*ledger.Ledger{}, Broken: map[string]error{},
		Secrets: &Secrets{estate: e, env: env, home: c.Home},
	}
}

// FindEstate reads the estate whose folder is dir or around it.
func FindEstate(dir string) (*estate.Estate, error) {
	dir, err := estate.Find(dir)
	if err != nil {
		return nil, err
	}
	return estate.Load(dir)
}

// CloseLater closes something when the session is closed.
func (s *Session) CloseLater(f func() error) { s.closers.add(f) }

// Close ends what was opened.
func (s *Session) Close() error {
	var errs []error
	for _, d := range s.Drivers {
		errs = append(errs, d.Close())
	}
	if s.Store != nil {
		errs = append(errs, s.Store.Close())
	}
	return errors.Join(append(errs, s.closers.close())...)
}

// with is the session with texts in place of files of wards. It has the drivers and ledgers of this one, and is
// closed with it.
func (s *Session) with(texts map[string][]byte) *Session {
	c := s.config
	c.Overlay = texts
	out := newSession(s.Estate, s.Env, c)
	out.Wards, out.Drivers, out.Catalogs, out.Broken = s.Wards, s.Drivers, s.Catalogs, s.Broken
	out.Store, out.Box, out.Ledgers, out.Secrets = s.Store, s.Box, s.Ledgers, s.Secrets
	out.alone, out.settings, out.kinds = s.alone, s.settings, s.kinds
	s.CloseLater(out.closers.close)
	return out
}

// tell tells a person something, where the session has one.
func (s *Session) tell(format string, args ...any) {
	if s.config.Tell != nil {
		s.config.Tell(fmt.Sprintf(format, args...))
	}
}

// detail tells somebody who wants to know more.
func (s *Session) detail(format string, args ...any) {
	if s.config.Detail != nil {
		s.details.Lock()
		defer s.details.Unlock()
		s.config.Detail(fmt.Sprintf(format, args...))
	}
}

// Type is a type by its name with the driver, such as medina.machine; nil when there is none.
func (s *Session) Type(full string) *schema.Type {
	drv, name, _ := strings.Cut(full, ".")
	if c := s.Catalogs[drv]; c != nil {
		return c.Types[name]
	}
	return nil
}

func chooseEnvironment(e *estate.Estate, name string) (string, error) {
	source := "-env"
	if name == "" {
		name, source = os.Getenv("KASBAH_ENV"), "KASBAH_ENV"
	}
	all := e.Environments()
	if name == "" {
		if len(all) == 1 {
			return all[0], nil
		}
		return "", &problem.UsageError{Message: "which environment?", Hint: "-env " + strings.Join(append(all,
			e.Patterns()...), ", -env ") +
			", or KASBAH_ENV"}
	}
	if source == "-env" && SeveralEnvironments(name) && !e.HasEnvironment(name) {
		return "", problem.Usage("-env names several environments (%s); only affected, check, propose, survey and adopt -from take several", name)
	}
	if !e.HasEnvironment(name) {
		return "", &problem.UsageError{Message: fmt.Sprintf("%s: no environment is called %q", source, name),
			Hint: nearest.HintOr(name, append(all, e.Patterns()...))}
	}
	return name, nil
}

func chooseWards(e *estate.Estate, names []string) ([]string, error) {
	var out []string
	if rest := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == ledger.JournalWard }); len(rest) < len(names) {
		out = []string{ledger.JournalWard} // for commands about ledgers: it declares nothing
		if names = rest; len(rest) == 0 {
			return out, nil
		}
	}
	wards, none := e.ChosenWards(names)
	switch {
	case strings.ContainsAny(none, "*?["):
		return nil, problem.Usage("no ward matches %q; the wards are %s", none, strings.Join(first(e.Wards, 12), ", "))
	case none != "":
		return nil, &problem.UsageError{Message: fmt.Sprintf("no ward is called %q", none),
			Hint: nearest.HintOr(none, e.Wards)}
	}
	return append(out, wards...), nil
}

// first are some names, with … where there are more.
func first(names []string, n int) []string {
	if len(names) <= n {
		return names
	}
	return append(slices.Clone(names[:n]), "…")
}

func merged(m value.Map, with map[string]any, prefix string) value.Map {
	for k, v := range with {
		if key, ok := strings.CutPrefix(k, prefix); ok {
			m[key] = v
		}
	}
	return m
}
