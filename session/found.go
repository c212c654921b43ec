package session

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"kasbah/core/adopt"
	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// FoundRequest says what is looked for, and where it is to be declared.
type FoundRequest struct {
	Driver string
	Types  []string // of the driver; none for all
	Where  string   // a Starlark expression over r; "" for all
	Ward   string
	Envs   []string // the first is the session's
	Kits   bool     // resources of the same shape become a kit
	Dry    bool     // nothing is to be written: what cannot be proven yet is shown as well
}

// FoundTalk is how adopting what is found talks with a person. Whatever returns an error ends it.
type FoundTalk struct {
	Open     func(env string) (*Session, error)
	Show     func(w *adopt.Written) error
	MayWrite func() error
	TakeTurn func(s *Session, a *Adopting) error // proposes it, asks and carries it out
}

// AdoptFound writes code for what no ledger records, and adopts it in each environment.
func AdoptFound(ctx context.Context, r FoundRequest, talk FoundTalk) error {
	s, err := talk.Open(r.Envs[0])
	if err != nil {
		return err
	}
	r.Envs[0] = s.Env
	file, err := s.DeclareFound(ctx, r)
	if err != nil {
		return err
	}
	if err := talk.Show(file.Written); err != nil || file.Count() == 0 || r.Dry {
		return err
	}
	if err := talk.MayWrite(); err != nil {
		return err
	}
	if err := file.Write(); err != nil {
		return err
	}
	for _, env := range r.Envs {
		if s, err = talk.Open(env); err != nil {
			return err
		}
		if err := file.Ended(ctx, s, talk.TakeTurn(s, file.Adopting(env))); err != nil {
			return err
		}
	}
	return nil
}

// FoundFile is code for what was found, with the proof that it is right.
type FoundFile struct {
	*adopt.Written
	Toml []byte // kasbah.toml with the inputs; nil where it stays as it is

	dir  string
	toml []byte // kasbah.toml as it was
}

// DeclareFound looks for what no ledger of the estate records, writes code that declares it, and
// proves it: a proposal with the code only adopts. Nothing is written yet.
func (s *Session) DeclareFound(ctx context.Context, r FoundRequest) (*FoundFile, error) {
	out := &FoundFile{dir: s.Estate.Dir}
	file := path.Join(s.Estate.Folder(r.Ward), "found.star")
	if !s.Estate.HasWard(r.Ward) {
		return nil, &problem.UsageError{Message: fmt.Sprintf("no ward is called %q; list it in wards of kasbah.toml first", r.Ward),
			Hint: nearest.Hint(r.Ward, s.Estate.Wards)}
	}
	c := s.Catalogs[r.Driver]
	if c == nil {
		return nil, &problem.UsageError{Message: fmt.Sprintf("no driver is called %q", r.Driver),
			Hint: nearest.Hint(r.Driver, s.Estate.Drivers())}
	}
	for i, t := range r.Types {
		r.Types[i] = strings.TrimPrefix(t, r.Driver+".")
		if c.Types[r.Types[i]] == nil {
			return nil, &problem.UsageError{Message: fmt.Sprintf("%s has no type %s", r.Driver, r.Types[i]),
				Hint: nearest.Hint(r.Types[i], c.Names())}
		}
	}
	if _, err := os.Lstat(out.at(file)); !errors.Is(err, fs.ErrNotExist) {
		return nil, problem.Usage("%s is there already; nothing is written over", file)
	}
	where := func(string, adopt.Thing) (bool, error) { return true, nil }
	if r.Where != "" {
		var err error
		if where, err = adopt.Where(r.Where); err != nil {
			return nil, problem.Usage("%v", err)
		}
	}
	var found []adopt.Found
	for _, env := range r.Envs {
		from, err := s.in(ctx, env, nil)
		if err != nil {
			return nil, err
		}
		f, err := from.found(ctx, r, where)
		if err != nil {
			return nil, err
		}
		found = append(found, *f)
	}
	out.Written = adopt.Write(r.Driver, found, r.Kits)
	out.File, out.Ward = file, r.Ward
	if out.Count() == 0 {
		return out, nil
	}
	overlay := map[string][]byte{out.File: []byte(out.Text)}
	body, err := os.ReadFile(out.at(estate.File))
	if err != nil {
		return nil, err
	}
	out.toml = body
	text := string(body)
	for _, env := range value.Keys(out.Inputs) {
		for _, name := range slices.Backward(value.Keys(out.Inputs[env])) { // each goes before the last
			if text, err = estate.WithInput(text, "env."+env+".ward."+r.Ward+".inputs", name, out.Inputs[env][name]); err != nil {
				return nil, err
			}
		}
	}
	if text != string(body) {
		out.Toml = []byte(text)
		overlay[estate.File] = out.Toml
	}
	for i, env := range r.Envs {
		with, err := s.in(ctx, env, overlay)
		if err == nil {
			err = with.given(ctx, out.Written)
		}
		if err != nil && r.Dry {
			out.Left = append(out.Left, fmt.Sprintf("the code is not proven in %s yet: %v", env, err))
			continue
		}
		out.Proven = append(out.Proven, env)
		if err == nil {
			err = with.prove(ctx, func() *Adopting {
				a := out.Adopting(env)
				a.seen = seen(r.Driver, found[i].Things)
				return a
			})
		}
		if err != nil {
			return nil, fmt.Errorf("nothing is written, as the code does not stand its proof in %s: %w", env, err)
		}
	}
	return out, nil
}

