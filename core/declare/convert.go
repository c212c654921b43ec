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

// value converts what is at path.
func (c converter) value(v starlark.Value, attr *schema.Attribute, path value.Path) (any, error) {
	x, err := c.convert(v, attr, len(path))
	if err != nil {
		return nil, err.at(path)
	}
	return x, nil
}

// unfit says why something cannot be converted. The path to it begins at the
// value that was to be converted, so that it is only made when it is needed.
type unfit struct {
	path  value.Path
	words string // what follows the path
	deep  bool   // it is nested too deep
}

func (u *unfit) at(path value.Path) error {
	return errors.New(append(path[:len(path):len(path)], u.path...).String() + u.words)
}

func unfitting(format string, args ...any) *unfit { return &unfit{words: fmt.Sprintf(format, args...)} }

func (c converter) convert(v starlark.Value, attr *schema.Attribute, level int) (any, *unfit) {
	if level > c.levels {
		return nil, &unfit{deep: true, words: fmt.Sprintf(" is nested deeper than %d levels", c.levels)}
	}
	switch v := v.(type) {
	case starlark.NoneType:
		return nil, nil
	case starlark.Bool:
		return bool(v), nil
	case starlark.Int:
		n, ok := v.Int64()
		if !ok {
			return nil, unfitting(": %s is too large a number", v)
		}
		return n, nil
	case starlark.Float:
		x, err := value.Normal(float64(v))
		if err != nil {
			return nil, unfitting(": %v", err)
		}
		return x, nil
	case starlark.String:
		if !utf8.ValidString(string(v)) {
			return nil, unfitting(" holds bytes that are not UTF-8")
		}
		return string(v), nil
	case *pending:
		return c.pending(v, attr)
	case *Handle:
		return c.handle(thing{v.Full(), v.Address, v.Driver, v.typ}, attr)
	case *found:
		_, short := value.SplitWard(v.Address)
		return c.handle(thing{v.Address, short, v.Driver, v.Find.Type}, attr)
	case *starlark.Dict:
		out := make(value.Map, v.Len())
		for k, e := range v.Entries() {
			name, ok := k.(starlark.String)
			if !ok {
				return nil, unfitting(": the keys of a map are texts, and this one is %s", schema.WithArticle(k.Type()))
			}
			if err := c.into(out, string(name), e, attr, level); err != nil {
				return nil, err
			}
		}
		return out, nil
	case *starlarkstruct.Struct:
		out := value.Map{}
		for _, k := range v.AttrNames() {
			e, err := v.Attr(k)
			if err != nil {
				return nil, unfitting(": %v", err)
			}
			if err := c.into(out, k, e, attr, level); err != nil {
				return nil, err
			}
		}
		return out, nil
	case *starlark.List:
		return c.list(v, v.Len(), attr, level)
	case starlark.Tuple:
		return c.list(v, v.Len(), attr, level)
	}
	return nil, unfitting(" cannot hold %s", schema.WithArticle(v.Type()))
}

func (c converter) into(out value.Map, key string, v starlark.Value, attr *schema.Attribute, level int) *unfit {
	if !utf8.ValidString(key) {
		return unfitting(" has a key with bytes that are not UTF-8")
	}
	e, err := c.convert(v, child(attr, value.Key(key)), level+1)
	if err != nil {
		return err.below(value.Key(key))
	}
	if e != nil {
		out[key] = e
	}
	return nil
}

func (c converter) list(v starlark.Indexable, n int, attr *schema.Attribute, level int) (any, *unfit) {
	out := make([]any, n)
	for i := range out {
		e, err := c.convert(v.Index(i), child(attr, value.Item(i)), level+1)
		if err != nil {
			return nil, err.below(value.Item(i))
		}
		out[i] = e
	}
	return out, nil
}

// below is what is wrong with a part as something wrong with the whole. Of what
// is nested too deep only the whole is told.
func (u *unfit) below(s value.Step) *unfit {
	if !u.deep {
		u.path = append(value.Path{s}, u.path...)
	}
	return u
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

func (c converter) handle(t thing, attr *schema.Attribute) (any, *unfit) {
	full := t.driver + "." + t.typ.Name
	if attr == nil || attr.Refers == "" {
		return nil, unfitting(" must be a value, not the handle of %s: write one of its attributes, such as .%s",
			t.short, t.typ.ID)
	}
	if t.typ.Name != attr.Refers || t.driver != c.driver {
		return nil, unfitting(" must be %s.%s, not the handle of %s, %s", schema.WithArticle(c.driver), attr.Refers,
			t.short, schema.WithArticle(full))
	}
	return value.NewRef(t.address, value.Key(t.typ.ID)), nil
}

func (c converter) pending(p *pending, attr *schema.Attribute) (any, *unfit) {
	if p.missing {
		return p.p, nil
	}
	if attr == nil {
		return p.p, nil
	}
	if attr.Refers != "" && p.of != nil && p.attr.Name == p.of.ID && p.of.Name != attr.Refers {
		return nil, unfitting(" must be the id of %s.%s, not the id of %s, %s", schema.WithArticle(c.driver),
			attr.Refers, p.p.Ref.Address, schema.WithArticle(p.of.Name))
	}
	if k := p.kind(); p.p.Ref != nil && k != schema.Any && attr.Kind != schema.Any && !fits(k, attr.Kind) {
		return nil, unfitting(" wants a %s, and %s is %s", attr.Kind, p.p, schema.WithArticle(string(k)))
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
