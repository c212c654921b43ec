package session

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/settle"
	"kasbah/core/value"
)

// Settling is how the estate's files change so that some differences are settled, and the proof.
type Settling struct {
	*settle.Plan
	Diff  string
	Moves []*propose.Action // what the changes would do to other resources

	Resolution settle.Resolution

	dir string
	was map[string][]byte // the files as they were read
}

// MovesInWords names what else would change; "" for nothing.
func (x *Settling) MovesInWords() string {
	var names []string
	for _, a := range x.Moves {
		names = append(names, fmt.Sprintf("%s %s", a.Kind, a.Full()))
	}
	return strings.Join(names, ", ")
}

// PlanSettle finds out how the estate's files change so that differences are taken over, left to
// others or let go of, and proves it: with the changes every settled resource is as declared. What
// cannot be settled so is among its Decided. Nothing is written.
func (s *Session) PlanSettle(ctx context.Context, list []settle.Difference, resolution settle.Resolution) (*Settling,
	error) {
	return s.planSettle(ctx, Request{}, resolution, func(*propose.Proposal) []settle.Difference { return list })
}

// planSettle is PlanSettle of differences that depend on how things stand: on what a request proposes.
func (s *Session) planSettle(ctx context.Context, r Request, resolution settle.Resolution,
	differences func(p *propose.Proposal) []settle.Difference) (*Settling, error) {
	r.Rehearse = "never"
	others := s.Others()
	e, err := s.EvaluateRight(ctx, others)
	if err != nil {
		return nil, err
	}
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	o, err := s.Options(ctx, others)
	if err != nil {
		return nil, err
	}
	before, err := s.ProposeFrom(ctx, others, e, states, r)
	if err != nil {
		return nil, err
	}
	list := differences(before)
	out := &Settling{Resolution: resolution, dir: s.Estate.Dir, was: map[string][]byte{}}
	src := settle.Sources{Declared: e.Declared, Options: o, Read: out.read, Section: s.inputSection}
	prove := func(list []settle.Difference) (map[string]string, error) {
		var err error
		out.Moves = nil
		if out.Plan, err = settle.Find(src, list, resolution); err != nil || len(out.Files) == 0 {
			return nil, err
		}
		return s.proveSettle(ctx, out, r, before, states)
	}
	var refused []settle.Decided
	if r.Adopt != nil {
		refused, err = out.alone(prove, list)
	} else {
		refused, err = without(prove, list)
	}
	if err != nil {
		return nil, err
	}
	out.Decided = append(out.Decided, refused...)
	out.Diff, err = out.Plan.Diff(out.read)
	return out, err
}

// without finds which differences a proof says that changes do not settle.
func without(prove func([]settle.Difference) (map[string]string, error), list []settle.Difference) ([]settle.Decided, error) {
	var refused []settle.Decided
	for {
		wrong, err := prove(list)
		if err != nil || len(wrong) == 0 {
			return refused, err
		}
		list = slices.DeleteFunc(slices.Clone(list), func(d settle.Difference) bool {
			why := wrong[d.Full()]
			if why != "" {
				refused = append(refused, settle.Decided{Difference: d, Err: errors.New(why)})
			}
			return why != ""
		})
	}
}

// alone finds which resources no change settles without moving others, by halves. It leaves the plan of
// the rest.
func (x *Settling) alone(prove func([]settle.Difference) (map[string]string, error), list []settle.Difference) (
	refused []settle.Decided, err error) {
	by := map[string][]settle.Difference{}
	for _, d := range list {
		by[d.Full()] = append(by[d.Full()], d)
	}
	var sure []settle.Difference
	var add func(full []string) error
	add = func(full []string) error {
		all := slices.Clone(sure)
		for _, address := range full {
			all = append(all, by[address]...)
		}
		wrong, err := prove(all)
		switch {
		case err != nil:
			return err
		case len(wrong)+len(x.Moves) == 0:
			sure = all
			return nil
		case len(full) > 1:
			half := len(full) / 2
			return errors.Join(add(full[:half]), add(full[half:]))
		}
		why := wrong[full[0]]
		if why == "" {
			why = "the same line also decides " + joined(x.Moves, wrong)
		}
		for _, d := range by[full[0]] {
			refused = append(refused, settle.Decided{Difference: d, Err: errors.New(why)})
		}
		return nil
	}
	if err := add(addressesOf(list)); err != nil || refused == nil {
		return nil, err
	}
	_, err = prove(sure)
	return refused, err
}

