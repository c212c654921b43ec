package session

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/kits"
)

// Kits are the kits of an estate, opened to be looked at, tested and placed.
type Kits struct {
	*Session
	options declare.Options
	opener  *kits.Opener
}

// OpenKits opens the kits of the estate around a folder, in the first environment when none is
// named. Outside of an estate there are none, but a kit in a folder can be looked at with the
// simulated cloud. They are to be closed, also after an error that comes with them.
func OpenKits(ctx context.Context, c Config) (*Kits, error) {
	k := &Kits{}
	var err error
	if _, outside := estate.Find(c.Dir); outside == nil {
		c.AnyEnv = true
		k.Session, err = Open(ctx, c)
	} else {
		k.Session, err = openKit(ctx, c)
	}
	if err != nil {
		return k, err
	}
	if k.opener, err = kits.New(k.Estate.Dir); err != nil {
		return k, err
	}
	k.options, err = k.Options(ctx, k.Others())
	return k, err
}

// List lists the kits that kasbah.toml names.
func (k *Kits) List() declare.KitList {
	d := declare.KitList{Format: "kasbah.kits/1", Env: k.Env, Kits: []declare.KitDoc{}}
	for _, name := range value.Keys(k.options.Kits) {
		d.Kits = append(d.Kits, declare.NewKitDoc(k.options.Kits[name], k.Estate.Kits(k.Env)[name], k.opener.Pins))
	}
	return d
}

// Describe is one kit with its functions and, where it has a repository, its versions.
func (k *Kits) Describe(ctx context.Context, name string) (declare.KitList, error) {
	list := declare.KitList{Format: "kasbah.kits/1", Env: k.Env}
	kit, err := k.named(name)
	if err != nil {
		return list, err
	}
	src := k.Estate.Kits(k.Env)[kit.Name]
	d := declare.NewKitDoc(kit, src, k.opener.Pins)
	functions, problems := declare.DescribeKit(ctx, k.options, kit)
	if problems.Wrong() > 0 {
		return list, problems
	}
	for _, f := range functions {
		d.Functions = append(d.Functions, declare.NewFunctionDoc(f))
	}
	if src.Git != "" {
		if d.Versions, err = k.opener.Versions(ctx, src); err != nil {
			k.tell("its versions cannot be read: %v", err)
		}
	}
	list.Kits = []declare.KitDoc{d}
	return list, nil
}

// Check runs the tests of kits: by their names in the estate, by folders below dir, or of all
// kits of the estate. It returns how many kits that were, and what is wrong.
func (k *Kits) Check(ctx context.Context, dir string, names []string) (declare.KitTests, int, problem.List, error) {
	if len(names) == 0 {
		names = value.Keys(k.options.Kits)
	}
	var sum declare.KitTests
	var problems problem.List
	for _, name := range names {
		kit, err := k.at(dir, name)
		if err != nil {
			return sum, 0, nil, err
		}
		_, wrong := declare.DescribeKit(ctx, k.options, kit)
		tests, more := declare.TestKit(ctx, k.options, kit)
		sum.Files, sum.Passed = sum.Files+tests.Files, sum.Passed+tests.Passed
		wrong = append(append(wrong, more...), tests.Failed...)
		for _, p := range wrong { // tests know their files by the kit's folder
			if !strings.HasPrefix(p.Position.File, "k") {
				p.Position.File = "kit:" + kit.Name + "/" + p.Position.File
			}
		}
		if tests.Files == 0 {
			k.tell("kit %s has no tests: they belong in its folder tests", kit.Name)
		}
		problems = append(problems, wrong...)
	}
	problems.Sort()
	return sum, len(names), problems, nil
}

