package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// AffectedSince compares what is declared with what a commit declares, in one environment where one is named, else
// in each that has a section. It reads neither a ledger nor a cloud. Wards whose files and inputs are the same are
// not evaluated.
func AffectedSince(ctx context.Context, c Config, rev string) (d *declare.AffectedDocument, err error) {
	e, err := FindEstate(c.Dir)
	if err != nil {
		return nil, err
	}
	if c.Wards, err = chooseWards(e, c.Wards); err != nil {
		return nil, err
	}
	envs := e.Environments()
	if named := cmp.Or(c.Env, os.Getenv("KASBAH_ENV")); SeveralEnvironments(named) {
		if envs, err = chosen(e, envs, named); err != nil { // no store is asked which ones patterns have made
			return nil, err
		}
	} else if named != "" {
		if _, err := chooseEnvironment(e, c.Env); err != nil {
			return nil, err
		}
		envs = []string{named}
	}
	was, err := atRevision(ctx, e.Dir, rev)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, was.Close()) }()
	d = &declare.AffectedDocument{Format: declare.AffectedFormat, Since: rev, Commit: was.commit,
		Envs: []declare.AffectedEnv{}}
	for _, env := range envs {
		c.Env = env
		wards, err := affectedIn(ctx, c, was)
		if err != nil {
			return nil, err
		}
		d.Envs = append(d.Envs, declare.AffectedEnv{Env: env, Wards: wards})
	}
	return d, nil
}

// affectedIn compares one environment.
func affectedIn(ctx context.Context, c Config, was *revision) (wards []*declare.Affected, err error) {
	c.Bare = true
	chosen := c.Wards
	c.Wards = nil
	s, err := Open(ctx, c)
	if s != nil {
		defer func() { err = errors.Join(err, s.Close()) }()
	}
	if err != nil {
		return nil, err
	}
	c.Beside, c.Dir, c.Unpinned = s.Estate.Dir, was.dir, true
	if !hasEnvironment(was.dir, c.Env) {
		return s.allAffected(chosen, "the environment "+c.Env+" is new"), nil
	}
	old, err := Open(ctx, c)
	if old != nil {
		defer func() { err = errors.Join(err, old.Close()) }()
	}
	if err != nil {
		return s.allAffected(chosen, "what was declared cannot be read: "+err.Error()), nil
	}
	x := &comparing{is: s, was: old, done: map[string]*declare.Affected{}}
	if x.now, err = s.Options(ctx, s.Others()); err != nil {
		return nil, err
	}
	if x.then, err = old.Options(ctx, s.Others()); err != nil {
		return s.allAffected(chosen, "what was declared cannot be read: "+err.Error()), nil
	}
	if err := x.compare(ctx, was.moved); err != nil {
		return nil, err
	}
	all := append(slices.Clone(s.Estate.Wards), slices.DeleteFunc(slices.Clone(old.Estate.Wards), s.Estate.HasWard)...)
	wards = []*declare.Affected{}
	for _, ward := range all {
		a := cmp.Or(x.done[ward], &declare.Affected{Ward: ward, New: []string{}, Edit: []string{}, Drop: []string{},
			Published: []string{}})
		a.Because = append(a.Because, x.settings(ward)...)
		if a.Differs() && (slices.Contains(chosen, ward) || !s.Estate.HasWard(ward)) {
			wards = append(wards, a)
		}
	}
	return wards, nil
}

func hasEnvironment(dir, env string) bool {
	e, err := estate.Load(dir)
	return err != nil || e.HasEnvironment(env) // what is wrong is told when it is opened
}

// allAffected are all wards, for one reason.
func (s *Session) allAffected(wards []string, because string) []*declare.Affected {
	var out []*declare.Affected
	for _, ward := range wards {
		out = append(out, &declare.Affected{Ward: ward, New: []string{}, Edit: []string{}, Drop: []string{},
			Published: []string{},
			Because:   []string{because}})
	}
	return out
}

// comparing compares two trees of one estate.
type comparing struct {
	is, was   *Session
	now, then declare.Options
	done      map[string]*declare.Affected // wards that were compared
}