// joined names what changes of one resource would move.
func joined(moves []*propose.Action, wrong map[string]string) string {
	names := value.Keys(wrong)
	for _, a := range moves {
		names = append(names, a.Full())
	}
	slices.Sort(names)
	if names = slices.Compact(names); len(names) > 3 {
		names = append(names[:2], fmt.Sprintf("%d more", len(names)-2))
	}
	return strings.Join(names, ", ")
}

// inputSection is the table of kasbah.toml where an input gets another value, for its ward alone or
// for all that have it from the same place: where it is given, unless another environment has its
// value from there, too. "" is for the input's default.
func (s *Session) inputSection(in *declare.InputValue, alone bool) string {
	elsewhere := func(env string) bool { return env != s.Env && !s.Estate.OwnInput(env, in.Ward, in.Name) }
	shared := (in.Given == "" || in.Given == "inputs") && slices.ContainsFunc(s.Estate.Environments(), elsewhere)
	foreign := strings.HasPrefix(in.Given, "env.") && !strings.HasPrefix(in.Given,
		"env."+s.Env+".") // it is like another one
	switch {
	case alone:
		return "env." + s.Env + ".ward." + in.Ward + ".inputs"
	case shared, foreign, in.Given == "" && in.Default == nil:
		return "env." + s.Env + ".inputs"
	}
	return in.Given
}

// path is where a file of the estate is.
func (x *Settling) path(file string) string { return filepath.Join(x.dir, filepath.FromSlash(file)) }

// read reads a file of the estate, once: the changes are made from that text.
func (x *Settling) read(file string) ([]byte, error) {
	if body, ok := x.was[file]; ok {
		return body, nil
	}
	body, err := os.ReadFile(x.path(file))
	if err == nil {
		x.was[file] = body
	}
	return body, err
}

// proveSettle proposes with the changed files. It returns why settled resources are not as they
// should be, by full address, and notes what happens to others.
func (s *Session) proveSettle(ctx context.Context, x *Settling, r Request, before *propose.Proposal,
	states map[string]*ledger.State) (map[string]string, error) {
	c := s.config
	c.Env, c.Wards, c.Overlay = s.Env, s.Wards, x.Files
	after, err := Open(ctx, c)
	if after != nil {
		s.CloseLater(after.Close)
	}
	if err != nil {
		return nil, err
	}
	others := after.Others()
	e, err := after.Evaluate(ctx, others)
	if err != nil {
		return nil, err
	}
	if e.Problems.Wrong() > 0 {
		return s.wrongWith(x, e.Problems)
	}
	p, err := after.ProposeFrom(ctx, others, e, states, r)
	if err != nil {
		return nil, err
	}
	settled := map[string][]string{} // the paths that are settled
	for _, d := range x.Settled {
		settled[d.Full()] = append(settled[d.Full()], d.Path)
	}
	wrong := map[string]string{}
	was := map[string]*propose.Action{}
	for _, a := range before.Actions {
		was[a.Full()] = a
	}
	for _, a := range p.Actions {
		if paths := settled[a.Full()]; paths != nil && x.Resolution == settle.TakeOver {
			if why := notSame(was[a.Full()], a, paths); why != "" {
				wrong[a.Full()] = why
			}
		}
	}
	for _, a := range propose.OtherActions(before, p) {
		if settled[a.Full()] == nil {
			x.Moves = append(x.Moves, a)
		}
	}
	return wrong, nil
}

// notSame says why an action shows that paths of a resource are not settled; "" where they are.
// What else is to change of it was so before.
func notSame(was, is *propose.Action, paths []string) string {
	if is.Kind == propose.Same || is.Kind == propose.Drop && slices.Contains(paths, "") {
		return ""
	}
	before := map[string]string{}
	if was != nil {
		for _, c := range was.Changes {
			before[c.Path] = string(value.Encode(c.WillBe.V))
		}
	}
	for _, c := range is.Changes {
		if before[c.Path] != string(value.Encode(c.WillBe.V)) || slices.Contains(paths, c.Path) {
			return fmt.Sprintf("with the change it would still not be as it is live: %s would become %s", c.Path,
				value.Plain(c.WillBe.V))
		}
	}
	if was != nil && was.Kind != is.Kind {
		return fmt.Sprintf("with the change it would become %s", is.Kind)
	}
	return ""
}

