package declare

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"go.starlark.net/starlark"

	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// KitFunction is one function of a kit that opens instances.
type KitFunction struct {
	Name   string
	Help   string
	Inputs []KitInput
}

// KitInput is one input of a kit's function.
type KitInput struct {
	Attr       *schema.Attribute
	Default    any // nil for None, too
	HasDefault bool
}

// DescribeKit evaluates a kit's code by itself and lists the functions that
// open instances, in byte order of their names.
func DescribeKit(ctx context.Context, o Options, k *Kit) ([]KitFunction, problem.List) {
	if k.Err != nil {
		return nil, problem.List{{Level: problem.Wrong, Message: k.Err.Error()}}
	}
	ev, problems := alone(o, k)
	if ev == nil {
		return nil, problems
	}
	stop := ev.watch(ctx)
	defer stop()
	src, err := ev.kitModule(source{kind: wardFile}, k.Name)
	if err != nil {
		problems.Add(err)
		return nil, problems
	}
	globals, err := ev.file(ctx, src)
	if err != nil && len(ev.problems) == 0 {
		ev.problems.Add(err)
	}
	var out []KitFunction
	for _, name := range value.Keys(globals) {
		kv, ok := globals[name].(*kitValue)
		if !ok || kv.kit != k || strings.HasPrefix(name, "_") {
			continue
		}
		f := KitFunction{Name: name, Help: kv.help}
		for _, in := range kv.inputs {
			one := KitInput{Attr: in.attr, HasDefault: in.def != nil}
			if in.def != nil {
				if v, err := (converter{levels: ev.limits.Levels}).value(in.def, nil, nil); err == nil {
					one.Default = v
				}
			}
			f.Inputs = append(f.Inputs, one)
		}
		out = append(out, f)
	}
	if out == nil && ev.problems.Wrong() == 0 {
		ev.wrong(problem.Position{File: src.name}, "the kit offers nothing: set a name to kit(FUNCTION, inputs = …)")
	}
	return out, ev.problems
}

// alone prepares an evaluation of a kit outside of any ward.
func alone(o Options, k *Kit) (*evaluator, problem.List) {
	all := map[string]*Kit{}
	for n, other := range o.Kits {
		all[n] = other
	}
	all[k.Name] = k
	o.Kits = all
	s := newEvaluation(o, k.Root)
	ev := bareEvaluator(s, kitTests)
	if err := ev.predeclare(); err != nil {
		return nil, problem.List{{Level: problem.Wrong, Message: err.Error()}}
	}
	return ev, nil
}

// kitTests is the folder of a kit's own tests.
const kitTests = "tests"

// KitTests is how a kit's own tests went.
type KitTests struct {
	Files  int
	Passed int
	Failed problem.List
}

// TestKit evaluates the tests of a kit, tests/*.star, each as a small ward of
// its own. In them, expect(ADDRESS, attribute = value, …) wants a resource
// with these inputs, absent(ADDRESS) wants none, equal(a, b) wants two values
// to be the same, and refused(FUNCTION, words) wants a call to fail so.
func TestKit(ctx context.Context, o Options, k *Kit) (KitTests, problem.List) {
	var out KitTests
	var problems problem.List
	entries, err := fs.ReadDir(k.Root.FS(), kitTests)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		problems.Add(err)
	}
	for _, e := range entries {
		if e.IsDir() || !strings.HasSuffix(e.Name(), ".star") {
			continue
		}
		out.Files++
		ev, wrong := alone(o, k)
		if ev == nil {
			return out, append(problems, wrong...)
		}
		t := &kitTest{ev: ev, out: &out}
		for name, f := range map[string]builtin{"expect": t.expect, "absent": t.absent, "equal": t.equal,
			"refused": t.refused} {
			ev.names[name] = starlark.NewBuiltin(name, f)
		}
		stop := ev.watch(ctx)
		src := source{kind: wardFile, name: path.Join(kitTests, e.Name()), path: path.Join(kitTests, e.Name()),
			root: k.Root}
		if _, err := ev.file(ctx, src); err != nil && len(ev.problems) == 0 {
			ev.problems.Add(err)
		}
		stop()
		problems = append(problems, ev.problems...)
	}
	return out, problems
}

type kitTest struct {
	ev  *evaluator
	out *KitTests
}

// note counts one expectation; wrong is empty when it is met.
func (t *kitTest) note(thread *starlark.Thread, wrong string) (starlark.Value, error) {
	if wrong == "" {
		t.out.Passed++
	} else {
		t.out.Failed = append(t.out.Failed, problem.At(t.ev.caller(thread), "%s", wrong))
	}
	return starlark.None, nil
}

