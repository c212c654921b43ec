// Package rules judges what is declared, proposed or live by the estate's own
// rules: functions in rules/*.star that say what is wrong, or nothing.
package rules

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"

	"kasbah/core/declare"
	"kasbah/core/form"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Folder is where an estate keeps its rules.
const Folder = "rules"

// Stage is when a rule judges.
type Stage string

const (
	Declared Stage = "declared"
	Proposed Stage = "proposed"
	Live     Stage = "live"
)

var stages = []string{string(Declared), string(Proposed), string(Live)}

// Level is what a broken rule does.
type Level string

const (
	Warn  Level = "warn"  // it is shown and recorded
	Block Level = "block" // it stops the command; in enact, the action
)

// Rule is one rule of an estate.
type Rule struct {
	Name     string
	Help     string
	Level    Level
	At       []Stage
	Position problem.Position

	each, whole starlark.Callable // one of the two
}

// Whole reports whether the rule judges everything at once.
func (r *Rule) Whole() bool { return r.whole != nil }

// Set is the rules of an estate. Its methods may be called from several
// goroutines.
type Set struct {
	Rules []*Rule // in the order of files and lines

	mu     sync.Mutex // of script: its evaluation is one at a time
	script *declare.Script
	today  string
	tests  []*test
}

// Load evaluates rules/*.star. Files that end in _test.star are read for
// Test only.
func Load(ctx context.Context, o declare.Options, today time.Time) (*Set, problem.List) {
	s := &Set{today: today.Format(time.DateOnly)}
	var problems problem.List
	var err error
	names := starlark.StringDict{"rule": starlark.NewBuiltin("rule", s.rule)}
	for name, f := range s.testNames() {
		names[name] = f
	}
	if s.script, err = declare.NewScript(o, names); err != nil {
		problems.Add(err)
		return s, problems
	}
	files, err := s.script.Folder(Folder)
	problems.Add(err)
	for _, f := range files {
		if !isTest(f) {
			problems = append(problems, s.script.File(ctx, f)...)
		}
	}
	return s, problems
}

// Close gives back what the rules hold.
func (s *Set) Close() error {
	if s.script == nil {
		return nil
	}
	return s.script.Close()
}

// Files are the digests of the files that were read, by path.
func (s *Set) Files() map[string]string { return s.script.Files() }

var nameForm = form.Of(`^[a-z][a-z0-9-]*$`)

// rule is the built-in of that name.
func (s *Set) rule(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	r := &Rule{Position: s.script.At(thread)}
	level := ""
	var at *starlark.List
	var each, whole starlark.Value
	if err := starlark.UnpackArgs("rule", args, kwargs, "name", &r.Name, "each?", &each, "whole?", &whole, "at?", &at,
		"level", &level, "help?", &r.Help); err != nil {
		return nil, err
	}
	if !nameForm().MatchString(r.Name) {
		return nil, fmt.Errorf("%q is not a valid name for a rule: use a-z, 0-9 and -, starting with a letter", r.Name)
	}
	if first := s.find(r.Name); first != nil {
		return nil, fmt.Errorf("rule %s is there twice; the first is at %s", r.Name, first.Position)
	}
	r.each, _ = each.(starlark.Callable)
	r.whole, _ = whole.(starlark.Callable)
	if (r.each == nil) == (r.whole == nil) {
		return nil,
			fmt.Errorf("rule %s needs one function: each, which judges one resource, or whole, which judges all",
				r.Name)
	}
	if r.Level = Level(level); r.Level != Warn && r.Level != Block {
		return nil, fmt.Errorf("rule %s: level is %q, and must be \"warn\" or \"block\"", r.Name, level)
	}
	if at == nil {
		r.At = []Stage{Declared}
	}
	for i := 0; at != nil && i < at.Len(); i++ {
		name, _ := starlark.AsString(at.Index(i))
		if !slices.Contains(stages, name) {
			return nil, fmt.Errorf("rule %s: at names %s, and knows declared, proposed and live", r.Name, at.Index(i))
		}
		r.At = append(r.At, Stage(name))
	}
	s.Rules = append(s.Rules, r)
	return starlark.None, nil
}

