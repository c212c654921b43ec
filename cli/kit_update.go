package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"

	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/render"
)

func kitUpdateCommand() *command {
	var to string
	var f proposeFlags
	return &command{
		name: "kit update", line: "take another version of a kit, or pin it, after showing what would change", args: "NAME", common: true,
		examples: [2]string{"kasbah kit update beam", "kasbah kit update beam -to v1.3.0 -yes"},
		flags: func(fs *flag.FlagSet) {
			fs.StringVar(&to, "to", "", "this `tag`; the newest version when left out")
			fs.BoolVar(&f.offline, "offline", false, "compare with the ledger alone")
			fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("kit update wants one kit")
			}
			u, err := a.newUpdate(ctx, args[0], to)
			if err != nil || u == nil {
				return err
			}
			return u.run(ctx, f)
		},
	}
}

// update is a change of one kit's version or pin.
type update struct {
	a      *app
	estate *estate.Estate
	opener *kits.Opener
	from   estate.KitSource
	to     estate.KitSource
	pin    estate.Pin // as it will be
	dir    string     // of the new version
	envs   []string   // that use the source
}

// newUpdate finds out what to update to; nil when there is nothing to do.
func (a *app) newUpdate(ctx context.Context, name, tag string) (*update, error) {
	e, err := a.estate()
	if err != nil {
		return nil, err
	}
	u := &update{a: a, estate: e}
	if u.opener, err = kits.New(e.Dir); err != nil {
		return nil, err
	}
	if err := u.source(name); err != nil {
		return nil, err
	}
	u.to = u.from
	switch {
	case u.from.InEstate():
		a.out().Printf("%s is a folder of the estate, %s: it is kept with the estate and needs no pin.\n", name, u.from.Folder)
		return nil, nil
	case u.from.Git == "" && tag != "":
		return nil, problem.Usage("kit %s comes from a folder, which has no tags", name)
	case tag != "":
		u.to.Tag = tag
	case u.from.Git != "":
		versions, err := u.opener.Versions(ctx, u.from)
		if err != nil {
			return nil, err
		}
		if len(versions) > 0 {
			u.to.Tag = versions[len(versions)-1]
		}
	}
	f, err := u.opener.Fetch(ctx, u.to)
	if err != nil {
		return nil, err
	}
	k, err := kits.Read(name, f.Dir)
	if err != nil {
		return nil, err
	}
	defer k.Root.Close()
	u.dir = f.Dir
	u.pin = estate.Pin{Name: name, Source: u.to.String(), Version: k.Version, Commit: f.Commit, Digest: f.Digest}
	if old := u.opener.Pins.Of(name, u.to.String()); old != nil && old.Digest == f.Digest && u.to.Tag == u.from.Tag {
		a.out().Printf("%s %s is the newest, and pinned.\n", name, k.Version)
		return nil, nil
	}
	return u, nil
}

// source is the kit's source in the environment that was asked for, and the
// environments that share it.
func (u *update) source(name string) error {
	found := false
	for _, env := range u.estate.Environments() {
		src, ok := u.estate.Kits(env)[name]
		if !ok || u.a.env != "" && u.a.env != env {
			continue
		}
		if !found {
			u.from, found = src, true
		}
		if src.String() != u.from.String() {
			return problem.Usage("kit %s comes from different sources by environment: name one with -env", name)
		}
		u.envs = append(u.envs, env)
	}
	if !found {
		return &problem.UsageError{Message: "kasbah.toml names no kit " + name + " under [kits]", Hint: "write " + name + " = { git = \"URL\", tag = \"TAG\" } there"}
	}
	return nil
}

// run shows what would change, asks, and writes.
func (u *update) run(ctx context.Context, f proposeFlags) error {
	out := u.a.out()
	name := u.pin.Name
	old := u.opener.Pins.Of(name, u.from.String())
	switch {
	case old == nil:
		out.Printf("%s %s, from %s: not pinned yet.\n", name, u.pin.Version, u.to)
	case u.from.Tag == u.to.Tag:
		out.Printf("%s, from %s: the pin says %s %s, and the source holds %s %s.\n", name, u.to, old.Version, old.Digest, u.pin.Version, u.pin.Digest)
	default:
		out.Printf("%s: %s becomes %s.\n", name, u.from.Tag, u.to.Tag)
	}
	var wrong problem.List
	for _, env := range u.envs {
		problems, err := u.show(ctx, env, f, env == u.envs[0])
		if err != nil {
			return err
		}
		wrong = append(wrong, problems...)
	}
	if wrong.Wrong() > 0 {
		u.a.errs().Problems(wrong)
		u.a.say("Nothing is written: with this version the declarations are wrong.")
		return exitError(exitFailed)
	}
	if err := u.a.flush(); err != nil {
		return err
	}
	if err := u.a.agree(ctx, fmt.Sprintf("Write %s and the pin of %s?", estate.File, name)); err != nil {
		return err
	}
	return u.write()
}

