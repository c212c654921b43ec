package declare

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// driver is a driver's name in the language: its fields declare resources.
type driver struct {
	ev      *evaluator
	name    string // in kasbah.toml
	catalog *schema.Catalog
	types   map[string]*declarer // by the name used in the code
}

func (ev *evaluator) newDriver(name string, c *schema.Catalog) *driver {
	d := &driver{ev: ev, name: name, catalog: c, types: map[string]*declarer{}}
	for _, n := range c.Names() {
		t := &declarer{d: d, typ: c.Types[n], full: name + "." + c.Types[n].Name, code: map[string]string{},
			star: map[string]string{}}
		for _, a := range t.typ.Attributes {
			code := Identifier(a.Name)
			t.code[code] = a.Name
			if code != a.Name {
				t.star[a.Name] = code
			}
		}
		d.types[Identifier(n)] = t
	}
	return d
}

func (d *driver) String() string        { return "driver " + d.name }
func (d *driver) Type() string          { return "driver" }
func (d *driver) Freeze()               {}
func (d *driver) Truth() starlark.Bool  { return true }
func (d *driver) Hash() (uint32, error) { return starlark.String(d.name).Hash() }
func (d *driver) AttrNames() []string   { return value.Keys(d.types) }

func (d *driver) Attr(name string) (starlark.Value, error) {
	if t := d.types[name]; t != nil {
		return t, nil
	}
	msg := fmt.Sprintf("driver %s has no type %q", d.name, name)
	if hint := nearest.Hint(name, d.AttrNames()); hint != "" {
		msg += "; " + hint
	}
	return nil, errors.New(msg)
}

// declarer is `DRIVER.TYPE`: calling it declares a resource.
type declarer struct {
	d    *driver
	typ  *schema.Type
	full string            // the type with its driver
	code map[string]string // name in the code -> schema name
	star map[string]string // schema name -> name in the code, where they differ
}

func (t *declarer) String() string        { return t.full }
func (t *declarer) Name() string          { return t.full }
func (t *declarer) Type() string          { return "resource type" }
func (t *declarer) Freeze()               {}
func (t *declarer) Truth() starlark.Bool  { return true }
func (t *declarer) Hash() (uint32, error) { return starlark.String(t.full).Hash() }
func (t *declarer) AttrNames() []string   { return []string{"find"} }

func (t *declarer) Attr(name string) (starlark.Value, error) {
	if name == "find" {
		return starlark.NewBuiltin(t.full+".find", t.find), nil
	}
	return nil, nil
}

// CallInternal declares a resource. Mistakes in attributes are noted and do
// not stop the file; without a usable name there is nothing to go on with.
func (t *declarer) CallInternal(thread *starlark.Thread, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value,
	error) {
	ev := t.d.ev
	name, err := t.named(thread, args)
	if err != nil {
		return nil, err
	}
	in := ev.scope()
	full := ev.out.Name + ":" + in.path + t.full + "/" + name
	r := &Resource{
		Ward: ev.out.Name, Address: full[len(ev.out.Name)+1:], full: full, Driver: t.d.name, Type: t.typ,
		fullType: t.full, Name: name,
		Within: in.within, Care: in.care, index: ev.index, trace: traceOf(thread), star: t.star,
	}
	h := &Handle{Resource: r, ev: ev, typ: t.typ, declarer: t, given: make([]givenValue, 0, len(kwargs))}
	if first := ev.declared[r.Address]; first != nil {
		pos, _ := r.Position()
		other, _ := first.Position()
		ev.fault(thread, r, pos, "", "is declared twice; the first is at "+other.String(), "")
		return h, nil
	}
	ev.declared[r.Address] = r
	inputs := make(value.Map, len(kwargs))
	var names texts
	for _, kv := range kwargs {
		code := string(kv[0].(starlark.String))
		if !names.add(code) {
			pos, _ := r.index.attribute(r.trace, code)
			ev.fault(thread, r, pos, code, code+" is given twice", "")
			continue
		}
		ev.take(thread, h, inputs, code, kv[1])
	}
	if in.care.AtDrop == schema.CopyFirst && r.Care.AtDrop == schema.CopyFirst && t.typ.HoldsData && !t.typ.Copies {
		ev.cannotCopy(thread, r)
	}
	checked := ev.checked(thread, r, inputs)
	if _, given := checked["name"]; !given && t.typ.NamedByPattern() {
		r.MadeName = madeName(ev.pattern, r)
	}
	r.Needs = ev.needs(r)
	r.Former = former(r)
	ev.out.Resources = append(ev.out.Resources, r)
	if !ev.o.Again {
		ev.digesting.follow(ev.out.Resources)
	}
	return h, nil
}

