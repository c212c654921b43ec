package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sync/errgroup"

	"kasbah/core/approval"
	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/redact"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/home"
	"kasbah/kits"
)

// project is an estate in one environment, with its drivers and ledgers at
// hand.
type project struct {
	estate       *estate.Estate
	env          string
	approval     *approval.Policy
	wards        []string // asked for, in the estate's order
	drivers      map[string]driver.Driver
	catalogs     map[string]*schema.Catalog
	kinds        map[string]string // of the drivers
	store        store.Store
	box          *seal.Box // what seals the ledgers; nil when nothing does
	ledgers      map[string]*ledger.Ledger
	outside      map[string]*ledger.State // of wards that were not asked for, once read
	kits         map[string]*declare.Kit  // once evaluated
	inputs       []declare.Input          // given from outside, once read
	closers      []func() error           // of what else was opened
	rules        *rules.Set               // once loaded
	ruleProblems problem.List             // found while loading them
	found        []rules.Finding          // about what is declared
	judged       *rules.Report            // the same, with what passed

	otherName string // what to write where the ledgers are under another name; "" where they are not

	remarks problem.List // about the declarations, told beside what follows
	holding string       // the run that holds locks while it proposes; "" for none

	home     func() (*home.Home, error) // what this machine keeps for the person
	revealed *redact.Redactor           // secrets and credentials that were fetched, or that a run has revealed
}

// open reads the estate and prepares drivers and ledgers of the wards (all
// when none are named). Nothing is started or written yet. What is opened is
// closed when the program ends.
func (a *app) open(ctx context.Context, wards []string) (*project, error) {
	e, err := a.estate()
	if err != nil {
		return nil, err
	}
	p := newProject(e)
	p.home = a.home
	a.opened = append(a.opened, p)
	if p.env, err = a.environment(e); err != nil {
		return nil, err
	}
	a.env = p.env // for what is said about it
	if p.approval, err = e.Approval(p.env); err != nil {
		return nil, err
	}
	if p.wards, err = chooseWards(e, wards); err != nil {
		return nil, err
	}
	with, err := a.settings(e)
	if err != nil {
		return nil, err
	}
	if err := a.openDrivers(ctx, p, with); err != nil {
		return nil, err
	}
	return p, a.openLedgers(ctx, p, with)
}

func newProject(e *estate.Estate) *project {
	return &project{revealed: &redact.Redactor{},
		estate: e, drivers: map[string]driver.Driver{}, catalogs: map[string]*schema.Catalog{}, ledgers: map[string]*ledger.Ledger{},
		kinds: map[string]string{}, outside: map[string]*ledger.State{},
	}
}

// openStates is open, and reads the ledgers of the wards.
func (a *app) openStates(ctx context.Context, wards []string) (*project, map[string]*ledger.State, error) {
	p, err := a.open(ctx, wards)
	if err != nil {
		return nil, nil, err
	}
	states, err := p.states(ctx)
	return p, states, err
}

func (a *app) estate() (*estate.Estate, error) {
	dir, err := estate.Find(a.dir)
	if err != nil {
		return nil, err
	}
	return estate.Load(dir)
}

func (p *project) close() error {
	var errs []error
	for _, d := range p.drivers {
		errs = append(errs, d.Close())
	}
	if p.store != nil {
		errs = append(errs, p.store.Close())
	}
	kits.Close(p.kits)
	for _, f := range p.closers {
		errs = append(errs, f())
	}
	if p.rules != nil {
		errs = append(errs, p.rules.Close())
	}
	return errors.Join(errs...)
}

