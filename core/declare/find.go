package declare

import (
	"errors"
	"fmt"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Find is a note that a thing which exists and is not managed here is
// referred to. It is read when a proposal is made, or in enact when what it
// is found by is known only then.
type Find struct {
	Ward     string
	Address  string // with its ward, as references name it
	Driver   string
	Type     *schema.Type
	Match    value.Map // what the thing is found by; may hold pending values
	Position problem.Position
	Via      []string
}

// FullType is the type as addresses write it: `medina.network`.
func (f *Find) FullType() string { return f.Driver + "." + f.Type.Name }

// find is `DRIVER.TYPE.find(attribute = value, …)`.
func (t *declarer) find(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	ev := t.d.ev
	if what, ok := thread.Local(definesOnly).(string); ok {
		return nil, fmt.Errorf("%s defines functions and values; it looks nothing up while it is loaded", what)
	}
	if len(args) > 0 || len(kwargs) == 0 {
		return nil, fmt.Errorf("%s.find takes attribute = value, such as name = \"…\"", t.full)
	}
	tr := traceOf(thread)
	pos, via := ev.index.call(tr)
	match := value.Map{}
	for _, kv := range kwargs {
		code := string(kv[0].(starlark.String))
		name, known := t.code[code]
		if !known {
			names := value.Keys(t.code)
			return nil, withHint(fmt.Errorf("%s has no attribute %q", schema.WithArticle(t.full), code),
				nearest.Hint(code, names))
		}
		attr := t.typ.Attribute(name)
		if attr.Secret {
			return nil, fmt.Errorf("%s cannot be found by %s, which is secret", schema.WithArticle(t.full), name)
		}
		v, err := converter{levels: ev.limits.Levels, attr: attr, driver: t.d.name}.value(kv[1], attr,
			value.Path{value.Key(name)})
		if err != nil {
			return nil, err
		}
		if v == nil {
			continue
		}
		v, faults := attr.Check(v, value.Path{value.Key(name)})
		if len(faults) > 0 {
			return nil, withHint(errors.New(faults[0].Message), faults[0].Hint)
		}
		match[name] = v
	}
	if len(match) == 0 {
		return nil, fmt.Errorf("%s.find needs an attribute with a value", t.full)
	}
	f := &Find{Ward: ev.out.Name, Driver: t.d.name, Type: t.typ, Match: match, Position: pos, Via: via}
	f.Address = value.FoundAddress(ev.out.Name, f.FullType(), by(match))
	return &found{Find: ev.s.once(f), ev: ev, t: t}, nil
}

// by writes what a thing is found by, as one text without the brackets of an
// address.
func by(match value.Map) string {
	s := ""
	for i, k := range value.Keys(match) {
		if i > 0 {
			s += ", "
		}
		v := match[k]
		if p, ok := v.(*value.Pending); ok {
			s += k + " from " + p.String()
			continue
		}
		s += k + " " + value.Plain(v)
	}
	return s
}

// found is what find returns: every attribute of it is pending.
type found struct {
	*Find
	ev *evaluator
	t  *declarer
}

var (
	_ starlark.HasAttrs   = (*found)(nil)
	_ starlark.Comparable = (*found)(nil)
)

func (f *found) String() string        { return "<" + f.Address + ">" }
func (f *found) Type() string          { return "found " + f.FullType() }
func (f *found) Freeze()               {}
func (f *found) Truth() starlark.Bool  { return true }
func (f *found) Hash() (uint32, error) { return starlark.String(f.Address).Hash() }

// CompareSameType tells found things apart by what they are found by.
func (f *found) CompareSameType(op syntax.Token, y starlark.Value, _ int) (bool, error) {
	return identical(op, f.Find == y.(*found).Find)
}

// AttrNames lists the attributes as the language writes them.
func (f *found) AttrNames() []string { return value.Keys(f.t.code) }

// Attr is an attribute of the thing, pending.
func (f *found) Attr(code string) (starlark.Value, error) {
	name, ok := f.t.code[code]
	if !ok {
		return nil, withHint(fmt.Errorf("%s has no attribute %q", schema.WithArticle(f.FullType()), code),
			nearest.Hint(code, f.AttrNames()))
	}
	return f.ev.reference(f.Address, f.Find.Type, f.Find.Type.Attribute(name),
		"it is looked up when a proposal is made"), nil
}