// wrongWith says which settled resources have problems with the changed files. Problems of
// nothing that is settled are an error.
func (s *Session) wrongWith(x *Settling, problems problem.List) (map[string]string, error) {
	wrong := map[string]string{}
	for _, d := range x.Settled {
		for _, p := range problems {
			if p.Level == problem.Wrong && p.Ward == d.Resource.Ward && p.Address == d.Resource.Address {
				wrong[d.Full()] = p.Message
			}
		}
	}
	if len(wrong) == 0 {
		return nil, problems
	}
	return wrong, nil
}

// Write writes the changed files, all of them or none. It returns their names. A file that was
// changed since it was read is refused.
func (x *Settling) Write() ([]string, error) {
	names := value.Keys(x.Files)
	for _, file := range names {
		body, err := os.ReadFile(x.path(file))
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(body, x.was[file]) {
			return nil, &enact.Refused{Reasons: []string{file + " was changed in between, and nothing is written: settle again"}}
		}
	}
	for i, file := range names {
		if err := disk.Replace(x.path(file), x.Files[file], 0o644); err != nil {
			for _, done := range names[:i] {
				err = errors.Join(err, disk.Replace(x.path(done), x.was[done], 0o644))
			}
			return nil, err
		}
	}
	return names, nil
}

// Followed is how the records of what is settled follow the code.
func (x *Settling) Followed() map[string]enact.Followed {
	out := map[string]enact.Followed{}
	for _, d := range x.Settled {
		f := out[d.Full()]
		path, err := value.ParsePath(d.Path)
		switch {
		case d.Path == "":
			f.Gone = true
		case err != nil:
			continue
		case x.Resolution == settle.Leave:
			f.Leave = append(f.Leave, path)
		default:
			if f.Inputs == nil {
				f.Inputs = map[string]any{}
			}
			f.Inputs[d.Path] = d.Found
		}
		out[d.Full()] = f
	}
	return out
}

func addressesOf(list []settle.Difference) []string {
	var out []string
	seen := map[string]bool{}
	for _, d := range list {
		if full := d.Full(); !seen[full] {
			seen[full] = true
			out = append(out, full)
		}
	}
	return out
}

// AcceptDrift notes in the ledger that differences are accepted until a day.
func (s *Session) AcceptDrift(ctx context.Context, list []settle.Difference, until, why string, o enact.Options) error {
	byWard := map[string][]ledger.AcceptedDrift{}
	for _, d := range list {
		byWard[d.Resource.Ward] = append(byWard[d.Resource.Ward], ledger.AcceptedDrift{Address: d.Resource.Address,
			Path: d.Path, Found: ledger.FoundDigest(d.Found), Until: until, Why: why, Who: s.config.Identity.Who})
	}
	return enact.AcceptDrift(ctx, byWard, o)
}

// CommitFiles commits files of the estate, with what was settled in the message.
func (s *Session) CommitFiles(ctx context.Context, files []string, resolution settle.Resolution,
	list []settle.Difference) error {
	title := map[settle.Resolution]string{settle.TakeOver: "Take over what was changed in", settle.Leave: "Leave to others in",
		settle.LetGo: "Let go in"}[resolution]
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s\n\n", title, s.Env)
	for _, d := range list {
		fmt.Fprintf(&b, "- %s", d)
		for _, x := range d.Resource.Differences {
			if x.Path == d.Path && x.By != "" {
				fmt.Fprintf(&b, ", by %s", x.By)
				if x.At != nil {
					fmt.Fprintf(&b, " at %s", x.At.UTC().Format("2006-01-02 15:04:05Z"))
				}
			}
		}
		if d.Path == "" && d.Resource.By != "" {
			fmt.Fprintf(&b, ", deleted by %s", d.Resource.By)
		}
		b.WriteString("\n")
	}
	if err := git(ctx, s.Estate.Dir, append([]string{"add", "--"}, files...)...); err != nil {
		return err
	}
	return git(ctx, s.Estate.Dir, append([]string{"commit", "-q", "-m", b.String(), "--"}, files...)...)
}

// TakeOverTexts are the files of the estate as they would be if the code said what was found, by what an
// evaluation knows and without a look at any cloud. read gives the texts as they are.
func (s *Session) TakeOverTexts(e *Evaluation, o declare.Options, list []settle.Difference,
	read func(file string) ([]byte, error)) (*settle.Plan, error) {
	return settle.Find(settle.Sources{Declared: e.Declared, Options: o, Read: read, Section: s.inputSection}, list,
		settle.TakeOver)
}