// Instance is the use of a kit's function that is to be written into a ward: the only one when
// none is named. function may be left out where the kit has one, or one of its own name.
func (k *Kits) Instance(ctx context.Context, kit, function, ward, name string) (*kits.Instance, error) {
	if !estate.IsName(name) {
		return nil, problem.Usage("%q cannot name an instance: use a-z, 0-9 and -, starting with a letter", name)
	}
	in := &kits.Instance{Name: name, Ward: ward}
	var err error
	if in.Kit, err = k.named(kit); err != nil {
		return nil, err
	}
	if wards := k.Estate.Wards; in.Ward == "" {
		if len(wards) != 1 {
			return nil, &problem.UsageError{Message: "into which ward?", Hint: "-ward " + strings.Join(wards, ", -ward ")}
		}
		in.Ward = wards[0]
	}
	if !estate.IsName(in.Ward) {
		return nil, problem.Usage("%q cannot name a ward: use a-z, 0-9 and -, starting with a letter", in.Ward)
	}
	in.Folder = k.Estate.Folder(in.Ward)
	functions, problems := declare.DescribeKit(ctx, k.options, in.Kit)
	if problems.Wrong() > 0 {
		return nil, problems
	}
	var names []string
	for _, f := range functions {
		names = append(names, f.Name)
		if f.Name == function || function == "" && (len(functions) == 1 || f.Name == kit) {
			in.Function = f
		}
	}
	if in.Function.Name == "" {
		return nil, &problem.UsageError{Message: fmt.Sprintf("kit %s has no function %q", kit, function),
			Hint: "there is " + strings.Join(names, ", ")}
	}
	return in, nil
}

// named is one of the estate's kits, usable.
func (k *Kits) named(name string) (*declare.Kit, error) {
	kit := k.options.Kits[name]
	switch {
	case kit == nil:
		all := value.Keys(k.options.Kits)
		hint := nearest.Hint(name, all)
		if hint == "" && len(all) > 0 {
			hint = "there is " + strings.Join(all, ", ")
		}
		return nil, &problem.UsageError{Message: "kasbah.toml names no kit " + name + " under [kits]", Hint: hint}
	case kit.Err != nil:
		return nil, problem.At(k.Estate.Kits(k.Env)[name].Position, "kit %s: %v", name, kit.Err)
	}
	return kit, nil
}

// at is a kit by its name in the estate, or the one in a folder.
func (k *Kits) at(dir, name string) (*declare.Kit, error) {
	if filepath.IsAbs(name) {
		dir = name
	} else {
		dir = filepath.Join(dir, name)
	}
	_, err := os.Stat(filepath.Join(dir, estate.KitFile))
	if err != nil && strings.ContainsAny(name, `/\.`) {
		return nil, problem.Usage("%s holds no %s", name, estate.KitFile)
	}
	if k.options.Kits[name] != nil || err != nil {
		return k.named(name)
	}
	kit, err := kits.Read("", dir)
	if err != nil {
		return nil, err
	}
	k.CloseLater(kit.Root.Close)
	return kit, nil
}

// KitPreview is what an update of a kit comes to in one environment.
type KitPreview struct {
	Problems problem.List          // of declarations, with the new version
	Inputs   []declare.InputChange // of the kit
	Before   *propose.Proposal     // without the update; nil where none can be made
	After    *propose.Proposal     // nil where there are problems
}

// PreviewKit is what an update of a kit comes to in the session's environment.
func (s *Session) PreviewKit(ctx context.Context, u *kits.Update, r Request) (*KitPreview, error) {
	others := s.Others()
	o, err := s.Options(ctx, others)
	if err != nil {
		return nil, err
	}
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	out := &KitPreview{}
	e, err := s.Evaluate(ctx, others)
	if err != nil {
		return nil, err
	}
	if e.Problems.Wrong() == 0 {
		if out.Before, err = s.ProposeFrom(ctx, others, e, states, r); err != nil {
			return nil, err
		}
	}
	k, err := kits.Read(u.Pin.Name, u.Dir)
	if err != nil {
		return nil, err
	}
	s.CloseLater(k.Root.Close)
	now, problems := declare.DescribeKit(ctx, o, k)
	if problems.Wrong() > 0 {
		out.Problems = problems
		return out, nil
	}
	if old := o.Kits[u.Pin.Name]; old != nil && old.Err == nil {
		if was, wrong := declare.DescribeKit(ctx, o, old); wrong.Wrong() == 0 {
			out.Inputs = declare.CompareInputs(was, now)
		}
	}
	o.Kits = maps.Clone(o.Kits)
	o.Kits[u.Pin.Name] = k
	if e, err = s.EvaluateWith(ctx, o); err != nil || e.Problems.Wrong() > 0 {
		if e != nil {
			out.Problems = e.Problems
		}
		return out, err
	}
	out.After, err = s.ProposeFrom(ctx, others, e, states, r)
	return out, err
}
