package declare

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"go.starlark.net/starlark"

	"kasbah/core/estate"
	"kasbah/core/form"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Kit is a kit that declarations may load, opened.
type Kit struct {
	*estate.Kit
	Root *os.Root // of its folder
	// Folder is where it is below the estate's folder; "" for a kit of another place.
	Folder string
	Err    error // why it cannot be used; the rest may be missing then
}

// kitCode is the file of a kit that is loaded.
const kitCode = "kit.star"

// Instance is one opening of a kit.
type Instance struct {
	Name     string
	Kit      string // "" for a function that was wrapped outside of a kit's folder
	Version  string
	Position problem.Position
	Former   string // its name before, by its care; "" when it was not renamed
}

// scope is where declarations happen: the ward, or an instance in it.
type scope struct {
	path    string // "", or the instances around, each with a slash behind it
	within  []*Instance
	opened  map[string]problem.Position // instances opened in it
	drivers map[string]*driver          // that the instance was given, or those around it
	care    Care
}

func (ev *evaluator) scope() *scope { return ev.scopes[len(ev.scopes)-1] }

// driver is the one that a kit's code means by a kind: what the instance was
// given, or the estate's of that name.
func (ev *evaluator) driver(kind string) *driver {
	if d := ev.scope().drivers[kind]; d != nil {
		return d
	}
	return ev.drivers[kind]
}

// kitDriver is a driver as a kit's code names it.
type kitDriver struct {
	ev   *evaluator
	name string // the kind
}

var _ starlark.HasAttrs = (*kitDriver)(nil)

func (d *kitDriver) String() string        { return "driver " + d.name }
func (d *kitDriver) Type() string          { return "driver" }
func (d *kitDriver) Freeze()               {}
func (d *kitDriver) Truth() starlark.Bool  { return true }
func (d *kitDriver) Hash() (uint32, error) { return 0, errors.New("a kit's driver cannot be a key") }
func (d *kitDriver) AttrNames() []string {
	if is := d.ev.driver(d.name); is != nil {
		return is.AttrNames()
	}
	return nil
}

// Attr is a resource type of the driver that stands behind the name now.
func (d *kitDriver) Attr(name string) (starlark.Value, error) {
	is := d.ev.driver(d.name)
	if is == nil {
		return nil, fmt.Errorf("the estate has no driver called %s: hand the instance one with drivers = {%q: …}",
			d.name, d.name)
	}
	return is.Attr(name)
}

// kitValue is what kit(…) returns: calling it opens an instance.
type kitValue struct {
	ev     *evaluator
	fn     *starlark.Function
	inputs []*kitInput
	help   string
	kit    *Kit // nil outside of a kit's folder
}

type kitInput struct {
	attr *schema.Attribute // its Name is the input's
	def  starlark.Value    // nil when there is none
}

var _ starlark.Callable = (*kitValue)(nil)

func (k *kitValue) String() string        { return k.Type() + " " + k.Name() }
func (k *kitValue) Type() string          { return "kit" }
func (k *kitValue) Freeze()               {}
func (k *kitValue) Truth() starlark.Bool  { return true }
func (k *kitValue) Hash() (uint32, error) { return 0, errors.New("a kit cannot be a key") }

// Name is that of the kit, or of the function it wraps.
func (k *kitValue) Name() string {
	if k.kit != nil {
		return k.kit.Name
	}
	return k.fn.Name()
}

// kit is the built-in of that name.
func (ev *evaluator) kit(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var fn *starlark.Function
	var inputs *starlark.Dict
	k := &kitValue{ev: ev}
	if err := starlark.UnpackArgs("kit", args, kwargs, "function", &fn, "inputs?", &inputs, "help?",
		&k.help); err != nil {
		return nil, err
	}
	k.fn = fn
	params := map[string]starlark.Value{}
	for i := 0; i < fn.NumParams(); i++ {
		name, _ := fn.Param(i)
		params[name] = fn.ParamDefault(i)
	}
	if fn.HasVarargs() || fn.HasKwargs() {
		return nil, fmt.Errorf("kit: %s takes *args or **kwargs, and a kit's inputs are named one by one", fn.Name())
	}
	if inputs != nil {
		for _, item := range inputs.Items() {
			name, ok1 := item[0].(starlark.String)
			kv, ok2 := item[1].(*kindValue)
			if !ok1 || !ok2 {
				return nil, fmt.Errorf("kit: inputs must be a map of names to kinds; %s is %s", item[0],
					schema.WithArticle(item[1].Type()))
			}
			def, takes := params[string(name)]
			if !takes {
				return nil, fmt.Errorf("kit: %s takes no %s", fn.Name(), string(name))
			}
			if kv.def != nil {
				def = kv.def
			}
			attr := *kv.attr
			attr.Name = string(name)
			if def != nil && def != starlark.None {
				if faults := k.fits(def, &attr, value.Path{value.Key(attr.Name)}); len(faults) > 0 {
					return nil, fmt.Errorf("kit: the default of %s", faults[0].Message)
				}
			}
			k.inputs = append(k.inputs, &kitInput{attr: &attr, def: def})
			delete(params, string(name))
		}
	}
	for _, name := range value.Keys(params) {
		return nil, fmt.Errorf("kit: %s takes %s, and inputs does not say of which kind it is", fn.Name(), name)
	}
	for _, in := range k.inputs {
		if in.attr.Name == "drivers" || in.attr.Name == "care" {
			return nil, fmt.Errorf("kit: no input can be called %s: every instance takes %s", in.attr.Name,
				in.attr.Name)
		}
	}
	k.kit = ev.kitOf(fn.Position().Filename())
	return k, nil
}