func (t *kitTest) expect(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var address string
	if err := starlark.UnpackPositionalArgs("expect", args, nil, 1, &address); err != nil {
		return nil, err
	}
	r := t.ev.declared[address]
	if r == nil {
		return t.note(thread, withHint(fmt.Errorf("nothing is declared at %s", address),
			"there is "+strings.Join(value.Keys(t.ev.declared), ", ")).Error())
	}
	for _, kv := range kwargs {
		code := string(kv[0].(starlark.String))
		name := code
		for schemaName, star := range r.star {
			if star == code {
				name = schemaName
			}
		}
		attr := r.Type.Attribute(name)
		if attr == nil {
			return nil, fmt.Errorf("%s has no attribute %q", schema.WithArticle(r.FullType()), code)
		}
		want, err := converter{levels: t.ev.limits.Levels, attr: attr, driver: r.Driver}.value(kv[1], attr,
			value.Path{value.Key(name)})
		if err != nil {
			return nil, err
		}
		if got := r.Inputs()[name]; !value.Equal(got, want) {
			return t.note(thread, fmt.Sprintf("%s %s should be %s, and is %s", address, name, value.Plain(want),
				value.Plain(got)))
		}
	}
	return t.note(thread, "")
}

func (t *kitTest) absent(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var address string
	if err := starlark.UnpackPositionalArgs("absent", args, kwargs, 1, &address); err != nil {
		return nil, err
	}
	if t.ev.declared[address] != nil {
		return t.note(thread, address+" should not be declared, and is")
	}
	return t.note(thread, "")
}

func (t *kitTest) equal(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var a, b starlark.Value
	if err := starlark.UnpackPositionalArgs("equal", args, kwargs, 2, &a, &b); err != nil {
		return nil, err
	}
	conv := converter{levels: t.ev.limits.Levels}
	x, err := conv.value(a, nil, value.Path{value.Key("a")})
	if err != nil {
		return nil, err
	}
	y, err := conv.value(b, nil, value.Path{value.Key("b")})
	if err != nil {
		return nil, err
	}
	if !value.Equal(x, y) {
		return t.note(thread, fmt.Sprintf("%s and %s should be equal", value.Plain(x), value.Plain(y)))
	}
	return t.note(thread, "")
}

func (t *kitTest) refused(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var fn starlark.Callable
	var words string
	if err := starlark.UnpackPositionalArgs("refused", args, kwargs, 2, &fn, &words); err != nil {
		return nil, err
	}
	before := len(t.ev.problems)
	_, err := starlark.Call(thread, fn, nil, nil)
	said := append(problem.List(nil), t.ev.problems[before:]...)
	t.ev.problems = t.ev.problems[:before]
	if err != nil && !errors.Is(err, errSeen) {
		said.Add(errors.New(err.Error()))
	}
	text := said.Error()
	switch {
	case said.Wrong() == 0:
		return t.note(thread, "it should be refused, and is not")
	case !strings.Contains(text, words):
		return t.note(thread, fmt.Sprintf("it should be refused with %q, and is with: %s", words, text))
	}
	return t.note(thread, "")
}

// ReadInput reads what a person typed for an input: TOML, or bare text where
// the kind is text. The error says what is wrong with it.
func ReadInput(raw string, a *schema.Attribute) (any, error) {
	v, err := readRaw(raw, a)
	if err != nil {
		return nil, err
	}
	v, faults := a.Check(v, value.Path{value.Key(a.Name)})
	if len(faults) > 0 {
		err := errors.New(faults[0].Message)
		return nil, withHint(err, faults[0].Hint)
	}
	return v, nil
}

// IsHandle reports whether an input wants the handle of a resource, which
// only code can give.
func IsHandle(a *schema.Attribute) bool { return hasHandle(a) }

// Literal is a known value as the language writes it.
func Literal(v any) string {
	switch v := v.(type) {
	case nil:
		return "None"
	case bool:
		return map[bool]string{true: "True", false: "False"}[v]
	case string:
		var short [64]byte
		return string(value.AppendText(short[:0], v)) // JSON texts are literals of the language
	case []any:
		var parts []string
		for _, e := range v {
			parts = append(parts, Literal(e))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case map[string]any:
		var parts []string
		for _, k := range value.Keys(v) {
			parts = append(parts, string(value.AppendText(nil, k))+": "+Literal(v[k]))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	return value.Plain(v)
}