// compare compares the wards that changed files may move, and those that may read what these publish in another
// way, until no further one is left.
func (x *comparing) compare(ctx context.Context, moved []string) error {
	todo := append(x.now.Suspects(moved), x.then.Suspects(moved)...)
	if !sameWards(x.is.Estate, x.was.Estate) { // a folder's ward has another name now, or is one only now
		todo = append(slices.Clone(x.is.Estate.Wards), x.was.Estate.Wards...)
	}
	for len(todo) > 0 {
		slices.Sort(todo)
		todo = slices.Compact(todo)
		if err := x.evaluate(ctx, todo); err != nil {
			return err
		}
		told := map[string]bool{} // those whose values moved
		for _, ward := range todo {
			told[ward] = len(x.done[ward].Published) > 0
		}
		todo = nil
		for _, o := range []declare.Options{x.now, x.then} {
			for _, ward := range o.Estate.Wards {
				if x.done[ward] != nil {
					continue
				}
				reads, err := o.MayRead(ward, told)
				if err != nil {
					return err
				}
				if reads && slices.ContainsFunc(value.Keys(told), func(w string) bool { return told[w] }) {
					todo = append(todo, ward)
				}
			}
		}
	}
	return nil
}

// evaluate evaluates wards in both trees at once and compares them.
func (x *comparing) evaluate(ctx context.Context, wards []string) error {
	var is, was *declare.Declared
	var wrong, wasWrong problem.List
	var both sync.WaitGroup
	in := func(e *estate.Estate) []string {
		return slices.DeleteFunc(slices.Clone(wards), func(w string) bool { return !e.HasWard(w) })
	}
	both.Go(func() { was, wasWrong = x.then.Along(ctx, in(x.was.Estate)) })
	is, wrong = x.now.Along(ctx, in(x.is.Estate))
	both.Wait()
	if wrong.Wrong() > 0 {
		return wrong
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	for _, ward := range wards {
		if wasWrong.Wrong() > 0 {
			x.done[ward] = x.is.allAffected([]string{ward}, "what was declared is wrong: "+wasWrong[0].Error())[0]
			continue
		}
		x.done[ward] = declare.Compare(ward, was.WardNamed(ward), is.WardNamed(ward))
	}
	return nil
}

// settings says what else is to hold for a ward that did not.
func (x *comparing) settings(ward string) (because []string) {
	env := x.is.Env
	if !x.was.Estate.HasWard(ward) || !x.is.Estate.HasWard(ward) {
		return nil
	}
	for _, name := range x.is.Estate.Drivers() {
		if !value.Equal(x.is.Estate.Driver(name, env), x.was.Estate.Driver(name, env)) {
			because = append(because, "the settings of the driver "+name+" are others")
		}
	}
	if !value.Equal(x.is.Estate.Ledger(env), x.was.Estate.Ledger(env)) || !slices.Equal(x.is.Estate.Writers(env, ward),
		x.was.Estate.Writers(env, ward)) {
		because = append(because, "the settings of the ledger are others")
	}
	is, err := x.is.Estate.Approval(env, ward)
	was, wasErr := x.was.Estate.Approval(env, ward)
	if err == nil && (wasErr != nil || is.Digest() != was.Digest()) {
		because = append(because, "who must sign changes is another")
	}
	return because
}

// sameWards reports whether two estates have the same wards in the same folders.
func sameWards(a, b *estate.Estate) bool {
	return slices.Equal(a.Wards, b.Wards) && !slices.ContainsFunc(a.Wards,
		func(w string) bool { return a.Folder(w) != b.Folder(w) })
}

// NarrowedSince are the wards of a session that are affected since a commit. It tells which are not.
func NarrowedSince(ctx context.Context, c Config, rev string) ([]string, error) {
	e, err := FindEstate(c.Dir)
	if err != nil {
		return nil, err
	}
	if c.Env, err = chooseEnvironment(e, c.Env); err != nil {
		return nil, err
	}
	all, err := chooseWards(e, c.Wards)
	if err != nil {
		return nil, err
	}
	d, err := AffectedSince(ctx, c, rev)
	if err != nil {
		return nil, err
	}
	names := d.Names()
	wards := slices.DeleteFunc(slices.Clone(all), func(w string) bool { return !slices.Contains(names, w) })
	left := slices.DeleteFunc(slices.Clone(all), func(w string) bool { return slices.Contains(names, w) })
	switch {
	case len(wards) == 0:
		c.Tell(fmt.Sprintf("No ward is affected since %s: nothing is proposed.", rev))
	case len(left) > 0:
		c.Tell(fmt.Sprintf("Left out, as nothing that they declare is another than at %s: %s.", rev,
			strings.Join(left, ", ")))
	}
	return wards, nil
}