func (f *FoundFile) at(name string) string { return filepath.Join(f.dir, filepath.FromSlash(name)) }

// Adopting is what the file's declarations adopt in an environment.
func (f *FoundFile) Adopting(env string) *Adopting {
	out := &Adopting{Things: map[string]string{}}
	for address, id := range f.Things[env] {
		out.Things[value.InWard(f.Ward, address)] = id
	}
	return out
}

// Write writes the file, and the inputs into kasbah.toml.
func (f *FoundFile) Write() error {
	if err := os.MkdirAll(filepath.Dir(f.at(f.File)), 0o755); err != nil {
		return err
	}
	if err := disk.Replace(f.at(f.File), []byte(f.Text), 0o644); err != nil || f.Toml == nil {
		return err
	}
	if err := disk.Replace(f.at(estate.File), f.Toml, 0o644); err != nil {
		return errors.Join(err, os.Remove(f.at(f.File)))
	}
	return nil
}

// Ended is to be told how adopting in a session's environment ended. Code that declares what no ledger
// of the estate records would have the next proposal make it again, so it is taken back where nothing
// was adopted at all; else what is left is told with the error.
func (f *FoundFile) Ended(ctx context.Context, s *Session, err error) error {
	if err == nil {
		return nil
	}
	ctx = context.WithoutCancel(ctx) // an interrupt must not leave the file behind
	recorded := s.thingsElsewhere(ctx, false)
	for _, full := range value.Keys(f.Things) {
		for address, id := range f.Things[full] {
			typ, _, _ := strings.Cut(address, "/")
			if recorded[typ+" "+id] != "" {
				s.tell("%s is written, and not all that it declares is adopted: `kasbah adopt -find` goes on.", f.File)
				return err
			}
		}
	}
	s.tell("Nothing was adopted, so %s is taken back.", f.File)
	err = errors.Join(err, os.Remove(f.at(f.File)))
	if f.Toml != nil {
		err = errors.Join(err, disk.Replace(f.at(estate.File), f.toml, 0o644))
	}
	return err
}

// in is a session in an environment of the estate, with texts in place of files.
func (s *Session) in(ctx context.Context, env string, overlay map[string][]byte) (*Session, error) {
	switch {
	case env == s.Env && overlay == nil:
		return s, nil
	case env == s.Env && overlay[estate.File] == nil && len(s.Wards) == len(s.Estate.Wards):
		return s.with(overlay), nil
	}
	c := s.config
	c.Env, c.Wards, c.Overlay = env, nil, overlay
	opened, err := Open(ctx, c)
	if opened != nil {
		s.CloseLater(opened.Close)
	}
	return opened, err
}