// environment chooses the environment.
func (a *app) environment(e *estate.Estate) (string, error) {
	name, source := a.env, "-env"
	if name == "" {
		name, source = os.Getenv("KASBAH_ENV"), "KASBAH_ENV"
	}
	all := e.Environments()
	if name == "" {
		if len(all) == 1 {
			return all[0], nil
		}
		return "", &problem.UsageError{Message: "which environment?", Hint: "-env " + strings.Join(all, ", -env ") + ", or KASBAH_ENV"}
	}
	if !e.HasEnvironment(name) {
		hint := nearest.Hint(name, all)
		if hint == "" {
			hint = "there is " + strings.Join(all, ", ")
		}
		return "", &problem.UsageError{Message: fmt.Sprintf("%s: no environment is called %q", source, name), Hint: hint}
	}
	return name, nil
}

// anyEnvironment chooses the first environment when none is named, for
// commands whose answer is about what all of them share.
func (a *app) anyEnvironment() error {
	e, err := a.estate()
	if err == nil && a.env == "" && os.Getenv("KASBAH_ENV") == "" {
		if all := e.Environments(); len(all) > 0 {
			a.env = all[0]
		}
	}
	return err
}

func chooseWards(e *estate.Estate, names []string) ([]string, error) {
	if len(names) == 0 {
		return e.Wards, nil
	}
	wanted := map[string]bool{}
	for _, n := range names {
		n = strings.TrimSuffix(n, "/")
		if !e.HasWard(n) {
			hint := nearest.Hint(n, e.Wards)
			if hint == "" {
				hint = "there is " + strings.Join(e.Wards, ", ")
			}
			return nil, &problem.UsageError{Message: fmt.Sprintf("no ward is called %q", n), Hint: hint}
		}
		wanted[n] = true
	}
	var out []string
	for _, w := range e.Wards {
		if wanted[w] {
			out = append(out, w)
		}
	}
	return out, nil
}

func merged(m value.Map, with map[string]any, prefix string) value.Map {
	for k, v := range with {
		if key, ok := strings.CutPrefix(k, prefix); ok {
			m[key] = v
		}
	}
	return m
}

// openDrivers makes a driver for each [drivers.NAME].
func (a *app) openDrivers(ctx context.Context, p *project, with map[string]any) error {
	id := a.identity()
	from := id.Who + "@" + id.Host
	var problems problem.List
	for _, name := range p.estate.Drivers() {
		s := merged(p.estate.Driver(name, p.env), with, "drivers."+name+".")
		p.kinds[name], _ = s["kind"].(string)
		d, err := newDriver(driverSetting{p: p, name: name, from: from, log: a.driverLog()}, s)
		if err == nil {
			p.drivers[name] = d
			p.catalogs[name], err = d.Describe(ctx)
		}
		if err != nil {
			problems = append(problems, problem.At(p.estate.At("drivers."+name), "driver %s: %v", name, err))
		}
	}
	if err := problems.Err(); err != nil {
		return err
	}
	if err := a.heldToPins(p); err != nil {
		return err
	}
	return p.readPrices()
}

const maxPrices = 16 << 20

// readPrices puts the estate's price book over what the drivers say.
func (p *project) readPrices() error {
	name := p.estate.Prices
	if name == "" {
		return nil
	}
	wrong := func(err error) error { return problem.At(p.estate.At("prices"), "the price book: %v", err) }
	path := name
	if !filepath.IsAbs(path) {
		path = filepath.Join(p.estate.Dir, path)
	}
	info, err := os.Stat(path)
	if err != nil {
		return wrong(err)
	}
	if info.Size() > maxPrices {
		return wrong(fmt.Errorf("%s is larger than %d bytes", name, maxPrices))
	}
	body, err := os.ReadFile(path)
	if err != nil {
		return wrong(err)
	}
	book, err := schema.ReadPriceBook(name, body)
	if err != nil {
		return wrong(err)
	}
	var known []string
	for drv, c := range p.catalogs {
		for _, typ := range c.Names() {
			known = append(known, drv+"."+typ)
		}
	}
	for _, full := range value.Keys(book) {
		t := p.typeOf(full)
		if t == nil {
			e := wrong(fmt.Errorf("%s: no driver has the type %s", name, full)).(*problem.Problem)
			e.Hint = nearest.Hint(full, known)
			return e
		}
		if err := book[full].Check(t); err != nil {
			return wrong(fmt.Errorf("%s: %w", name, err))
		}
		t.Price = book[full]
	}
	return nil
}

