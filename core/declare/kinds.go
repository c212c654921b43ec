package declare

import (
	"errors"
	"fmt"
	"regexp"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"

	"kasbah/core/form"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// kindValue is what `kind.text` and its like are. Calling one narrows it:
// `kind.int(min = 1, default = 3, help = "…")`.
type kindValue struct {
	attr *schema.Attribute
	def  starlark.Value // nil when there is none
}

// handleKind is the kind of an input of a kit that wants a resource's handle.
const handleKind schema.Kind = "handle"

var _ starlark.Callable = (*kindValue)(nil)

func (k *kindValue) String() string        { return k.Name() }
func (k *kindValue) Name() string          { return "kind." + kindName(k.attr) }
func (k *kindValue) Type() string          { return "kind" }
func (k *kindValue) Freeze()               {}
func (k *kindValue) Truth() starlark.Bool  { return true }
func (k *kindValue) Hash() (uint32, error) { return 0, errors.New("a kind cannot be a key") }

// CallInternal narrows the kind by constraints.
func (k *kindValue) CallInternal(_ *starlark.Thread, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value,
	error) {
	if len(args) > 0 {
		return nil, fmt.Errorf("%s takes constraints by name, such as default = …", k.Name())
	}
	return k.narrowed(kwargs)
}

func (k *kindValue) narrowed(kwargs []starlark.Tuple) (*kindValue, error) {
	attr := *k.attr
	b := bounds{minLength: -1, maxLength: -1}
	out := &kindValue{attr: &attr, def: k.def}
	if err := starlark.UnpackArgs(k.Name(), nil, kwargs, "default?", &out.def, "help?", &attr.Help, "one_of?", &b.oneOf,
		"min?", &b.lo, "max?", &b.hi, "min_length?", &b.minLength, "max_length?", &b.maxLength, "matches?",
		&attr.Pattern); err != nil {
		return nil, err
	}
	if out.def != nil {
		out.def.Freeze()
	}
	return out, b.set(&attr, schemaLevels)
}

// schemaLevels bounds the nesting of constraints.
const schemaLevels = 10

// KindName writes a kind of value as the language does, without `kind.`.
func KindName(a *schema.Attribute) string { return kindName(a) }

func kindName(a *schema.Attribute) string {
	switch {
	case a.Kind == handleKind:
		return fmt.Sprintf("handle(%q)", a.Refers)
	case a.Format != "":
		return a.Format
	case a.Elem != nil:
		return fmt.Sprintf("%s(%s)", a.Kind, kindName(a.Elem))
	}
	return string(a.Kind)
}

// hasHandle reports whether a kind is or holds that of a handle.
func hasHandle(a *schema.Attribute) bool {
	if a == nil || a.Kind == handleKind {
		return a != nil
	}
	for _, f := range a.Fields {
		if hasHandle(f) {
			return true
		}
	}
	return hasHandle(a.Elem)
}

func kinds() *starlarkstruct.Module {
	one := func(k schema.Kind, format string) *kindValue {
		return &kindValue{attr: &schema.Attribute{Kind: k, Format: format}}
	}
	// of makes a kind from one argument, and narrows it by the rest
	of := func(name string, f func(arg starlark.Value) (*schema.Attribute, error)) *starlark.Builtin {
		return starlark.NewBuiltin("kind."+name, func(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
			kwargs []starlark.Tuple) (starlark.Value, error) {
			if len(args) != 1 {
				return nil, fmt.Errorf("kind.%s takes one value before its constraints; it got %d", name, len(args))
			}
			attr, err := f(args[0])
			if err != nil {
				return nil, err
			}
			return (&kindValue{attr: attr}).narrowed(kwargs)
		})
	}
	nested := func(name string, k schema.Kind) *starlark.Builtin {
		return of(name, func(arg starlark.Value) (*schema.Attribute, error) {
			elem, ok := arg.(*kindValue)
			if !ok {
				return nil, fmt.Errorf("kind.%s must be a kind, not %s", name, schema.WithArticle(arg.Type()))
			}
			return &schema.Attribute{Kind: k, Elem: elem.attr}, nil
		})
	}
	return &starlarkstruct.Module{Name: "kind", Members: starlark.StringDict{
		"text": one(schema.Text, ""), "int": one(schema.Int, ""), "number": one(schema.Number, ""),
		"bool": one(schema.Bool, ""),
		"cidr": one(schema.Text, "cidr"), "duration": one(schema.Text, schema.FormatTimespan), "any": one(schema.Any,
			""),
		"list": nested("list", schema.List), "map": nested("map", schema.MapOf), "record": of("record", recordKind),
		"handle": of("handle", func(arg starlark.Value) (*schema.Attribute, error) {
			s, ok := arg.(starlark.String)
			if !ok || !typeForm().MatchString(string(s)) {
				return nil, errors.New("kind.handle needs a type with its driver, such as \"medina.subnet\"")
			}
			return &schema.Attribute{Kind: handleKind, Refers: string(s)}, nil
		}),
	}}
}

var typeForm = form.Of(`^[a-z][a-z0-9-]*\.[^./ ]+$`)

func recordKind(arg starlark.Value) (*schema.Attribute, error) {
	fields, ok := arg.(*starlark.Dict)
	if !ok {
		return nil, errors.New("kind.record needs a map of names to kinds")
	}
	a := &schema.Attribute{Kind: schema.Record}
	for _, item := range fields.Items() {
		name, ok1 := item[0].(starlark.String)
		k, ok2 := item[1].(*kindValue)
		if !ok1 || !ok2 {
			return nil, errors.New("kind.record needs a map of names to kinds")
		}
		f := *k.attr
		f.Name, f.Required = string(name), k.def == nil
		if k.def != nil {
			v, err := converter{levels: schemaLevels}.value(k.def, nil, value.Path{value.Key(f.Name)})
			if err != nil {
				return nil, err
			}
			f.Default, f.HasDefault = v, true
		}
		a.Fields = append(a.Fields, &f)
	}
	return a, nil
}

// bounds are the constraints that input() and kinds take.
type bounds struct {
	oneOf, lo, hi        starlark.Value
	minLength, maxLength int // -1 for none
}

func (b bounds) set(a *schema.Attribute, levels int) error {
	number := func(v starlark.Value, name string, to **float64) error {
		if v == nil || v == starlark.None {
			return nil
		}
		f, ok := starlark.AsFloat(v)
		if !ok {
			return fmt.Errorf("%s must be a number, not %s", name, schema.WithArticle(v.Type()))
		}
		if a.Kind != schema.Int && a.Kind != schema.Number && a.Kind != schema.Any {
			return fmt.Errorf("%s is for numbers, and the kind is %s", name, kindName(a))
		}
		*to = &f
		return nil
	}
	if err := number(b.lo, "min", &a.Min); err != nil {
		return err
	}
	if err := number(b.hi, "max", &a.Max); err != nil {
		return err
	}
	if b.minLength >= 0 || b.maxLength >= 0 {
		switch a.Kind {
		case schema.Int, schema.Number, schema.Bool, handleKind:
			return fmt.Errorf("min_length and max_length are for texts, lists and maps, and the kind is %s",
				kindName(a))
		}
	}
	if b.minLength >= 0 {
		a.MinLength = &b.minLength
	}
	if b.maxLength >= 0 {
		a.MaxLength = &b.maxLength
	}
	if a.Pattern != "" {
		if a.Kind != schema.Text && a.Kind != schema.Any {
			return fmt.Errorf("matches is for texts, and the kind is %s", kindName(a))
		}
		if _, err := regexp.Compile(a.Pattern); err != nil {
			return fmt.Errorf("matches: %v", err)
		}
	}
	if b.oneOf == nil || b.oneOf == starlark.None {
		return nil
	}
	v, err := converter{levels: levels}.value(b.oneOf, nil, value.Path{value.Key("one_of")})
	if err != nil {
		return err
	}
	list, ok := v.([]any)
	if !ok || value.IsPending(v) {
		return errors.New("one_of must be a list of known values")
	}
	a.OneOf = list
	return nil
}
