package declare

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/BurntSushi/toml"
	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// kindValue is what `kind.text` and its like are.
type kindValue struct{ attr *schema.Attribute }

func (k *kindValue) String() string        { return "kind." + kindName(k.attr) }
func (k *kindValue) Type() string          { return "kind" }
func (k *kindValue) Freeze()               {}
func (k *kindValue) Truth() starlark.Bool  { return true }
func (k *kindValue) Hash() (uint32, error) { return 0, errors.New("a kind cannot be a key") }

func kindName(a *schema.Attribute) string {
	switch {
	case a.Format != "":
		return a.Format
	case a.Elem != nil:
		return fmt.Sprintf("%s(%s)", a.Kind, kindName(a.Elem))
	}
	return string(a.Kind)
}

func kinds() *starlarkstruct.Module {
	one := func(k schema.Kind, format string) *kindValue {
		return &kindValue{&schema.Attribute{Kind: k, Format: format}}
	}
	nested := func(name string, k schema.Kind) *starlark.Builtin {
		return starlark.NewBuiltin("kind."+name, func(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
			var elem *kindValue
			if err := starlark.UnpackPositionalArgs("kind."+name, args, kwargs, 1, &elem); err != nil {
				return nil, err
			}
			return &kindValue{&schema.Attribute{Kind: k, Elem: elem.attr}}, nil
		})
	}
	record := starlark.NewBuiltin("kind.record", func(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
		var fields *starlark.Dict
		if err := starlark.UnpackPositionalArgs("kind.record", args, kwargs, 1, &fields); err != nil {
			return nil, err
		}
		a := &schema.Attribute{Kind: schema.Record}
		for _, item := range fields.Items() {
			name, ok1 := item[0].(starlark.String)
			k, ok2 := item[1].(*kindValue)
			if !ok1 || !ok2 {
				return nil, errors.New("kind.record wants a map of names to kinds")
			}
			f := *k.attr
			f.Name, f.Required = string(name), true
			a.Fields = append(a.Fields, &f)
		}
		return &kindValue{a}, nil
	})
	return &starlarkstruct.Module{Name: "kind", Members: starlark.StringDict{
		"text": one(schema.Text, ""), "int": one(schema.Int, ""), "number": one(schema.Number, ""), "bool": one(schema.Bool, ""),
		"cidr": one(schema.Text, "cidr"), "duration": one(schema.Text, "duration"),
		"list": nested("list", schema.List), "map": nested("map", schema.MapOf), "record": record,
	}}
}

var inputForm = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// input is the built-in of that name: a value from outside.
func (ev *evaluator) input(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	var name, help, matches string
	var kind starlark.Value = starlark.None
	var def, oneOf, lo, hi starlark.Value
	var secret bool
	minLength, maxLength := -1, -1
	if err := starlark.UnpackArgs("input", args, kwargs, "name", &name, "kind?", &kind, "default?", &def, "help?", &help, "secret?", &secret,
		"one_of?", &oneOf, "min?", &lo, "max?", &hi, "min_length?", &minLength, "max_length?", &maxLength, "matches?", &matches); err != nil {
		return nil, err
	}
	if secret {
		return nil, errors.New("this version of kasbah does not do secret inputs yet")
	}
	if !inputForm.MatchString(name) {
		return nil, fmt.Errorf("%q is no name for an input: lower-case letters, digits and _, a letter first", name)
	}
	attr := &schema.Attribute{Kind: schema.Any}
	if k, ok := kind.(*kindValue); ok {
		copied := *k.attr
		attr = &copied
	} else if kind != starlark.None {
		return nil, fmt.Errorf("kind wants a kind such as kind.text, and this is a %s", kind.Type())
	}
	attr.Name, attr.Pattern = name, matches
	if err := ev.constrain(attr, oneOf, lo, hi, minLength, maxLength); err != nil {
		return nil, err
	}
	pos := position(thread.CallFrame(1).Pos)
	if site := ev.index.calls[at(thread.CallFrame(1).Pos)]; site != nil {
		pos = position(site.start)
	}
	if first := ev.out.Taken[name]; first != nil {
		return nil, fmt.Errorf("input %q is declared twice in this ward; the first is at %s", name, first.Position)
	}
	taken := &Taken{Name: name, Help: help, Position: pos, Source: "default"}
	ev.out.Taken[name] = taken
	v, ok, err := ev.chosen(taken, attr, def)
	if err != nil {
		return nil, err
	}
	if !ok {
		return &pending{ev: ev, p: value.NewRef("input/" + name), attr: attr, why: "no value was given", missing: true}, nil
	}
	taken.Value = v
	return toStarlark(v)
}