func (s *Set) find(name string) *Rule {
	for _, r := range s.Rules {
		if r.Name == name {
			return r
		}
	}
	return nil
}

// Verdict is what a rule says of what it judged.
type Verdict string

const (
	Broken    Verdict = "broken"
	Undecided Verdict = "undecided" // it had to look at a value that is not known yet
	Excused   Verdict = "excused"   // broken, and care(excuse = …) lets it
	Failed    Verdict = "failed"    // the rule itself went wrong; it counts as broken
)

// Finding is what is told of one rule and what it judged. What passes is
// counted only.
type Finding struct {
	Rule     string           `json:"rule"`
	Step     bool             `json:"step,omitempty"` // Rule is the name of a step, not of a house rule
	Level    Level            `json:"level"`
	At       Stage            `json:"at"`
	Verdict  Verdict          `json:"verdict"`
	Ward     string           `json:"ward,omitempty"`
	Address  string           `json:"address,omitempty"` // "" for whole
	Message  string           `json:"message"`
	Help     string           `json:"help,omitempty"`
	Until    string           `json:"until,omitempty"`  // of excused: the last day
	Reason   string           `json:"reason,omitempty"` // and why it is
	Position problem.Position `json:"position"`         // of the declaration, or of the rule
	RuleAt   problem.Position `json:"rule_at"`
}

// StepPrefix comes before the name of a step where problems name the rule that says so.
const StepPrefix = "step/"

// Blocks reports whether the finding stops the command.
func (f *Finding) Blocks() bool {
	return f.Level == Block && f.Verdict == Broken || f.Verdict == Failed
}

// Sentence is the finding as people read it.
func (f *Finding) Sentence() string {
	rule := f.Rule
	if f.At != Declared {
		rule += ", " + string(f.At)
	}
	if f.Step {
		return fmt.Sprintf("%s (step %s)", f.Message, rule)
	}
	switch f.Verdict {
	case Excused:
		return fmt.Sprintf("%s; excused until %s: %s (rule %s)", f.Message, f.Until, f.Reason, rule)
	case Undecided:
		return fmt.Sprintf("undecided: %s (rule %s)", f.Message, rule)
	case Failed:
		return fmt.Sprintf("a rule that cannot be judged: %s (rule %s)", f.Message, rule)
	}
	return fmt.Sprintf("%s (rule %s)", f.Message, rule)
}

// Problem is the finding in the form of everything that is reported.
func (f *Finding) Problem() *problem.Problem {
	p := &problem.Problem{Level: problem.Warning, Position: f.Position, Ward: f.Ward, Address: f.Address,
		Message: f.Sentence(), Hint: f.Help, Rule: f.Rule}
	if f.Step {
		p.Rule = StepPrefix + f.Rule
	}
	switch {
	case f.Blocks():
		p.Level = problem.Wrong
	case f.Verdict != Broken:
		p.Level, p.Hint, p.Standing = problem.Note, "", problem.Standing(f.Verdict)
	}
	if f.RuleAt.File != "" && f.RuleAt != f.Position {
		p.Via = []string{map[bool]string{true: "step", false: "rule"}[f.Step] + " at " + f.RuleAt.Short()}
	}
	return p
}

// Refusal is the error of what a rule blocks in the middle of a run.
type Refusal struct{ Finding }

// Error is the finding as people read it.
func (r *Refusal) Error() string { return r.Sentence() }

// Tally counts what a rule said.
type Tally struct {
	Rule      *Rule
	Passed    int
	Broken    int
	Undecided int
	Excused   int
	Failed    int
}

// Report is what all rules of a stage said.
type Report struct {
	Findings []Finding
	Tallies  []*Tally // of the rules of that stage
}

// Blocks reports whether one of the findings stops the command.
func (r *Report) Blocks() bool {
	return slices.ContainsFunc(r.Findings, func(f Finding) bool { return f.Blocks() })
}

// Problems are the findings as problems.
func (r *Report) Problems() problem.List { return Problems(r.Findings) }

// Problems are findings as problems.
func Problems(found []Finding) problem.List {
	var out problem.List
	for i := range found {
		out = append(out, found[i].Problem())
	}
	return out
}