// show previews one environment with the new version.
func (u *update) show(ctx context.Context, env string, f proposeFlags, first bool) (problem.List, error) {
	a := u.a
	a.env = env
	p, err := a.open(ctx, nil)
	if err != nil {
		return nil, err
	}
	before, o, err := u.before(ctx, p, f)
	if err != nil {
		return nil, err
	}
	k, err := kits.Read(u.pin.Name, u.dir)
	if err != nil {
		return nil, err
	}
	oldKit := p.kits[u.pin.Name]
	p.closers = append(p.closers, k.Root.Close)
	if first {
		if problems, err := u.inputs(ctx, o, oldKit, k); err != nil || problems.Wrong() > 0 {
			return problems, err
		}
	}
	p.kits[u.pin.Name] = k
	p.rules = nil
	d, g, problems, err := a.evaluate(ctx, p)
	if oldKit != nil && oldKit.Root != nil {
		p.closers = append(p.closers, oldKit.Root.Close)
	}
	if err != nil || problems.Wrong() > 0 {
		return problems, err
	}
	states, err := p.states(ctx)
	if err != nil {
		return nil, err
	}
	after, err := a.compareNow(ctx, p, d, g, states, f)
	if err != nil {
		return nil, err
	}
	a.out().Printf("\n")
	a.out().Proposal(after, render.ProposalOptions{Full: f.full})
	switch {
	case before == nil:
		a.out().Printf("Without this version nothing can be proposed: the kit cannot be used as it is.\n")
	case before.Counts.Changing() > 0:
		a.out().Printf("%s of these would change without the update as well.\n", render.Count(propose.Shared(before, after), "action"))
	}
	return nil, nil
}

// before is the proposal without the update; nil when there is none to make.
func (u *update) before(ctx context.Context, p *project, f proposeFlags) (*propose.Proposal, declare.Options, error) {
	o, err := u.a.declareOptions(ctx, p)
	if err != nil {
		return nil, o, err
	}
	d, g, problems, err := u.a.evaluate(ctx, p)
	if err != nil || problems.Wrong() > 0 {
		return nil, o, err
	}
	states, err := p.states(ctx)
	if err != nil {
		return nil, o, err
	}
	before, err := u.a.compareNow(ctx, p, d, g, states, f)
	return before, o, err
}

// inputs tells how the kit's inputs change.
func (u *update) inputs(ctx context.Context, o declare.Options, old, k *declare.Kit) (problem.List, error) {
	now, problems := declare.DescribeKit(ctx, o, k)
	if problems.Wrong() > 0 || old == nil || old.Err != nil {
		return problems, nil
	}
	was, problems := declare.DescribeKit(ctx, o, old)
	if problems.Wrong() > 0 {
		return nil, nil // the old one was wrong; the new one is not
	}
	lines := func(list []declare.KitFunction) map[string]string {
		out := map[string]string{}
		for _, f := range list {
			for _, in := range render.NewFunctionDoc(f).Inputs {
				text := in.Kind
				if in.Required {
					text += ", required"
				} else {
					text += ", default " + value.Plain(in.Default.V)
				}
				if in.Limits != "" {
					text += ", " + in.Limits
				}
				out[f.Name+" "+in.Name] = text
			}
		}
		return out
	}
	before, after := lines(was), lines(now)
	for _, name := range value.Keys(after) {
		switch old, ok := before[name]; {
		case !ok:
			u.a.out().Printf("  input %s is new: %s\n", name, after[name])
		case old != after[name]:
			u.a.out().Printf("  input %s: %s; was %s\n", name, after[name], old)
		}
	}
	for _, name := range value.Keys(before) {
		if _, ok := after[name]; !ok {
			u.a.out().Printf("  input %s is gone\n", name)
		}
	}
	return nil, nil
}

// write changes the tag in kasbah.toml and the pin, the pin first: without it
// the new tag would be refused.
func (u *update) write() error {
	u.opener.Pins.Set(u.pin)
	body, err := u.opener.Pins.Encode()
	if err != nil {
		return err
	}
	if err := disk.Replace(filepath.Join(u.estate.Dir, estate.PinsFile), body, 0o644); err != nil {
		return err
	}
	if u.from.Tag != u.to.Tag {
		if err := u.retag(); err != nil {
			return err
		}
		u.a.out().Printf("wrote %s, %s\n", estate.File, estate.PinsFile)
		return nil
	}
	u.a.out().Printf("wrote %s\n", estate.PinsFile)
	return nil
}

// retag rewrites the tag where kasbah.toml gives it, and nothing else.
func (u *update) retag() error {
	path := filepath.Join(u.estate.Dir, estate.File)
	body, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	after, err := estate.WithTag(string(body), u.from, u.to.Tag)
	if err != nil {
		return err
	}
	return disk.Replace(path, []byte(after), 0o644)
}
