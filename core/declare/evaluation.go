package declare

import (
	"context"
	"fmt"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
	"golang.org/x/sync/errgroup"

	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// evaluation is the evaluation of some wards together, as many at once as there
// are cores. A ward is evaluated when its turn comes or when another one reads what
// it publishes.
type evaluation struct {
	o    Options
	root *os.Root // of the estate

	mu      sync.Mutex
	wards   map[string]*turn
	waits   map[string]Read // by ward: what it reads now of another one, which is not done
	circled bool            // wards read each other
	finds   map[string]*Find

	publishing sync.Mutex // Options.Published is asked by one ward at a time

	basis func() string // what wards are made from beside files and what they read; "" where that cannot be told
}

// turn is the evaluation of one ward.
type turn struct {
	ev       *evaluator
	err      error
	recalled bool          // it was not evaluated
	done     chan struct{} // closed once it has ended
}

func newEvaluation(o Options, root *os.Root) *evaluation {
	return &evaluation{o: o, root: root, wards: map[string]*turn{}, waits: map[string]Read{},
		finds: map[string]*Find{}, basis: sync.OnceValue(func() string {
			each := o
			each.Wards = nil // a ward declares the same beside others, if what it reads of them is the same
			basis, err := each.Basis()
			if err != nil {
				return ""
			}
			return basis
		})}
}

// Evaluate evaluates the wards. The problems hold everything found, in the
// order of files; when one of them is wrong, what is declared is incomplete.
func Evaluate(ctx context.Context, o Options) (*Declared, problem.List) {
	return evaluateFrom(ctx, o, nil)
}

func evaluateFrom(ctx context.Context, o Options, known map[string]*turn) (*Declared, problem.List) {
	d, problems, circled := evaluate(ctx, o, known, runtime.GOMAXPROCS(0))
	if circled { // where a circle is met depends on who came first: say always the same
		o.Memory = nil
		d, problems, _ = evaluate(ctx, o, known, 1)
	}
	return d, problems
}

func evaluate(ctx context.Context, o Options, known map[string]*turn, atOnce int) (d *Declared, problems problem.List,
	circled bool) {
	d = &Declared{Env: o.Env, Part: o.Estate.Part(o.Env), byAddress: map[string]map[string]*Resource{},
		Kept: map[string]bool{}}
	root, err := os.OpenRoot(o.Estate.Dir)
	if err != nil {
		problems.Add(err)
		return d, problems, false
	}
	defer root.Close()
	s := newEvaluation(o, root)
	d.Finds = s.finds
	for name, t := range known {
		s.wards[name], d.Kept[name] = t, true
		for address, f := range t.ev.s.finds {
			if f.Ward == name {
				s.finds[address] = f
			}
		}
	}
	var g errgroup.Group
	g.SetLimit(atOnce)
	for _, name := range s.mostLikelyMoved() {
		g.Go(func() error {
			s.ward(ctx, name)
			return nil
		})
	}
	_ = g.Wait() // each turn holds its own error
	used := map[int]bool{}
	wards := o.Wards
	if o.along { // with those that were read
		wards = slices.DeleteFunc(slices.Clone(o.Estate.Wards), func(name string) bool { return s.wards[name] == nil })
	}
	for _, name := range wards {
		t := s.wards[name]
		if t.err != nil {
			problems.Add(t.err)
			continue
		}
		d.Kept[name] = d.Kept[name] || t.recalled
		problems = append(problems, t.ev.problems...)
		d.Wards = append(d.Wards, t.ev.out)
		d.byAddress[name] = t.ev.declared
		d.Resources = append(d.Resources, t.ev.out.Resources...)
		maps.Copy(used, t.ev.used)
	}
	if err := ctx.Err(); err != nil {
		problems.Add(err)
		return d, problems, false
	}
	if o.Again {
		d.turns = s.wards
		s.wards = nil // what is kept of one evaluation must not hold the others of it
	}
	if problems.Wrong() == 0 {
		problems = append(problems, unusedInputs(o, d, used)...)
		problems = append(problems, sameNames(d)...)
		problems = append(problems, unknownAfter(o, d)...)
		problems = append(problems, stillDeclared(d)...)
	}
	problems.Sort()
	return d, problems, s.circled
}

// ward evaluates a ward, once; who comes second waits until that has ended.
func (s *evaluation) ward(ctx context.Context, name string) *turn {
	s.mu.Lock()
	t, begun := s.wards[name]
	if !begun {
		t = &turn{done: make(chan struct{})}
		s.wards[name] = t
	}
	s.mu.Unlock()
	if begun {
		<-t.done
		return t
	}
	defer close(t.done)
	if t.ev = s.recall(ctx, name); t.ev != nil {
		t.recalled = true
		return t
	}
	if t.ev, t.err = newEvaluator(s, name); t.err == nil {
		t.ev.ward(ctx)
		if s.o.Memory != nil && ctx.Err() == nil {
			s.o.Memory.Remember(name, t.ev.remember)
		}
	}
	return t
}

// found is what is looked up behind an address that a reference uses, or nil.
func (s *evaluation) found(address string) *Find {
	if !value.IsFound(address) {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.finds[address]
}

// once is the first one that looks up the same.
func (s *evaluation) once(f *Find) *Find {
	s.mu.Lock()
	defer s.mu.Unlock()
	if known := s.finds[f.Address]; known != nil {
		return known
	}
	s.finds[f.Address] = f
	return f
}

// together reports whether a ward is one of those that are evaluated.
func (s *evaluation) together(ward string) bool {
	if other, _ := estate.SplitEstate(ward); other != "" {
		return false
	}
	return s.o.along || slices.Contains(s.o.Wards, ward)
}

// published is the built-in of that name: a value that another ward offers.
func (ev *evaluator) published(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var ward, name string
	if err := starlark.UnpackArgs("published", args, kwargs, "ward", &ward, "name", &name); err != nil {
		return nil, err
	}
	e := ev.o.Estate
	read := Read{Ward: ward, Name: name, Position: ev.caller(thread)}
	other, _ := estate.SplitEstate(ward)
	switch {
	case other != "" && e.Other(other) == nil:
		return nil, withHint(fmt.Errorf("kasbah.toml names no estate %q under [estates]", other),
			nearest.Hint(other, e.Others()))
	case other != "":
		read.Env = e.OtherEnv(e.Other(other), ev.o.Env)
	case !e.HasWard(ward):
		return nil, withHint(fmt.Errorf("no ward is called %q", ward), nearest.Hint(ward, e.Wards))
	case ward == ev.out.Name:
		return nil, fmt.Errorf("ward %s reads itself: use the value that it publishes", ward)
	}
	ev.asked = append(ev.asked, ward)
	v, err := ev.s.offered(thread.Local(contextOf).(context.Context), ev.out.Name, read)
	if err != nil {
		return nil, err
	}
	ev.out.Reads, ev.values = append(ev.out.Reads, read), append(ev.values, v)
	return ev.fromValue(v)
}

// offered is a published value of another ward than the reader, as it was declared or, when
// that ward is not evaluated here, as its ledger has it.
func (s *evaluation) offered(ctx context.Context, reader string, read Read) (any, error) {
	if !s.together(read.Ward) {
		if s.o.Published == nil {
			return nil, fmt.Errorf("ward %s is not read here", read.Ward)
		}
		s.publishing.Lock()
		all, err := s.o.Published(read.Ward)
		s.publishing.Unlock()
		if err != nil {
			return nil, fmt.Errorf("what %s publishes cannot be read: %w", read.Ward, err)
		}
		v, ok := all[read.Name]
		if !ok {
			err := fmt.Errorf("ward %s has published no %q in %s yet: enact %s first, or take both wards together",
				read.Ward, read.Name, s.o.Env, read.Ward)
			if read.Env != "" {
				err = fmt.Errorf("%s has published no %q in %s yet, or it is a secret, which no other estate reads", read.Ward,
					read.Name, read.Env)
			}
			return nil, withHint(err, nearest.Hint(read.Name, value.Keys(all)))
		}
		return v, nil
	}
	if err := s.wait(reader, read); err != nil {
		return nil, err
	}
	t := s.ward(ctx, read.Ward)
	s.waited(reader)
	if t.err != nil {
		return nil, t.err
	}
	other := t.ev
	p := other.out.Published[read.Name]
	switch {
	case p != nil:
		return p.Value, nil
	case other.problems.Wrong() > 0:
		return nil, errSeen
	}
	return nil, withHint(fmt.Errorf("ward %s publishes no %q", read.Ward, read.Name), nearest.Hint(read.Name,
		value.Keys(other.out.Published)))
}

// wait notes that a ward is about to wait for another one. It is an error, which
// shows the way, when that one waits for it.
func (s *evaluation) wait(ward string, read Read) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	said := read.Ward
	for at := read.Ward; ; {
		next, waits := s.waits[at]
		if at == ward {
			next = read
		} else if !waits {
			s.waits[ward] = read
			return nil
		}
		said += fmt.Sprintf(" reads %s (%s)", next, next.Position.Short())
		if at == ward {
			s.circled = true
			return fmt.Errorf("wards read each other: %s", said)
		}
		said += ", " + next.Ward
		at = next.Ward
	}
}

func (s *evaluation) waited(ward string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.waits, ward)
}

// caller is where the call that runs now was written.
func (ev *evaluator) caller(thread *starlark.Thread) problem.Position {
	return ev.index.start(callerOf(thread))
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
	if f := s.found(ref.Address); f != nil {
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

// callerOf is where the code is that called the function which runs now; nowhere for one that no code called.
func callerOf(thread *starlark.Thread) syntax.Position {
	if thread.CallStackDepth() < 2 {
		return syntax.Position{}
	}
	return thread.CallFrame(1).Pos
}