// named is the name of a resource that may be declared now.
func (t *declarer) named(thread *starlark.Thread, args starlark.Tuple) (string, error) {
	if what, ok := thread.Local(definesOnly).(string); ok {
		return "", fmt.Errorf("%s defines functions and values; it declares no resource while it is loaded", what)
	}
	if len(args) != 1 {
		return "", fmt.Errorf("%s takes one name and then attribute = value; it got %d values without a name", t.full,
			len(args))
	}
	name, ok := args[0].(starlark.String)
	if p, isPending := args[0].(*pending); isPending {
		return "", p.cannot("a resource's name")
	}
	if !ok || !goodName(string(name)) {
		return "", fmt.Errorf("a resource's name is a printable text without spaces, not %s", args[0].String())
	}
	if len(t.d.ev.declared) >= t.d.ev.limits.WardValues {
		return "", fmt.Errorf("the ward declares more than %d resources", t.d.ev.limits.WardValues)
	}
	return string(name), nil
}

// checked holds inputs against the type and reports what is wrong.
func (ev *evaluator) checked(thread *starlark.Thread, r *Resource, inputs value.Map) value.Map {
	checked, faults := r.Type.Check(inputs)
	for _, f := range faults {
		pos, via := r.At(f.Path.String())
		if r.Type.Attribute(f.Path[0].Key) == nil { // its name is wrong, wherever its value comes from
			pos, via = r.index.given(r.trace, f.Path[0].Key)
		}
		p := ev.fault(thread, r, pos, f.Path.String(), f.Message, f.Hint)
		p.Via = via
	}
	r.inputs = checked
	for _, a := range r.Type.Attributes {
		if a.Secret && !a.Output && checked[a.Name] != nil && !value.IsPending(checked[a.Name]) {
			pos, via := r.At(a.Name)
			ev.fault(thread, r, pos, a.Name, a.Name+" is secret, and is written in the code",
				"write secret(\"NAME\"), or take it by input(\"NAME\", secret = True)").Via = via
		}
	}
	return checked
}

// take sorts one given attribute into the inputs, the handle and the care.
func (ev *evaluator) take(thread *starlark.Thread, h *Handle, inputs value.Map, code string, v starlark.Value) {
	r := h.Resource
	if code == "care" {
		c, ok := v.(*careValue)
		if !ok {
			pos, _ := r.At("care")
			ev.fault(thread, r, pos, "care", "care must be care(…), not a value of type "+v.Type(), "")
			return
		}
		if c.care.AtDrop == schema.CopyFirst && !r.Type.Copies {
			ev.cannotCopy(thread, r)
		}
		r.Care = c.care.over(r.Care)
		return
	}
	name, known := h.declarer.code[code]
	if !known {
		name = code
	}
	if v == starlark.None {
		return
	}
	attr := r.Type.Attribute(name)
	conv := converter{levels: ev.limits.Levels, attr: attr, driver: r.Driver}
	x, wrong := conv.convert(v, attr, 1)
	if wrong != nil {
		pos, via := r.index.attribute(r.trace, code)
		p := ev.fault(thread, r, pos, name, wrong.at(value.Path{value.Key(name)}).Error(), "")
		p.Via = via
		inputs[name] = value.NewRef(r.Full(), value.Key(name)) // stands in, so that it does not count as missing
		return
	}
	h.given = append(h.given, givenValue{name, v})
	inputs[name] = x
}

func (ev *evaluator) cannotCopy(thread *starlark.Thread, r *Resource) {
	pos, _ := r.At("care")
	var can []string
	for _, name := range ev.o.Catalogs[r.Driver].Names() {
		if ev.o.Catalogs[r.Driver].Types[name].Copies {
			can = append(can, r.Driver+"."+name)
		}
	}
	hint := "no type of " + r.Driver + " can be copied"
	if can != nil {
		hint = "what can be copied: " + strings.Join(can, ", ")
	}
	ev.fault(thread, r, pos, "care.at_drop", "at_drop is \"copy-first\", and a "+r.FullType()+" cannot be copied", hint)
}

// fault notes something wrong with a declaration.
func (ev *evaluator) fault(thread *starlark.Thread, r *Resource, pos problem.Position, path, msg,
	hint string) *problem.Problem {
	p := ev.wrong(pos, "%s%s", msg, ev.index.loopValues(thread))
	p.Address, p.Path, p.Hint = r.Address, path, hint
	_, p.Via = r.Position()
	return p
}

// needs lists what a resource's inputs and care make it need, and notes whether they
// look beyond that. What a thing that is looked up is found by is needed as well.
func (ev *evaluator) needs(r *Resource) []Need {
	var out []Need
	var seen texts
	var add func(address, why string)
	add = func(address, why string) {
		if address == r.Full() || !seen.add(address) {
			return
		}
		if f := ev.s.found(address); f != nil {
			r.beyond = true
			value.Refs(f.Match, func(ref value.Ref) { add(ref.Address, why) })
			return
		}
		if _, secret := value.SecretName(address); secret {
			r.beyond = true
			return
		}
		out = append(out, Need{address, why})
	}
	for _, a := range r.Type.Attributes {
		if v, ok := r.inputs[a.Name]; ok {
			value.Refs(v, func(ref value.Ref) {
				add(ref.Address, a.Name)
				r.moving = r.moving || ev.s.moves(ref)
			})
		}
	}
	for _, a := range r.Care.After {
		add(a, "after")
	}
	return out
}