func (ev *evaluator) constrain(a *schema.Attribute, oneOf, lo, hi starlark.Value, minLength, maxLength int) error {
	conv := converter{levels: ev.limits.Levels}
	bound := func(v starlark.Value, name string) (*float64, error) {
		if v == nil || v == starlark.None {
			return nil, nil
		}
		f, ok := starlark.AsFloat(v)
		if !ok {
			return nil, fmt.Errorf("%s wants a number, and this is a %s", name, v.Type())
		}
		return &f, nil
	}
	var err error
	if a.Min, err = bound(lo, "min"); err != nil {
		return err
	}
	if a.Max, err = bound(hi, "max"); err != nil {
		return err
	}
	if minLength >= 0 {
		a.MinLength = &minLength
	}
	if maxLength >= 0 {
		a.MaxLength = &maxLength
	}
	if a.Pattern != "" {
		if _, err := regexp.Compile(a.Pattern); err != nil {
			return fmt.Errorf("matches: %v", err)
		}
	}
	if oneOf != nil && oneOf != starlark.None {
		v, err := conv.value(oneOf, nil, value.Path{value.Key("one_of")})
		if err != nil {
			return err
		}
		list, ok := v.([]any)
		if !ok || value.IsPending(v) {
			return errors.New("one_of wants a list of known values")
		}
		a.OneOf = list
	}
	return nil
}

// chosen finds the value that wins and reports what is wrong with it.
func (ev *evaluator) chosen(t *Taken, a *schema.Attribute, def starlark.Value) (any, bool, error) {
	list := ev.inputs[t.Name]
	for _, g := range list {
		ev.used[g.at] = true
	}
	if len(list) == 0 {
		if def == nil {
			p := ev.wrong(t.Position, "input %s has no value", t.Name)
			p.Hint = fmt.Sprintf("give %s in kasbah.toml under [env.%s.inputs], or -input %s=…", t.Name, ev.o.Env, t.Name)
			if t.Help != "" {
				p.Hint += " (" + t.Help + ")"
			}
			return nil, false, nil
		}
		v, err := converter{levels: ev.limits.Levels}.value(def, nil, value.Path{value.Key("default")})
		if err != nil {
			return nil, false, err
		}
		if value.IsPending(v) {
			return nil, false, errors.New("an input's default cannot be pending")
		}
		if v == nil {
			return nil, true, nil
		}
		v, faults := a.Check(v, value.Path{value.Key(t.Name)})
		if len(faults) > 0 {
			return nil, false, fmt.Errorf("the default of input %s", faults[0].Message)
		}
		return v, true, nil
	}
	win := list[len(list)-1]
	t.Source = win.Source
	for _, g := range list[:len(list)-1] {
		t.Beaten = append(t.Beaten, g.Source)
	}
	v := win.Value
	if win.IsRaw {
		var err error
		if v, err = readRaw(win.Raw, a); err != nil {
			ev.badInput(win, t, err.Error(), "")
			return nil, false, nil
		}
	}
	v, faults := a.Check(value.Clone(v), value.Path{value.Key(t.Name)})
	for _, f := range faults {
		ev.badInput(win, t, f.Message, f.Hint)
	}
	return v, len(faults) == 0, nil
}

func (ev *evaluator) badInput(g given, t *Taken, msg, hint string) {
	pos := g.Position
	if pos.File == "" {
		pos = t.Position
	}
	p := ev.wrong(pos, "input %s (given by %s)", msg, g.Source)
	p.Hint = hint
	if g.Position.File != "" {
		p.Via = []string{"for " + t.Position.Short()}
	}
}

// readRaw reads a value typed on a command line or in an environment
// variable: TOML, or bare text where the kind is text.
func readRaw(raw string, a *schema.Attribute) (any, error) {
	var doc map[string]any
	err := toml.Unmarshal([]byte("v = "+raw), &doc)
	if a.Kind == schema.Text {
		if s, ok := doc["v"].(string); err == nil && ok {
			return s, nil
		}
		return raw, nil
	}
	if err != nil {
		if a.Kind == schema.Any {
			return raw, nil
		}
		return nil, fmt.Errorf("%s: %q is no TOML value", a.Name, raw)
	}
	return value.Normal(doc["v"])
}

func notTaken(in Input, names []string) *problem.Problem {
	where := "in this estate"
	if in.Ward != "" {
		where = "in ward " + in.Ward
	}
	p := problem.At(in.Position, "no input %s is called %q (given by %s)", where, in.Name, in.Source)
	p.Ward = in.Ward
	p.Hint = nearest.Hint(in.Name, names)
	if p.Hint == "" && len(names) > 0 {
		p.Hint = "there is " + strings.Join(names, ", ")
	}
	return p
}

// publish is the built-in of that name.
func (ev *evaluator) publish(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	var name, help string
	var v starlark.Value
	var secret bool
	if err := starlark.UnpackArgs("publish", args, kwargs, "name", &name, "value", &v, "help?", &help, "secret?", &secret); err != nil {
		return nil, err
	}
	if secret {
		return nil, errors.New("this version of kasbah does not do secret published values yet")
	}
	if !inputForm.MatchString(name) {
		return nil, fmt.Errorf("%q is no name to publish: lower-case letters, digits and _, a letter first", name)
	}
	if first := ev.out.Published[name]; first != nil {
		return nil, fmt.Errorf("%q is published twice in this ward; the first is at %s", name, first.Position)
	}
	x, err := converter{levels: ev.limits.Levels}.value(v, nil, value.Path{value.Key(name)})
	if err != nil {
		return nil, err
	}
	pos := thread.CallFrame(1).Pos
	p := &Published{Name: name, Help: help, Value: x, Position: position(pos)}
	if site := ev.index.calls[at(pos)]; site != nil {
		p.Position = position(site.start)
	}
	ev.out.Published[name] = p
	return starlark.None, nil
}