// kitOf is the kit whose folder holds a file.
func (ev *evaluator) kitOf(file string) *Kit {
	rest, ok := strings.CutPrefix(file, kitPrefix)
	if !ok {
		return nil
	}
	name, _, _ := strings.Cut(rest, "/")
	return ev.o.Kits[name]
}

var instanceForm = form.Of(`^[a-z][a-z0-9-]*$`)

// CallInternal opens an instance: everything that is declared during the call
// is addressed below its name. All that is wrong with the inputs is reported
// together.
func (k *kitValue) CallInternal(thread *starlark.Thread, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value,
	error) {
	ev := k.ev
	if len(args) != 1 {
		return nil, fmt.Errorf("%s takes one name for the instance and then input = value; it got %d values without "+
			"a name", k, len(args))
	}
	if p, ok := args[0].(*pending); ok {
		return nil, p.cannot("an instance's name")
	}
	name, ok := args[0].(starlark.String)
	if !ok || !instanceForm().MatchString(string(name)) {
		return nil, fmt.Errorf("%s cannot name an instance: use a-z, 0-9 and -, starting with a letter", args[0])
	}
	if what, ok := thread.Local(definesOnly).(string); ok {
		return nil, fmt.Errorf("%s defines functions and values; it opens no instance while it is loaded", what)
	}
	out, in := ev.scope(), &Instance{Name: string(name), Position: ev.caller(thread)}
	if k.kit != nil {
		in.Kit, in.Version = k.kit.Name, k.kit.Version
	}
	if first, twice := out.opened[in.Name]; twice {
		return nil, fmt.Errorf("the instance %s%s is opened twice; the first is at %s", out.path, in.Name, first)
	}
	out.opened[in.Name] = in.Position
	s := &scope{path: out.path + in.Name + "/", opened: map[string]problem.Position{}, drivers: out.drivers,
		care: out.care}
	s.within = append(out.within[:len(out.within):len(out.within)], in)
	given, err := k.take(thread, s, kwargs)
	if err != nil {
		return nil, err
	}
	ev.scopes = append(ev.scopes, s)
	defer func() { ev.scopes = ev.scopes[:len(ev.scopes)-1] }()
	return starlark.Call(thread, k.fn, nil, given)
}

// take sorts the arguments of an instance into its scope and the inputs, and
// reports every fault in them.
func (k *kitValue) take(thread *starlark.Thread, s *scope, kwargs []starlark.Tuple) ([]starlark.Tuple, error) {
	ev := k.ev
	wrong := 0
	tr := traceOf(thread)
	fault := func(arg, hint, format string, args ...any) {
		wrong++
		pos, via := ev.index.argument(tr, arg)
		p := ev.wrong(pos, "%s %s: %s%s", k, s.path[:len(s.path)-1], fmt.Sprintf(format, args...),
			ev.index.loopValues(thread))
		p.Hint, p.Via = hint, via
		if k.kit != nil {
			p.Via = append(p.Via, "of "+position(k.fn.Position()).Short())
		}
	}
	byName := map[string]starlark.Value{}
	for _, kv := range kwargs {
		byName[string(kv[0].(starlark.String))] = kv[1]
	}
	if v, ok := byName["care"]; ok {
		if c, ok := v.(*careValue); ok {
			s.care = c.care.over(s.care)
			s.within[len(s.within)-1].Former, s.care.RenamedFrom = s.care.RenamedFrom, ""
		} else if v != starlark.None {
			fault("care", "", "care must be care(…), not a value of type %s", v.Type())
		}
		delete(byName, "care")
	}
	if v, ok := byName["drivers"]; ok {
		if err := s.give(ev, v); err != nil {
			fault("drivers", "", "%v", err)
		}
		delete(byName, "drivers")
	}
	ev.scopes = append(ev.scopes, s) // for what kinds of handles mean inside
	defer func() { ev.scopes = ev.scopes[:len(ev.scopes)-1] }()
	if k.kit != nil {
		for _, kind := range k.kit.Drivers {
			if d := ev.driver(kind); d == nil || ev.o.Kinds[d.name] != kind {
				fault("drivers", "hand it one with drivers = {\""+kind+"\": …}",
					"it needs a driver of kind %s, and the estate has none", kind)
			}
		}
	}
	var out []starlark.Tuple
	var names []string
	for _, in := range k.inputs {
		name := in.attr.Name
		names = append(names, name)
		v, given := byName[name]
		delete(byName, name)
		if given && v == starlark.None && in.def != starlark.None {
			given = false // None is the same as leaving it out
		}
		if !given {
			if in.def == nil {
				fault(name, helpHint(in.attr), "%s is required and missing", name)
				continue
			}
			v = in.def
		} else if v != starlark.None {
			for _, f := range k.fits(v, in.attr, value.Path{value.Key(name)}) {
				fault(name, f.Hint, "%s", f.Message)
			}
		}
		v, err := ev.filled(v, in.attr)
		if err != nil {
			return nil, err
		}
		out = append(out, starlark.Tuple{starlark.String(name), v})
	}
	for _, name := range value.Keys(byName) {
		fault(name, nearest.Hint(name, names), "it has no input %q", name)
	}
	if wrong > 0 {
		return nil, errSeen
	}
	return out, nil
}

