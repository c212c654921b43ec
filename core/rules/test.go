package rules

import (
	"context"
	"fmt"
	"strings"

	"go.starlark.net/starlark"

	"kasbah/core/declare"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// test is one expectation of a _test.star file.
type test struct {
	problem.Position
	wrong string // what is otherwise than expected; "" when it is as expected
}

// Tests is how the rules' own tests went.
type Tests struct {
	Passed int
	Failed problem.List
}

// Test evaluates rules/*_test.star. In them, passes(rule, r), breaks(rule, r,
// words) and undecided(rule, r) say what a rule makes of r: of what
// resource(TYPE, attribute = value, …) makes, or of any value for a rule that
// judges everything. unknown is a pending value.
func (s *Set) Test(ctx context.Context) (Tests, problem.List) {
	var out Tests
	var problems problem.List
	files, err := s.script.Folder(Folder)
	problems.Add(err)
	for _, f := range files {
		if isTest(f) {
			problems = append(problems, s.script.File(ctx, f)...)
		}
	}
	for _, t := range s.tests {
		if t.wrong == "" {
			out.Passed++
		} else {
			out.Failed = append(out.Failed, problem.At(t.Position, "%s", t.wrong))
		}
	}
	return out, problems
}

func (s *Set) testNames() starlark.StringDict {
	expect := func(name string, extra int, judge func(r *Rule, messages []string, pendingOn string,
		words string) string) *starlark.Builtin {
		return starlark.NewBuiltin(name, func(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
			kwargs []starlark.Tuple) (starlark.Value, error) {
			var rule, words string
			var arg starlark.Value
			into := []any{&rule, &arg, &words}[:2+extra]
			if err := starlark.UnpackPositionalArgs(name, args, kwargs, 2, into...); err != nil {
				return nil, err
			}
			r := s.find(rule)
			if r == nil {
				var names []string
				for _, r := range s.Rules {
					names = append(names, r.Name)
				}
				return nil, fmt.Errorf("no rule is called %q; %s", rule, nearest.Hint(rule, names))
			}
			fn := r.each
			if fn == nil {
				fn = r.whole
			}
			messages, pendingOn, err := s.call(fn, arg)
			t := &test{Position: s.script.At(thread)}
			if err != nil {
				t.wrong = fmt.Sprintf("rule %s cannot be judged: %v", rule, err)
			} else {
				t.wrong = judge(r, messages, pendingOn, words)
			}
			s.tests = append(s.tests, t)
			return starlark.None, nil
		})
	}
	said := func(messages []string, pendingOn string) string {
		switch {
		case pendingOn != "":
			return "it is undecided: " + pendingOn
		case messages == nil:
			return "it passes"
		}
		return fmt.Sprintf("it says %q", strings.Join(messages, "; "))
	}
	return starlark.StringDict{
		"resource": starlark.NewBuiltin("resource", s.resource),
		"unknown":  starlark.NewBuiltin("unknown", s.unknown),
		"passes": expect("passes", 0, func(r *Rule, m []string, p, _ string) string {
			if m != nil || p != "" {
				return fmt.Sprintf("rule %s should pass, and %s", r.Name, said(m, p))
			}
			return ""
		}),
		"breaks": expect("breaks", 1, func(r *Rule, m []string, p, words string) string {
			if m == nil || p != "" || !strings.Contains(strings.Join(m, "\n"), words) {
				return fmt.Sprintf("rule %s should break with %q, and %s", r.Name, words, said(m, p))
			}
			return ""
		}),
		"undecided": expect("undecided", 0, func(r *Rule, m []string, p, _ string) string {
			if p == "" {
				return fmt.Sprintf("rule %s should be undecided, and %s", r.Name, said(m, p))
			}
			return ""
		}),
	}
}

// unknown is a pending value for tests.
func (s *Set) unknown(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	if err := starlark.UnpackPositionalArgs("unknown", args, kwargs, 0); err != nil {
		return nil, err
	}
	return s.script.Unknown("the test says so"), nil
}

// resource makes something for each rules to judge.
func (s *Set) resource(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var full string
	if err := starlark.UnpackPositionalArgs("resource", args, nil, 1, &full); err != nil {
		return nil, err
	}
	typ := s.script.Type(full)
	if typ == nil {
		return nil, fmt.Errorf("no driver has the type %s", full)
	}
	is := &Subject{Ward: "test", Type: full, Schema: typ, Inputs: value.Map{}}
	name, stage := "test", Declared
	own := map[string]func(any) error{
		"name_":    func(v any) (err error) { name, err = text(v); return err },
		"ward_":    func(v any) (err error) { is.Ward, err = text(v); return err },
		"kit_":     func(v any) (err error) { is.Kit, err = text(v); return err },
		"guarded_": func(v any) error { is.Guarded, _ = v.(bool); return nil },
		"action_":  func(v any) (err error) { stage = Proposed; is.Action, err = text(v); return err },
		"was_":     func(v any) error { stage = Proposed; is.Was, _ = v.(value.Map); return nil },
		"live_":    func(v any) error { stage = Live; is.Live, _ = v.(value.Map); return nil },
	}
	var names []string
	for _, a := range typ.Attributes {
		names = append(names, a.Name)
	}
	for _, kv := range kwargs {
		code := string(kv[0].(starlark.String))
		v, err := s.script.Plain(kv[1])
		if err != nil {
			return nil, err
		}
		if set := own[code]; set != nil && typ.Attribute(code) == nil {
			if err := set(v); err != nil {
				return nil, fmt.Errorf("resource: %s %w", code, err)
			}
			continue
		}
		found := false
		for _, n := range names {
			if n == code || declare.Identifier(n) == code {
				is.Inputs[n], found = v, true
			}
		}
		if !found {
			return nil, fmt.Errorf("%s has no attribute %q; %s", schema.WithArticle(full), code,
				nearest.Hint(code, names))
		}
	}
	is.Address = full + "/" + name
	return &subjectValue{s: s, is: is, stage: stage}, nil
}

func text(v any) (string, error) {
	s, ok := v.(string)
	if !ok {
		return "", errNoText
	}
	return s, nil
}
