package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/render"
	"kasbah/session"
)

func kitListCommand() *command {
	return &command{
		name: "kit list", line: "list the kits of the estate, and whether they are pinned", common: true,
		examples: [2]string{"kasbah kit list", "kasbah kit list -env live -json"},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) > 0 {
				return problem.Usage("kit list takes no arguments")
			}
			p, o, err := a.kitOptions(ctx)
			if err != nil {
				return err
			}
			opener, err := kits.New(p.Estate.Dir)
			if err != nil {
				return err
			}
			d := render.KitsDocument{Format: "kasbah.kits/1", Env: p.Env, Kits: []render.KitDoc{}}
			for _, name := range value.Keys(o.Kits) {
				d.Kits = append(d.Kits, newKitDoc(o.Kits[name], p.Estate.Kits(p.Env)[name], opener.Pins))
			}
			if a.json {
				return a.document(d)
			}
			if len(d.Kits) == 0 {
				a.out().Printf("The estate uses no kits: [kits] in kasbah.toml names them.\n")
				return nil
			}
			a.out().Kits(d)
			return nil
		},
	}
}

func newKitDoc(k *declare.Kit, src estate.KitSource, pins *estate.Pins) render.KitDoc {
	d := render.KitDoc{Name: k.Name, Version: k.Version, Help: k.Help, Source: src.String(), Drivers: k.Drivers, Kits: k.Kits}
	if d.Drivers == nil {
		d.Drivers = []string{}
	}
	if d.Kits == nil {
		d.Kits = []string{}
	}
	if pin := pins.Of(k.Name, src.String()); pin != nil {
		d.Commit, d.Digest = pin.Commit, pin.Digest
	}
	if k.Err != nil {
		d.Problem = k.Err.Error()
	}
	return d
}

// kitNamed is one of the estate's kits, usable.
func kitNamed(o declare.Options, name string) (*declare.Kit, error) {
	k := o.Kits[name]
	switch {
	case k == nil:
		hint := nearest.Hint(name, value.Keys(o.Kits))
		if hint == "" && len(o.Kits) > 0 {
			hint = "there is " + joinOr(value.Keys(o.Kits))
		}
		return nil, &problem.UsageError{Message: "kasbah.toml names no kit " + name + " under [kits]", Hint: hint}
	case k.Err != nil:
		return nil, problem.At(o.Estate.Kits(o.Env)[name].Position, "kit %s: %v", name, k.Err)
	}
	return k, nil
}

func kitShowCommand() *command {
	return &command{
		name: "kit show", line: "show a kit: its inputs with defaults and limits, and its versions", args: "NAME", common: true,
		examples: [2]string{"kasbah kit show beam", "kasbah kit show beam -json"},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("kit show wants one kit")
			}
			p, o, err := a.kitOptions(ctx)
			if err != nil {
				return err
			}
			k, err := kitNamed(o, args[0])
			if err != nil {
				return err
			}
			opener, err := kits.New(p.Estate.Dir)
			if err != nil {
				return err
			}
			src := p.Estate.Kits(p.Env)[k.Name]
			d := newKitDoc(k, src, opener.Pins)
			functions, problems := declare.DescribeKit(ctx, o, k)
			if problems.Wrong() > 0 {
				return problems
			}
			for _, f := range functions {
				d.Functions = append(d.Functions, render.NewFunctionDoc(f))
			}
			if src.Git != "" {
				if d.Versions, err = opener.Versions(ctx, src); err != nil {
					a.say("its versions cannot be read: %v", err)
				}
			}
			if a.json {
				return a.document(render.KitsDocument{Format: "kasbah.kits/1", Env: p.Env, Kits: []render.KitDoc{d}})
			}
			a.out().Kit(d)
			return nil
		},
	}
}

func kitCheckCommand() *command {
	return &command{
		name: "kit check", line: "check a kit by its own tests, in its folder tests", args: "NAME | FOLDER…", common: true,
		examples: [2]string{"kasbah kit check beam", "kasbah kit check ./kits/beam"},
		run: func(ctx context.Context, a *app, args []string) error {
			p, o, err := a.kitOptions(ctx)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				args = value.Keys(o.Kits)
			}
			var problems problem.List
			var files, passed int
			for _, arg := range args {
				k, err := a.kitAt(p, o, arg)
				if err != nil {
					return err
				}
				_, wrong := declare.DescribeKit(ctx, o, k)
				tests, more := declare.TestKit(ctx, o, k)
				files, passed = files+tests.Files, passed+tests.Passed
				wrong = append(append(wrong, more...), tests.Failed...)
				for _, p := range wrong { // tests know their files by the kit's folder
					if p.Position.File != "" && p.Position.File[0] != 'k' || p.Position.File == "" {
						p.Position.File = "kit:" + k.Name + "/" + p.Position.File
					}
				}
				if tests.Files == 0 {
					a.say("kit %s has no tests: they stand in its folder tests", k.Name)
				}
				problems = append(problems, wrong...)
			}
			problems.Sort()
			if a.json {
				if err := a.document(render.NewCheckDocument(problems)); err != nil {
					return err
				}
			} else {
				a.out().Problems(problems)
				a.out().Printf("%s in %s of %s as expected, %s.\n", render.Count(passed, "expectation"), render.Count(files, "file"), render.Count(len(args), "kit"), render.Count(problems.Wrong(), "problem"))
			}
			if problems.Wrong() > 0 {
				return exitError(exitFailed)
			}
			return nil
		},
	}
}

// kitOptions is what the evaluation of kits needs: from the estate around, or
// from a bare one with Medina when a kit stands alone.
func (a *app) kitOptions(ctx context.Context) (*session.Session, declare.Options, error) {
	var s *session.Session
	var err error
	if _, outside := estate.Find(a.dir); outside == nil {
		s, err = a.openAny(ctx, nil)
	} else {
		s, err = session.OpenKit(ctx, a.config("", nil))
		a.closeLater(s)
	}
	if err != nil {
		return nil, declare.Options{}, err
	}
	o, err := s.Options(ctx, s.Others())
	return s, o, err
}

// kitAt is a kit by its name in the estate, or the one in a folder.
func (a *app) kitAt(p *session.Session, o declare.Options, arg string) (*declare.Kit, error) {
	dir := arg
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(a.dir, dir)
	}
	_, err := os.Stat(filepath.Join(dir, estate.KitFile))
	if err != nil && strings.ContainsAny(arg, `/\.`) {
		return nil, problem.Usage("%s holds no %s", arg, estate.KitFile)
	}
	if o.Kits[arg] != nil || err != nil {
		return kitNamed(o, arg)
	}
	k, err := kits.Read("", dir)
	if err != nil {
		return nil, err
	}
	p.CloseLater(k.Root.Close)
	return k, nil
}
