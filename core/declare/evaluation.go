package declare

import (
	"context"
	"fmt"
	"os"
	"strings"

	"go.starlark.net/starlark"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// evaluation is the evaluation of some wards together. A ward is evaluated when
// its turn comes or when another one reads what it publishes.
type evaluation struct {
	ctx     context.Context
	o       Options
	root    *os.Root // of the estate
	wards   map[string]*evaluator
	reading []Read // wards being evaluated, outermost first, each with what it reads of the next
	used    map[int]bool
	finds   map[string]*Find
}

// Evaluate evaluates the wards. The problems hold everything found, in the
// order of files; when one of them is wrong, what is declared is incomplete.
func Evaluate(ctx context.Context, o Options) (*Declared, problem.List) {
	d := &Declared{Env: o.Env, byAddress: map[string]map[string]*Resource{}}
	var problems problem.List
	root, err := os.OpenRoot(o.Estate.Dir)
	if err != nil {
		problems.Add(err)
		return d, problems
	}
	defer root.Close()
	s := &evaluation{ctx: ctx, o: o, root: root, wards: map[string]*evaluator{}, used: map[int]bool{}, finds: map[string]*Find{}}
	d.Finds = s.finds
	for _, name := range o.Wards {
		ev, err := s.ward(name)
		if err != nil {
			problems.Add(err)
			continue
		}
		problems = append(problems, ev.problems...)
		d.Wards = append(d.Wards, ev.out)
		d.byAddress[name] = ev.declared
		d.Resources = append(d.Resources, ev.out.Resources...)
		if err := ctx.Err(); err != nil {
			problems.Add(err)
			return d, problems
		}
	}
	if problems.Wrong() == 0 {
		problems = append(problems, unusedInputs(o, d, s.used)...)
		problems = append(problems, sameNames(d)...)
		problems = append(problems, unknownAfter(o, d)...)
		problems = append(problems, stillDeclared(d)...)
	}
	problems.Sort()
	return d, problems
}

// ward evaluates a ward, once.
func (s *evaluation) ward(name string) (*evaluator, error) {
	if ev := s.wards[name]; ev != nil {
		return ev, nil
	}
	ev, err := newEvaluator(s, name)
	if err != nil {
		return nil, err
	}
	s.wards[name] = ev
	ev.ward(s.ctx)
	return ev, nil
}

// together reports whether a ward is one of those that are evaluated.
func (s *evaluation) together(ward string) bool {
	for _, w := range s.o.Wards {
		if w == ward {
			return true
		}
	}
	return false
}

// published is the built-in of that name: a value that another ward offers.
func (ev *evaluator) published(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	var ward, name string
	if err := starlark.UnpackArgs("published", args, kwargs, "ward", &ward, "name", &name); err != nil {
		return nil, err
	}
	e := ev.o.Estate
	switch {
	case !e.HasWard(ward):
		return nil, withHint(fmt.Errorf("no ward is called %q", ward), nearest.Hint(ward, e.Wards))
	case ward == ev.out.Name:
		return nil, fmt.Errorf("ward %s reads itself: use the value that it publishes", ward)
	}
	read := Read{Ward: ward, Name: name, Position: ev.caller(thread)}
	v, err := ev.offered(read)
	if err != nil {
		return nil, err
	}
	ev.out.Reads = append(ev.out.Reads, read)
	return ev.fromValue(v)
}

// offered is a published value of another ward, as it was declared or, when
// that ward is not evaluated here, as its ledger has it.
func (ev *evaluator) offered(read Read) (any, error) {
	s := ev.s
	if !s.together(read.Ward) {
		if s.o.Published == nil {
			return nil, fmt.Errorf("ward %s is not read here", read.Ward)
		}
		all, err := s.o.Published(read.Ward)
		if err != nil {
			return nil, fmt.Errorf("what %s publishes cannot be read: %w", read.Ward, err)
		}
		v, ok := all[read.Name]
		if !ok {
			err := fmt.Errorf("ward %s has published no %q in %s yet: enact %s first, or take both wards together", read.Ward, read.Name, s.o.Env, read.Ward)
			return nil, withHint(err, nearest.Hint(read.Name, value.Keys(all)))
		}
		return v, nil
	}
	if err := ev.circle(read); err != nil {
		return nil, err
	}
	s.reading = append(s.reading, read)
	other, err := s.ward(read.Ward)
	s.reading = s.reading[:len(s.reading)-1]
	if err != nil {
		return nil, err
	}
	p := other.out.Published[read.Name]
	switch {
	case p != nil:
		return p.Value, nil
	case other.problems.Wrong() > 0:
		return nil, errSeen
	}
	return nil, withHint(fmt.Errorf("ward %s publishes no %q", read.Ward, read.Name), nearest.Hint(read.Name, value.Keys(other.out.Published)))
}

// circle is an error when reading would come back to a ward that is being
// evaluated. It shows the way.
func (ev *evaluator) circle(read Read) error {
	way := append(append([]Read(nil), ev.s.reading...), read)
	running := ev.s.wards[read.Ward]
	if running == nil || running.done {
		return nil
	}
	// The ward that is read is the one that began the circle.
	begin := 0
	for i, r := range way[:len(way)-1] {
		if r.Ward == read.Ward {
			begin = i + 1
		}
	}
	said := read.Ward
	for _, r := range way[begin:] {
		said += fmt.Sprintf(" reads %s (%s)", r, r.Position.Short())
		if r.Ward != read.Ward {
			said += ", " + r.Ward
		}
	}
	return fmt.Errorf("wards read each other: %s", said)
}

// caller is where the call that runs now was written.
func (ev *evaluator) caller(thread *starlark.Thread) problem.Position {
	return ev.index.start(thread.CallFrame(1).Pos)
}

func withHint(err error, hint string) error {
	if hint == "" {
		return err
	}
	return fmt.Errorf("%w; %s", err, hint)
}

// describe is what the schema says of the value behind a reference: its
// attribute and the type it belongs to. Both are nil where nothing is known.
func (s *evaluation) describe(ref value.Ref) (*schema.Attribute, *schema.Type) {
	full := ""
	if f := s.finds[ref.Address]; f != nil {
		full = f.FullType()
	} else {
		full = TypeOf(ref.Address)
	}
	drv, name, _ := strings.Cut(full, ".")
	c := s.o.Catalogs[drv]
	if c == nil || c.Types[name] == nil {
		return nil, nil
	}
	return c.Types[name].Lookup(ref.Path), c.Types[name]
}

// TypeOf is the type, with its driver, in a resource's address: the first
// segment with a dot.
func TypeOf(address string) string {
	_, short := value.SplitWard(address)
	for short != "" {
		segment, rest, _ := strings.Cut(short, "/")
		if strings.Contains(segment, ".") {
			return segment
		}
		short = rest
	}
	return ""
}
