package declare

import (
	"errors"
	"fmt"
	"strings"

	"github.com/BurntSushi/toml"
	"go.starlark.net/starlark"

	"kasbah/core/estate"
	"kasbah/core/form"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

var inputForm = form.Of(`^[a-z][a-z0-9_]*$`)

// input is the built-in of that name: a value from outside.
func (ev *evaluator) input(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var name, help, matches string
	var kind starlark.Value = starlark.None
	var def, oneOf, lo, hi starlark.Value
	var secret bool
	minLength, maxLength := -1, -1
	if err := starlark.UnpackArgs("input", args, kwargs, "name", &name, "kind?", &kind, "default?", &def, "help?",
		&help, "secret?", &secret,
		"one_of?", &oneOf, "min?", &lo, "max?", &hi, "min_length?", &minLength, "max_length?", &maxLength, "matches?",
		&matches); err != nil {
		return nil, err
	}
	if !inputForm().MatchString(name) {
		return nil, fmt.Errorf("%q is not a valid name for an input: use a-z, 0-9 and _, starting with a letter", name)
	}
	attr := &schema.Attribute{Kind: schema.Any}
	if k, ok := kind.(*kindValue); ok {
		copied := *k.attr
		attr = &copied
		if def == nil {
			def = k.def
		}
		if help == "" {
			help = k.attr.Help
		}
	} else if kind != starlark.None {
		return nil, fmt.Errorf("kind must be a kind such as kind.text, not %s", schema.WithArticle(kind.Type()))
	}
	if hasHandle(attr) {
		return nil, errors.New("an input from outside cannot be a handle: kind.handle is for the inputs of kits")
	}
	attr.Name = name
	if matches != "" {
		attr.Pattern = matches
	}
	if err := (bounds{oneOf, lo, hi, minLength, maxLength}).set(attr, ev.limits.Levels); err != nil {
		return nil, err
	}
	if first := ev.out.Taken[name]; first != nil {
		return nil, fmt.Errorf("input %q is declared twice in this ward; the first is at %s", name, first.Position)
	}
	taken := &Taken{Name: name, Help: help, Position: ev.caller(thread), Source: "default"}
	ev.out.Taken[name] = taken
	if secret {
		return ev.secretInput(taken, attr, def != nil)
	}
	v, ok, err := ev.chosen(taken, attr, def)
	if err != nil {
		return nil, err
	}
	if !ok {
		return &pending{ev: ev, p: value.NewRef("input/" + name), attr: attr, why: "no value was given", missing: true},
			nil
	}
	taken.Value = v
	out, err := ev.fromValue(v)
	if err != nil {
		return nil, err
	}
	return ev.filled(out, attr)
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
			p.Hint = fmt.Sprintf("give %s in kasbah.toml under [env.%s.inputs], or -input %s=…", t.Name, ev.o.Env,
				t.Name)
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
	t.Source, t.Given = win.Source, win.Position
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
		g := win
		if g.At != nil {
			g.Position = g.At(f.Path.String())
		}
		ev.badInput(g, t, f.Message, f.Hint)
	}
	return v, len(faults) == 0, nil
}

func (ev *evaluator) badInput(g given, t *Taken, msg, hint string) *problem.Problem {
	pos := g.Position
	if pos.File == "" {
		pos = t.Position
	}
	p := ev.wrong(pos, "input %s (given by %s)", msg, g.Source)
	p.Hint = hint
	if g.Position.File != "" {
		p.Via = []string{"for " + t.Position.Short()}
	}
	return p
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
		return nil, fmt.Errorf("%s: %q is not a TOML value", a.Name, raw)
	}
	return value.Normal(doc["v"])
}

func notTaken(in estate.Input, names []string) *problem.Problem {
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
func (ev *evaluator) publish(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var name, help string
	var v starlark.Value
	var secret bool
	if err := starlark.UnpackArgs("publish", args, kwargs, "name", &name, "value", &v, "help?", &help, "secret?",
		&secret); err != nil {
		return nil, err
	}
	if !inputForm().MatchString(name) {
		return nil, fmt.Errorf("%q is not a valid name to publish: use a-z, 0-9 and _, starting with a letter", name)
	}
	if first := ev.out.Published[name]; first != nil {
		return nil, fmt.Errorf("%q is published twice in this ward; the first is at %s", name, first.Position)
	}
	x, err := converter{levels: ev.limits.Levels}.value(v, nil, value.Path{value.Key(name)})
	if err != nil {
		return nil, err
	}
	switch {
	case value.IsSecret(x) && !secret:
		return nil, fmt.Errorf("%q holds a secret: publish it with secret = True", name)
	case secret && !value.IsPending(x):
		return nil, fmt.Errorf("%q is written in the code, so it is not a secret", name)
	case secret:
		x = hidden(x)
	}
	ev.out.Published[name] = &Published{Name: name, Help: help, Value: x, Secret: secret, Position: ev.caller(thread)}
	return starlark.None, nil
}