// found lists what no ledger of the estate records.
func (s *Session) found(ctx context.Context, r FoundRequest, where func(string, adopt.Thing) (bool, error)) (*adopt.Found,
	error) {
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	recorded := s.thingsElsewhere(ctx, false)
	c := s.Catalogs[r.Driver]
	lists := map[string][]adopt.Thing{}
	var mu sync.Mutex
	g, listing := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, name := range c.Names() {
		typ := c.Types[name]
		if typ.Unshown {
			continue
		}
		g.Go(func() error {
			var list []adopt.Thing
			for l, err := range s.Drivers[r.Driver].List(listing, name) {
				if err != nil {
					return fmt.Errorf("reading the list of %s.%s: %w", r.Driver, name, err)
				}
				list = append(list, adopt.Thing{Type: typ, ID: l.ID, Attributes: l.Attributes})
			}
			mu.Lock()
			defer mu.Unlock()
			lists[name] = list
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	out := &adopt.Found{Env: s.Env, Others: map[string]adopt.Thing{}, Declared: map[string]bool{}, Instances: map[string]bool{},
		Names: strings.NewReplacer("{estate}", s.Estate.Name, "{env}", s.Env, "{ward}", r.Ward).Replace(s.Estate.Names)}
	bindings, err := s.declaredIn(ctx, r, out)
	if err != nil {
		return nil, err
	}
	out.Managed = s.managed(states, r, recorded, bindings)
	mine := s.ownedHere(r, lists)
	for _, name := range value.Keys(lists) {
		for _, t := range lists[name] {
			if recorded[r.Driver+"."+name+" "+t.ID] != "" || !mine(name, t.ID) {
				continue
			}
			take := len(r.Types) == 0 || slices.Contains(r.Types, name)
			if take {
				if take, err = where(r.Driver, t); err != nil {
					return nil, err
				}
			}
			if take {
				out.Things = append(out.Things, t)
			} else {
				out.Others[name+" "+t.ID] = t
			}
		}
	}
	return out, nil
}

// declaredIn finds what a ward declares already, and the names by which its files bind resources; none
// where it has no file yet.
func (s *Session) declaredIn(ctx context.Context, r FoundRequest, into *adopt.Found) (map[string]declare.Binding, error) {
	files, err := filepath.Glob(filepath.Join(s.Estate.Dir, filepath.FromSlash(s.Estate.Folder(r.Ward)), "*.star"))
	if err != nil || len(files) == 0 {
		return nil, err
	}
	o, err := s.Options(ctx, s.Others())
	if err != nil {
		return nil, err
	}
	o.Bindings = true
	d, problems := declare.Evaluate(ctx, o)
	if err := problems.Err(); err != nil {
		return nil, err
	}
	for _, w := range d.Wards {
		if w.Name != r.Ward {
			continue
		}
		for _, d := range w.Resources {
			if len(d.Within) > 0 {
				into.Instances[d.Within[0].Name] = true
			} else if d.Driver == r.Driver {
				into.Declared[d.Type.Name+" "+d.Name] = true
			}
		}
		return w.Bindings, nil
	}
	return nil, nil
}

// ownedHere tells which things are of this environment, where others have the same cloud.
func (s *Session) ownedHere(r FoundRequest, lists map[string][]adopt.Thing) func(typ, id string) bool {
	var envs []string // those that are asked for first: what tells nothing is of the first
	for _, env := range append(slices.Clone(r.Envs), s.Estate.Environments()...) {
		if !slices.Contains(envs, env) && sameCloud(s.Estate.Driver(r.Driver, s.Env), s.Estate.Driver(r.Driver, env)) {
			envs = append(envs, env)
		}
	}
	if len(envs) == 1 {
		return func(string, string) bool { return true }
	}
	var all []adopt.Thing
	for _, name := range value.Keys(lists) {
		all = append(all, lists[name]...)
	}
	owners := adopt.Owners(all, envs)
	return func(typ, id string) bool { return owners[typ+" "+id] == s.Env }
}

// managed says how a thing is written that the estate records: by the name that a file of the ward
// binds, or as a value that another ward publishes.
func (s *Session) managed(states map[string]*ledger.State, r FoundRequest, recorded map[string]string,
	bindings map[string]declare.Binding) func(typ, id string) adopt.Managed {
	by := map[string]string{}
	for _, ward := range value.Keys(states) {
		if ward == r.Ward {
			continue
		}
		for _, name := range value.Keys(states[ward].Values.Published) {
			if id, ok := states[ward].Values.Published[name].(string); ok && by[id] == "" {
				by[id] = fmt.Sprintf("published(%q, %q)", ward, name)
			}
		}
	}
	return func(typ, id string) adopt.Managed {
		where := recorded[r.Driver+"."+typ+" "+id]
		if where == "" {
			return adopt.Managed{}
		}
		full, _ := strings.CutSuffix(where, " in "+s.Env)
		out := adopt.Managed{Where: where, Code: by[id]}
		if ward, address := value.SplitWard(full); ward == r.Ward && bindings[address].Name != "" {
			b := bindings[address]
			out.File, out.Name, out.Code = b.File, b.Name, b.Rest
		}
		return out
	}
}

// given refuses secrets that code needs and that cannot be had in the environment.
func (s *Session) given(ctx context.Context, w *adopt.Written) error {
	refused := &enact.Refused{}
	for _, x := range w.Secrets {
		if _, err := s.Secrets.Text(ctx, x.Name); err != nil {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("the secret %s, as %s of %s: %v; %s", x.Name, x.Attribute,
				x.Address, err, declare.SecretHint(x.Name, s.Env)))
		}
	}
	if refused.Reasons == nil {
		return nil
	}
	return refused
}

// seen are things as a proposal compares them.
func seen(drv string, things []adopt.Thing) propose.Live {
	out := propose.Live{}
	for _, t := range things {
		typ := drv + "." + t.Type.Name
		if out[typ] == nil {
			out[typ] = map[string]propose.Thing{}
		}
		out[typ][t.ID] = propose.ThingOf(driver.Live{ID: t.ID, Attributes: t.Attributes})
	}
	return out
}

// prove proposes to adopt, and fails where the proposal would do anything else. What is adopted is gathered
// while the code is evaluated.
func (s *Session) prove(ctx context.Context, adopting func() *Adopting) error {
	others := s.Others()
	var a *Adopting
	var beside sync.WaitGroup
	beside.Go(func() { a = adopting() })
	e, err := s.EvaluateRight(ctx, others)
	beside.Wait()
	if err != nil {
		return err
	}
	states, err := s.States(ctx)
	if err != nil {
		return err
	}
	p, err := s.ProposeFrom(ctx, others, e, states, Request{Rehearse: "never", Adopt: a})
	if err != nil {
		return err
	}
	if err := enact.Blocked(p); err != nil {
		return err
	}
	for _, act := range p.Actions {
		if act.Kind != propose.Adopt {
			return fmt.Errorf("%s would be %s", act.Full(), act.Kind)
		}
	}
	if len(p.Actions) != len(a.Things) {
		return fmt.Errorf("%d of %d things would be adopted", len(p.Actions), len(a.Things))
	}
	return nil
}
