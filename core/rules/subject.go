package rules

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.starlark.net/starlark"

	"kasbah/core/declare"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Subject is one resource or action, as rules see it.
type Subject struct {
	Ward    string
	Address string // without its ward
	Type    string // with its driver
	Schema  *schema.Type
	Kit     string // the kit that declares it, the outermost
	Guarded bool
	// Inputs are as declared, as they will be, or as they are live, by stage.
	Inputs value.Map
	Was    value.Map // proposed: what was live before; nil for something new
	Action string    // proposed: new, edit, swap, drop, same
	Live   value.Map // live: all attributes
	Excuse map[string]problem.Excuse

	Position problem.Position

	declared *declare.Resource // whose inputs count, where it is known: they are asked for late
}

func (s *Subject) inputs() value.Map {
	if s.declared != nil {
		return s.declared.Inputs()
	}
	return s.Inputs
}

// Subjects are the declared resources as rules see them. Where no rule judges what is declared, they are only those
// whose care excuses one.
func (s *Set) Subjects(d *declare.Declared) []*Subject {
	judged := slices.ContainsFunc(s.Rules, func(r *Rule) bool { return slices.Contains(r.At, Declared) })
	var out []*Subject
	if judged {
		out = make([]*Subject, 0, len(d.Resources))
	}
	for _, r := range d.Resources {
		if !judged && len(r.Care.Excuse) == 0 {
			continue
		}
		pos, _ := r.Position()
		is := &Subject{Ward: r.Ward, Address: r.Address, Type: r.FullType(), Schema: r.Type, Guarded: r.Care.Guard,
			declared: r, Excuse: r.Care.Excuse, Position: pos}
		if len(r.Within) > 0 {
			is.Kit = r.Within[0].Kit
		}
		out = append(out, is)
	}
	return out
}

// InputsOf are the inputs that the wards took, by ward and name, as whole
// rules see them.
func InputsOf(d *declare.Declared) value.Map {
	out := value.Map{}
	for _, w := range d.Wards {
		all := value.Map{}
		for name, t := range w.Taken {
			if !t.Secret {
				all[name] = t.Value
			}
		}
		out[w.Name] = all
	}
	return out
}

func (s *Set) subjects(list []*Subject, stage Stage) []starlark.Value {
	out := make([]starlark.Value, len(list))
	for i, subject := range list {
		out[i] = &subjectValue{s: s, is: subject, stage: stage}
	}
	return out
}

// subjectValue is a subject in the language: r.type, r.inputs.size.
type subjectValue struct {
	s     *Set
	is    *Subject
	stage Stage
}

var _ starlark.HasAttrs = (*subjectValue)(nil)

func (v *subjectValue) String() string       { return "<" + v.is.Address + ">" }
func (v *subjectValue) Type() string         { return "resource" }
func (v *subjectValue) Freeze()              {}
func (v *subjectValue) Truth() starlark.Bool { return true }
func (v *subjectValue) Hash() (uint32, error) {
	return starlark.String(v.is.Ward + ":" + v.is.Address).Hash()
}

var always = []string{"address", "guarded", "inputs", "kit", "name", "type", "ward"}

func (v *subjectValue) AttrNames() []string {
	switch v.stage {
	case Proposed:
		return append([]string{"action", "was"}, always...)
	case Live:
		return append([]string{"live"}, always...)
	}
	return always
}

func (v *subjectValue) Attr(name string) (starlark.Value, error) {
	r := v.is
	attributes := func(m value.Map) starlark.Value {
		if m == nil {
			return starlark.None
		}
		return &attributesValue{s: v.s, typ: r.Schema, full: r.Type, values: m}
	}
	switch name {
	case "address":
		return starlark.String(r.Address), nil
	case "guarded":
		return starlark.Bool(r.Guarded), nil
	case "inputs":
		return attributes(r.inputs()), nil
	case "kit":
		return textOrNone(r.Kit), nil
	case "name":
		_, short, _ := strings.Cut(r.Address, r.Type+"/")
		return starlark.String(short), nil
	case "type":
		return starlark.String(r.Type), nil
	case "ward":
		return starlark.String(r.Ward), nil
	case "action":
		if v.stage == Proposed {
			return starlark.String(r.Action), nil
		}
	case "was":
		if v.stage == Proposed {
			return attributes(r.Was), nil
		}
	case "live":
		if v.stage == Live {
			return attributes(r.Live), nil
		}
	}
	msg := fmt.Sprintf("at the stage %s a resource has no .%s; it has %s", v.stage, name, strings.Join(v.AttrNames(),
		", "))
	return nil, errors.New(msg)
}

func textOrNone(s string) starlark.Value {
	if s == "" {
		return starlark.None
	}
	return starlark.String(s)
}

// attributesValue are attributes in the language. One that was left out is
// its schema's default, else None.
type attributesValue struct {
	s      *Set
	typ    *schema.Type
	full   string
	values value.Map
}

var _ starlark.HasAttrs = (*attributesValue)(nil)

func (v *attributesValue) String() string        { return "attributes of a " + v.full }
func (v *attributesValue) Type() string          { return "attributes" }
func (v *attributesValue) Freeze()               {}
func (v *attributesValue) Truth() starlark.Bool  { return true }
func (v *attributesValue) Hash() (uint32, error) { return 0, errors.New("attributes cannot be a key") }
func (v *attributesValue) AttrNames() []string   { return v.typ.AttributeNames() }

func (v *attributesValue) Attr(name string) (starlark.Value, error) {
	a := v.typ.Attribute(name)
	if a == nil {
		for _, b := range v.typ.Attributes {
			if declare.Identifier(b.Name) == name {
				a = b
			}
		}
	}
	if a == nil {
		hint := nearest.Hint(name, v.typ.AttributeNames())
		if hint != "" {
			hint = "; " + hint
		}
		return nil, fmt.Errorf("%s has no attribute %q%s", schema.WithArticle(v.full), name, hint)
	}
	x, ok := v.values[a.Name]
	if !ok || x == nil {
		x = a.Default
	}
	if a.Secret {
		return v.s.script.Unknown("it is secret"), nil
	}
	return v.s.script.Value(x)
}