// ledgersAtOnce is how many ledgers are read at once: some stores are far away.
const ledgersAtOnce = 8

// states reads the ledgers of the project's wards.
func (p *project) states(ctx context.Context) (map[string]*ledger.State, error) {
	if err := p.forgotten(ctx); err != nil {
		return nil, err
	}
	return p.load(ctx)
}

// load is states, whatever else the store holds.
func (p *project) load(ctx context.Context) (map[string]*ledger.State, error) {
	states, errs := make([]*ledger.State, len(p.wards)), make([]error, len(p.wards))
	var g errgroup.Group
	g.SetLimit(ledgersAtOnce)
	for i, w := range p.wards {
		g.Go(func() error {
			states[i], errs[i] = p.ledgers[w].Load(ctx)
			return nil
		})
	}
	_ = g.Wait() // each has its own error
	out := make(map[string]*ledger.State, len(states))
	for i, w := range p.wards {
		if errs[i] != nil { // the first in the estate's order
			return nil, errs[i]
		}
		out[w] = states[i]
	}
	var err error
	p.otherName, err = p.renamed(ctx, out)
	return out, err
}

// renamed says what to write where an estate or environment begins from nothing although
// the store holds ledgers of its wards under another name; "" where that is not so.
func (p *project) renamed(ctx context.Context, states map[string]*ledger.State) (string, error) {
	for _, s := range states {
		if s.Seq > 0 {
			return "", nil
		}
	}
	places, err := ledger.Places(ctx, p.store)
	if err != nil {
		return "", err
	}
	estateName, envName := p.estate.LedgerNames(p.env)
	for _, at := range places {
		if states[at.Ward] == nil || at.Estate == estateName && (at.Env == envName || p.estate.HasEnvironment(at.Env)) || at.Estate != estateName && at.Env != envName {
			continue
		}
		line := fmt.Sprintf("renamed_from = %q in kasbah.toml", at.Estate)
		if at.Estate == estateName {
			line = fmt.Sprintf("renamed_from = %q under [env.%s]", at.Env, p.env)
		}
		return fmt.Sprintf("nothing is recorded under %s/%s, and the store holds a ledger of %s under %s/%s: if it was renamed, %s keeps to it", estateName, envName, at.Ward, at.Estate, at.Env, line), nil
	}
	return "", nil
}

// forgotten is an error when the store records resources for a ward that
// kasbah.toml does not list: nobody would look after them any more.
func (p *project) forgotten(ctx context.Context) error {
	estateName, envName := p.estate.LedgerNames(p.env)
	base := estateName + "/" + envName + "/"
	for after := ""; ; {
		ward := ""
		for key, err := range p.store.List(ctx, base, after) {
			if err != nil {
				return err
			}
			ward, _, _ = strings.Cut(strings.TrimPrefix(key, base), "/")
			break
		}
		if ward == "" {
			return nil
		}
		after = base + ward + "0" // the character after the slash: behind all keys of the ward
		if p.estate.HasWard(ward) {
			continue
		}
		l, err := p.ledgerOf(p.env, ward, ledger.Identity{})
		if err != nil {
			return err
		}
		s, err := l.Load(ctx)
		if err != nil {
			return err
		}
		if len(s.Records) > 0 {
			e := problem.At(p.estate.At("wards"), "the ledger of %s records %d resources for ward %q, which is not listed", p.env, len(s.Records), ward)
			e.Ward = ward
			e.Hint = fmt.Sprintf("list %q in wards again to keep them, or list it and `kasbah raze %s -env %s` before it goes", ward, ward, p.env)
			return e
		}
	}
}