// of are the findings of one rule by ward and address.
func (r *Report) of(rule *Rule) map[[2]string][]Finding {
	if r == nil {
		return nil
	}
	out := map[[2]string][]Finding{}
	for _, f := range r.Findings {
		if f.Rule == rule.Name {
			at := [2]string{f.Ward, f.Address}
			out[at] = append(out[at], f)
		}
	}
	return out
}

// Judge judges subjects at a stage, each by itself and all of them as one.
// extra are further fields of what a whole rule gets.
func (s *Set) Judge(ctx context.Context, stage Stage, subjects []*Subject, extra value.Map) (*Report, error) {
	return s.JudgeAgain(ctx, stage, subjects, extra, nil, nil)
}

// JudgesWhole reports whether a rule judges everything at once at a stage.
func (s *Set) JudgesWhole(stage Stage) bool {
	return slices.ContainsFunc(s.Rules, func(r *Rule) bool { return r.Whole() && slices.Contains(r.At, stage) })
}

// JudgeAgain is Judge where was says what the same rules said before: the subjects of wards that are
// the same are not judged again one by one. They are not tallied.
func (s *Set) JudgeAgain(ctx context.Context, stage Stage, subjects []*Subject, extra value.Map, was *Report,
	same map[string]bool) (*Report, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := &Report{}
	if len(s.Rules) == 0 {
		return out, nil
	}
	stop := s.script.Watch(ctx)
	defer stop()
	var all []starlark.Value
	if was == nil || slices.ContainsFunc(s.Rules, (*Rule).Whole) {
		all = s.subjects(subjects, stage)
	}
	for _, r := range s.Rules {
		if !slices.Contains(r.At, stage) {
			continue
		}
		t := &Tally{Rule: r}
		out.Tallies = append(out.Tallies, t)
		if r.each != nil {
			known := was.of(r)
			for i, subject := range subjects {
				if was != nil && same[subject.Ward] {
					if len(known) > 0 {
						out.add(t, known[[2]string{subject.Ward, subject.Address}]...)
					}
					continue
				}
				if err := ctx.Err(); err != nil {
					return nil, err
				}
				is := starlark.Value(&subjectValue{s: s, is: subject, stage: stage})
				if all != nil {
					is = all[i]
				}
				out.add(t, s.one(r, stage, subject, is)...)
			}
			continue
		}
		whole, err := s.whole(stage, all, extra)
		if err != nil {
			return nil, err
		}
		out.add(t, s.one(r, stage, nil, whole)...)
	}
	return out, nil
}

// Reconsider judges one subject by the rules of some names, which were undecided.
func (s *Set) Reconsider(ctx context.Context, stage Stage, names []string, subject *Subject) *Report {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := &Report{}
	stop := s.script.Watch(ctx)
	defer stop()
	for _, r := range s.Rules {
		if r.each != nil && slices.Contains(names, r.Name) {
			t := &Tally{Rule: r}
			out.Tallies = append(out.Tallies, t)
			out.add(t, s.one(r, stage, subject, s.subjects([]*Subject{subject}, stage)[0])...)
		}
	}
	return out
}

func (r *Report) add(t *Tally, findings ...Finding) {
	if len(findings) == 0 {
		t.Passed++
	}
	for _, f := range findings {
		switch f.Verdict {
		case Broken:
			t.Broken++
		case Undecided:
			t.Undecided++
		case Excused:
			t.Excused++
		case Failed:
			t.Failed++
		}
	}
	r.Findings = append(r.Findings, findings...)
}

