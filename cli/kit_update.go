package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/render"
	"kasbah/session"
)

func kitUpdateCommand() *command {
	var to string
	var f proposeFlags
	return &command{
		Name: "kit update", Short: "take another version of a kit, or pin it, after showing what would change",
		Args: "NAME", Estate: true,
		Long: "Shows what would change in each environment with the newer version, asks, and then writes " +
			"the tag and the pin.",
		Examples: [2]string{"kasbah kit update beam", "kasbah kit update beam -to v1.3.0 -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&to, "to", "", "this `tag`; the newest version when left out")
			fs.BoolVar(&f.Offline, "offline", false, "compare with the ledger alone")
			fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
		},
		Takes: exactly(1, "one kit"),
		Run: func(ctx context.Context, a *app, args []string) error {
			u, err := a.newUpdate(ctx, args[0], to)
			if err != nil || u == nil {
				return err
			}
			return u.run(ctx, f)
		},
	}
}

// update shows a change of one kit's version or pin, and writes it.
type update struct {
	a *app
	*kits.Update
}

// newUpdate finds out what to update to; nil when there is nothing to do.
func (a *app) newUpdate(ctx context.Context, name, tag string) (*update, error) {
	e, err := session.FindEstate(a.dir)
	if err != nil {
		return nil, err
	}
	u, err := kits.FindUpdate(ctx, e, a.env, name, tag)
	if err != nil {
		return nil, err
	}
	switch {
	case u.From.InEstate():
		a.out().Printf("%s is a folder of the estate, %s: it is kept with the estate and needs no pin.\n", name,
			u.From.Folder)
		return nil, nil
	case u.Newest:
		a.out().Printf("%s %s is the newest, and pinned.\n", name, u.Pin.Version)
		return nil, nil
	}
	return &update{a, u}, nil
}

// run shows what would change, asks, and writes.
func (u *update) run(ctx context.Context, f proposeFlags) error {
	out := u.a.out()
	name, old := u.Pin.Name, u.Pinned
	switch {
	case old == nil:
		out.Printf("%s %s, from %s: not pinned yet.\n", name, u.Pin.Version, u.To)
	case u.From.Tag == u.To.Tag:
		out.Printf("%s, from %s: the pin says %s %s, and the source holds %s %s.\n", name, u.To, old.Version,
			old.Digest, u.Pin.Version, u.Pin.Digest)
	default:
		out.Printf("%s: %s becomes %s.\n", name, u.From.Tag, u.To.Tag)
	}
	var wrong problem.List
	for _, env := range u.Envs {
		problems, err := u.show(ctx, env, f, env == u.Envs[0])
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
	wrote, err := u.Write()
	if err != nil {
		return err
	}
	out.Printf("wrote %s\n", strings.Join(wrote, ", "))
	return nil
}

// show previews one environment with the new version.
func (u *update) show(ctx context.Context, env string, f proposeFlags, first bool) (problem.List, error) {
	a := u.a
	s, err := a.openWith(ctx, a.config(env, nil))
	if err != nil {
		return nil, err
	}
	others := s.Others()
	o, err := s.Options(ctx, others)
	if err != nil {
		return nil, err
	}
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	var before *propose.Proposal // nil when there is none to make
	e, err := s.Evaluate(ctx, others)
	if err != nil {
		return nil, err
	}
	if e.Problems.Wrong() == 0 {
		if before, err = s.ProposeFrom(ctx, others, e, states, f.Request); err != nil {
			return nil, err
		}
	}
	k, err := kits.Read(u.Pin.Name, u.Dir)
	if err != nil {
		return nil, err
	}
	s.CloseLater(k.Root.Close)
	if first {
		if problems, err := u.inputs(ctx, o, o.Kits[u.Pin.Name], k); err != nil || problems.Wrong() > 0 {
			return problems, err
		}
	}
	o.Kits = maps.Clone(o.Kits)
	o.Kits[u.Pin.Name] = k
	e, err = s.EvaluateWith(ctx, o)
	if err != nil || e.Problems.Wrong() > 0 {
		return e.Problems, err
	}
	after, err := s.ProposeFrom(ctx, others, e, states, f.Request)
	if err != nil {
		return nil, err
	}
	a.out().Printf("\n")
	a.out().Proposal(after, render.ProposalOptions{Full: f.full})
	switch {
	case before == nil:
		a.out().Printf("Without this version nothing can be proposed: the kit cannot be used as it is.\n")
	case before.Counts.Changing() > 0:
		a.out().Printf("%s of these would change without the update as well.\n",
			render.Count(propose.CommonActions(before, after), "action"))
	}
	return nil, nil
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
