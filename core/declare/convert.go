package declare

import (
	"errors"
	"fmt"
	"unicode/utf8"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// converter turns values of the language into attribute values. A handle
// becomes the id of its resource where the schema refers to its type.
type converter struct {
	levels int
	attr   *schema.Attribute
	driver string
}

func (c converter) value(v starlark.Value, attr *schema.Attribute, path value.Path) (any, error) {
	if len(path) > c.levels {
		return nil, fmt.Errorf("%s is nested deeper than %d levels", path[:1], c.levels)
	}
	switch v := v.(type) {
	case starlark.NoneType:
		return nil, nil
	case starlark.Bool:
		return bool(v), nil
	case starlark.Int:
		n, ok := v.Int64()
		if !ok {
			return nil, fmt.Errorf("%s: %s is too large a number", path, v)
		}
		return n, nil
	case starlark.Float:
		return value.Normal(float64(v))
	case starlark.String:
		if !utf8.ValidString(string(v)) {
			return nil, fmt.Errorf("%s holds bytes that are no UTF-8", path)
		}
		return string(v), nil
	case *pending:
		return c.pending(v, attr, path)
	case *Handle:
		return c.handle(thing{v.Full(), v.Address, v.Driver, v.typ}, attr, path)
	case *found:
		_, short := value.SplitWard(v.Address)
		return c.handle(thing{v.Address, short, v.Driver, v.Find.Type}, attr, path)
	case *starlark.Dict:
		out := make(value.Map, v.Len())
		for _, item := range v.Items() {
			k, ok := item[0].(starlark.String)
			if !ok {
				return nil, fmt.Errorf("%s: the keys of a map are texts, and this one is a %s", path, item[0].Type())
			}
			if err := c.into(out, string(k), item[1], attr, path); err != nil {
				return nil, err
			}
		}
		return out, nil
	case *starlarkstruct.Struct:
		out := value.Map{}
		for _, k := range v.AttrNames() {
			e, err := v.Attr(k)
			if err != nil {
				return nil, err
			}
			if err := c.into(out, k, e, attr, path); err != nil {
				return nil, err
			}
		}
		return out, nil
	case *starlark.List:
		return c.list(v, v.Len(), attr, path)
	case starlark.Tuple:
		return c.list(v, v.Len(), attr, path)
	}
	return nil, fmt.Errorf("%s cannot hold a %s", path, v.Type())
}

func (c converter) into(out value.Map, key string, v starlark.Value, attr *schema.Attribute, path value.Path) error {
	if !utf8.ValidString(key) {
		return fmt.Errorf("%s has a key with bytes that are no UTF-8", path)
	}
	e, err := c.value(v, child(attr, value.Key(key)), append(path, value.Key(key)))
	if err == nil && e != nil {
		out[key] = e
	}
	return err
}

func (c converter) list(v starlark.Indexable, n int, attr *schema.Attribute, path value.Path) (any, error) {
	out := make([]any, n)
	for i := range out {
		e, err := c.value(v.Index(i), child(attr, value.Item(i)), append(path, value.Item(i)))
		if err != nil {
			return nil, err
		}
		out[i] = e
	}
	return out, nil
}

func child(a *schema.Attribute, s value.Step) *schema.Attribute {
	if a == nil {
		return nil
	}
	if a.Kind == schema.Record {
		for _, f := range a.Fields {
			if f.Name == s.Key {
				return f
			}
		}
		return nil
	}
	return a.Elem
}

// thing is what a handle or a found thing stands for.
type thing struct {
	address, short string // with and without its ward
	driver         string
	typ            *schema.Type
}

func (c converter) handle(t thing, attr *schema.Attribute, path value.Path) (any, error) {
	full := t.driver + "." + t.typ.Name
	if attr == nil || attr.Refers == "" {
		return nil, fmt.Errorf("%s wants a value, and this is the handle of %s: write one of its attributes, such as .%s", path, t.short, t.typ.ID)
	}
	if t.typ.Name != attr.Refers || t.driver != c.driver {
		return nil, fmt.Errorf("%s wants a %s.%s, and this is the handle of %s, a %s", path, c.driver, attr.Refers, t.short, full)
	}
	return value.NewRef(t.address, value.Key(t.typ.ID)), nil
}

func (c converter) pending(p *pending, attr *schema.Attribute, path value.Path) (any, error) {
	if p.missing {
		return p.p, nil
	}
	if attr == nil {
		return p.p, nil
	}
	if attr.Refers != "" && p.of != nil && p.attr.Name == p.of.ID && p.of.Name != attr.Refers {
		return nil, fmt.Errorf("%s wants the id of a %s.%s, and this is the id of %s, a %s", path, c.driver, attr.Refers, p.p.Ref.Address, p.of.Name)
	}
	if k := p.kind(); p.p.Ref != nil && k != schema.Any && attr.Kind != schema.Any && !fits(k, attr.Kind) {
		return nil, fmt.Errorf("%s wants a %s, and %s is a %s", path, attr.Kind, p.p, k)
	}
	return p.p, nil
}

func fits(have, want schema.Kind) bool {
	return have == want || have == schema.Int && want == schema.Number
}

// fromValue turns a value into one of the language.
func (ev *evaluator) fromValue(v any) (starlark.Value, error) {
	switch v := v.(type) {
	case nil:
		return starlark.None, nil
	case bool:
		return starlark.Bool(v), nil
	case int64:
		return starlark.MakeInt64(v), nil
	case float64:
		return starlark.Float(v), nil
	case string:
		return starlark.String(v), nil
	case []any:
		out := make([]starlark.Value, len(v))
		for i := range v {
			e, err := ev.fromValue(v[i])
			if err != nil {
				return nil, err
			}
			out[i] = e
		}
		return starlark.NewList(out), nil
	case map[string]any:
		out := starlark.NewDict(len(v))
		for _, k := range value.Keys(v) {
			e, err := ev.fromValue(v[k])
			if err != nil {
				return nil, err
			}
			if err := out.SetKey(starlark.String(k), e); err != nil {
				return nil, err
			}
		}
		return out, nil
	case *value.Pending:
		if v.Ref == nil {
			p := ev.text()
			p.p = v
			return p, nil
		}
		attr, typ := ev.s.describe(*v.Ref)
		return &pending{ev: ev, p: v, attr: attr, of: typ, why: "the cloud decides it"}, nil
	}
	return nil, errors.New("a " + value.Kind(v) + " cannot be a value of the language")
}

// filled puts the defaults of a record's fields in where a value leaves them
// out. Values that are whole are returned as they are.
func (ev *evaluator) filled(v starlark.Value, a *schema.Attribute) (starlark.Value, error) {
	if a == nil || a.Kind != schema.Record && a.Elem == nil {
		return v, nil
	}
	switch d := v.(type) {
	case *starlark.Dict:
		out := starlark.NewDict(d.Len())
		for _, item := range d.Items() {
			name, _ := item[0].(starlark.String)
			e, err := ev.filled(item[1], child(a, value.Key(string(name))))
			if err == nil {
				err = out.SetKey(item[0], e)
			}
			if err != nil {
				return nil, err
			}
		}
		for _, f := range a.Fields {
			if _, has, err := out.Get(starlark.String(f.Name)); err != nil || has || !f.HasDefault {
				continue
			}
			def, err := ev.fromValue(f.Default)
			if err == nil {
				err = out.SetKey(starlark.String(f.Name), def)
			}
			if err != nil {
				return nil, err
			}
		}
		return out, nil
	case *starlark.List:
		out := make([]starlark.Value, d.Len())
		for i := range out {
			e, err := ev.filled(d.Index(i), a.Elem)
			if err != nil {
				return nil, err
			}
			out[i] = e
		}
		return starlark.NewList(out), nil
	}
	return v, nil
}