// moves reports whether a reference is to an output that moves with work on other things.
func (s *evaluation) moves(ref value.Ref) bool {
	if len(ref.Path) == 0 {
		return false
	}
	a, _ := s.describe(value.Ref{Address: ref.Address, Path: ref.Path[:1]})
	return a != nil && a.Moves
}

// texts is a set of texts that is most often small.
type texts struct {
	few  [8]string
	n    int
	many map[string]bool
}

// add reports whether s was not in the set yet.
func (t *texts) add(s string) bool {
	switch {
	case t.many[s] || slices.Contains(t.few[:t.n], s):
		return false
	case t.n < len(t.few):
		t.few[t.n] = s
		t.n++
	case t.many == nil:
		t.many = map[string]bool{s: true}
	default:
		t.many[s] = true
	}
	return true
}

func goodName(s string) bool {
	if s == "" || len(s) > 1000 || !utf8.ValidString(s) {
		return false
	}
	for _, c := range s {
		if c > ' ' && c < 0x7f {
			continue
		}
		if unicode.IsSpace(c) || !unicode.IsPrint(c) {
			return false
		}
	}
	return true
}

// Identifier is the name of a type or attribute as the language can write it.
func Identifier(name string) string {
	var b strings.Builder
	for i, c := range name {
		if c == '_' || unicode.IsLetter(c) || i > 0 && unicode.IsDigit(c) {
			b.WriteRune(c)
		} else {
			b.WriteByte('_')
		}
	}
	s := b.String()
	if reserved[s] {
		s += "_"
	}
	return s
}

// reserved are the language's keywords and reserved words.
var reserved = map[string]bool{
	"and": true, "break": true, "continue": true, "def": true, "elif": true, "else": true, "for": true, "if": true,
	"in": true, "lambda": true, "load": true, "not": true, "or": true, "pass": true, "return": true, "while": true,
	"as": true, "assert": true, "async": true, "await": true, "class": true, "del": true, "except": true,
	"finally": true, "from": true, "global": true, "import": true, "is": true, "nonlocal": true, "raise": true,
	"try": true, "with": true, "yield": true,
}

// Handle is what a declaration returns. Its attributes are what was given,
// or pending.
type Handle struct {
	*Resource
	ev       *evaluator
	typ      *schema.Type
	declarer *declarer
	given    []givenValue
	asked    []*pending // the pending attributes that were asked for: they are asked for again
}

// givenValue is an attribute as it was given, by its schema name.
type givenValue struct {
	name string
	is   starlark.Value
}

var (
	_ starlark.HasAttrs   = (*Handle)(nil)
	_ starlark.Comparable = (*Handle)(nil)
)

func (h *Handle) String() string        { return "<" + h.Address + ">" }
func (h *Handle) Type() string          { return "handle of " + h.FullType() }
func (h *Handle) Truth() starlark.Bool  { return true }
func (h *Handle) Hash() (uint32, error) { return starlark.String(h.Full()).Hash() }

// Freeze freezes the values that were given.
func (h *Handle) Freeze() {
	for _, v := range h.given {
		v.is.Freeze()
	}
}

// CompareSameType tells handles apart by address.
func (h *Handle) CompareSameType(op syntax.Token, y starlark.Value, _ int) (bool, error) {
	return identical(op, h.Resource == y.(*Handle).Resource)
}

// identical answers a comparison of things that can only be the same or not.
func identical(op syntax.Token, same bool) (bool, error) {
	switch op {
	case syntax.EQL:
		return same, nil
	case syntax.NEQ:
		return !same, nil
	}
	return false, errors.New("handles have no order")
}

// AttrNames lists the attributes as the language writes them.
func (h *Handle) AttrNames() []string { return value.Keys(h.declarer.code) }

// Attr is an attribute: the given value, or a pending one.
func (h *Handle) Attr(code string) (starlark.Value, error) {
	name, ok := h.declarer.code[code]
	if !ok {
		msg := fmt.Sprintf("%s has no attribute %q", schema.WithArticle(h.FullType()), code)
		if hint := nearest.Hint(code, h.AttrNames()); hint != "" {
			msg += "; " + hint
		}
		return nil, errors.New(msg)
	}
	for _, v := range h.given {
		if v.name == name {
			return v.is, nil
		}
	}
	attr := h.typ.Attribute(name)
	for _, p := range h.asked {
		if p.attr == attr {
			return p, nil
		}
	}
	why := "it was left out, so the cloud decides it"
	if attr.Output {
		why = "the cloud decides it"
	}
	p := h.ev.reference(h.Full(), h.typ, attr, why)
	h.asked = append(h.asked, p)
	return p, nil
}