func helpHint(a *schema.Attribute) string {
	if a.Help == "" {
		return ""
	}
	return a.Name + ": " + a.Help
}

// give reads drivers = {…} of an instance.
func (s *scope) give(ev *evaluator, v starlark.Value) error {
	d, ok := v.(*starlark.Dict)
	if !ok {
		return fmt.Errorf("drivers must be a map of kinds to drivers, not %s", schema.WithArticle(v.Type()))
	}
	drivers := map[string]*driver{}
	for name, is := range s.drivers {
		drivers[name] = is
	}
	for _, item := range d.Items() {
		kind, ok := item[0].(starlark.String)
		is, _ := item[1].(*driver)
		if inner, through := item[1].(*kitDriver); through {
			is = ev.driver(inner.name)
		}
		if !ok || is == nil {
			return fmt.Errorf("drivers must be a map of kinds to drivers; %s is %s", item[0],
				schema.WithArticle(item[1].Type()))
		}
		if ev.o.Kinds[is.name] != string(kind) {
			return fmt.Errorf("driver %s is of kind %s, not %s", is.name, ev.o.Kinds[is.name], string(kind))
		}
		drivers[string(kind)] = is
	}
	s.drivers = drivers
	return nil
}

// fits holds a value against the kind of a kit's input.
func (k *kitValue) fits(v starlark.Value, a *schema.Attribute, path value.Path) []schema.Fault {
	if !hasHandle(a) {
		if a.Kind == schema.Any && len(a.OneOf) == 0 && a.Pattern == "" {
			return nil
		}
		x, err := converter{levels: k.ev.limits.Levels}.value(v, nil, path)
		if err != nil {
			return []schema.Fault{{Path: path, Message: err.Error()}}
		}
		_, faults := a.Check(x, path)
		return faults
	}
	fault := func(format string, args ...any) []schema.Fault {
		return []schema.Fault{{Path: path, Message: fmt.Sprintf(format, args...)}}
	}
	deeper := func(s value.Step) value.Path { return append(path[:len(path):len(path)], s) }
	var out []schema.Fault
	switch a.Kind {
	case handleKind:
		full := ""
		switch h := v.(type) {
		case *Handle:
			full = h.FullType()
		case *found:
			full = h.FullType()
		default:
			return fault("%s must be the handle of %s, not %s", path, schema.WithArticle(a.Refers),
				schema.WithArticle(v.Type()))
		}
		if want := k.means(a.Refers); full != want {
			return fault("%s must be the handle of %s, not that of %s", path, schema.WithArticle(want),
				schema.WithArticle(full))
		}
	case schema.List:
		list, ok := v.(starlark.Indexable)
		if _, isText := v.(starlark.String); !ok || isText {
			return fault("%s must be a list, not %s", path, schema.WithArticle(v.Type()))
		}
		for i := 0; i < list.Len(); i++ {
			out = append(out, k.fits(list.Index(i), a.Elem, deeper(value.Item(i)))...)
		}
	default:
		d, ok := v.(*starlark.Dict)
		if !ok {
			return fault("%s must be a %s, not %s", path, a.Kind, schema.WithArticle(v.Type()))
		}
		for _, item := range d.Items() {
			key, ok := item[0].(starlark.String)
			of := child(a, value.Key(string(key)))
			if !ok || of == nil {
				out = append(out, fault("%s has no field %s", path, item[0])...)
				continue
			}
			out = append(out, k.fits(item[1], of, deeper(value.Key(string(key))))...)
		}
		for _, f := range a.Fields {
			if _, has, err := d.Get(starlark.String(f.Name)); err == nil && !has && f.Required {
				out = append(out, fault("%s.%s is required and missing", path, f.Name)...)
			}
		}
	}
	return out
}

// means is a type as the kit's code names it, with the driver that stands
// behind the name now.
func (k *kitValue) means(typ string) string {
	kind, name, _ := strings.Cut(typ, ".")
	if d := k.ev.driver(kind); d != nil {
		return d.name + "." + name
	}
	return typ
}