// one judges one thing by one rule.
func (s *Set) one(r *Rule, stage Stage, subject *Subject, arg starlark.Value) []Finding {
	f := Finding{Rule: r.Name, Level: r.Level, At: stage, Help: r.Help, Position: r.Position, RuleAt: r.Position}
	fn := r.whole
	if subject != nil {
		fn = r.each
		f.Ward, f.Address = subject.Ward, subject.Address
		if subject.Position.File != "" {
			f.Position = subject.Position
		}
	}
	messages, pendingOn, err := s.call(fn, arg)
	switch {
	case err != nil:
		f.Verdict, f.Message = Failed, err.Error()
		return []Finding{f}
	case pendingOn != "":
		f.Verdict, f.Message = Undecided, pendingOn
		return []Finding{f}
	}
	var out []Finding
	for _, m := range messages {
		f.Verdict, f.Message = Broken, shortened(m)
		if subject != nil {
			if x, ok := subject.Excuse[r.Name]; ok && s.today <= x.Until {
				f.Verdict, f.Until, f.Reason = Excused, x.Until, x.Reason
			} else if ok {
				f.Message += fmt.Sprintf("; its excuse ended on %s", x.Until)
			}
		}
		out = append(out, f)
	}
	return out
}

// longest is how much of a rule's message is kept.
const longest = 500

func shortened(s string) string {
	if r := []rune(s); len(r) > longest {
		return string(r[:longest]) + "…"
	}
	return s
}

// call is a rule's answer: what is wrong, a text each.
func (s *Set) call(fn starlark.Callable, arg starlark.Value) (messages []string, pendingOn string, err error) {
	v, pendingOn, err := s.script.Call(fn, arg)
	if err != nil || pendingOn != "" {
		return nil, pendingOn, err
	}
	switch v := v.(type) {
	case starlark.NoneType:
		return nil, "", nil
	case starlark.String:
		return []string{string(v)}, "", nil
	case *starlark.List:
		for i := 0; i < v.Len(); i++ {
			m, ok := starlark.AsString(v.Index(i))
			if !ok {
				return nil, "", fmt.Errorf("a list with %s in it came back, and texts are wanted",
					schema.WithArticle(v.Index(i).Type()))
			}
			messages = append(messages, m)
		}
		return messages, "", nil
	}
	return nil, "", fmt.Errorf("a value of type %s came back, and None, a text or a list of texts is wanted", v.Type())
}

// whole is what a rule gets that judges everything at once.
func (s *Set) whole(stage Stage, subjects []starlark.Value, extra value.Map) (starlark.Value, error) {
	fields := starlark.StringDict{}
	for _, k := range value.Keys(extra) {
		v, err := s.structure(k, extra[k])
		if err != nil {
			return nil, err
		}
		fields[k] = v
	}
	name := "resources"
	if stage == Proposed {
		name = "actions"
	}
	fields[name] = starlark.NewList(subjects)
	out := starlarkstruct.FromStringDict(starlark.String(string(stage)), fields)
	out.Freeze()
	return out, nil
}

// structure turns counts and costs into a struct, so that they read as
// fields, and anything else, such as inputs by ward, into a value.
func (s *Set) structure(name string, v any) (starlark.Value, error) {
	m, ok := v.(value.Map)
	if !ok || name == "inputs" {
		return s.script.Value(v)
	}
	fields := starlark.StringDict{}
	for k, e := range m {
		x, err := s.script.Value(e)
		if err != nil {
			return nil, err
		}
		fields[k] = x
	}
	return starlarkstruct.FromStringDict(starlark.String("struct"), fields), nil
}

// Excuses reports excuses that name a rule which is not there, or that stand
// at a rule which cannot look at single resources.
func (s *Set) Excuses(subjects []*Subject) problem.List {
	var out problem.List
	var names []string
	for _, r := range s.Rules {
		names = append(names, r.Name)
	}
	for _, subject := range subjects {
		if len(subject.Excuse) == 0 {
			continue
		}
		for _, rule := range value.Keys(subject.Excuse) {
			r := s.find(rule)
			if r != nil && !r.Whole() {
				continue
			}
			p := problem.At(subject.Position, "its care excuses the rule %q, which is not there", rule)
			p.Hint = nearest.Hint(rule, names)
			if r != nil {
				p.Message = fmt.Sprintf("its care excuses the rule %s, which judges everything at once and not this "+
					"resource", rule)
			}
			p.Ward, p.Address, p.Path = subject.Ward, subject.Address, "care.excuse"
			out = append(out, p)
		}
	}
	return out
}

var errNoText = errors.New("must be a text")

func isTest(file string) bool { return strings.HasSuffix(file, "_test.star") }
