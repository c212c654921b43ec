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
		return c.handle(v, attr, path)
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

func (c converter) handle(h *Handle, attr *schema.Attribute, path value.Path) (any, error) {
	if attr == nil || attr.Refers == "" {
		return nil, fmt.Errorf("%s wants a value, and this is the handle of %s: write one of its attributes, such as .%s", path, h.Address, h.typ.ID)
	}
	if h.typ.Name != attr.Refers || h.Driver != c.driver {
		return nil, fmt.Errorf("%s wants a %s.%s, and this is the handle of %s, a %s", path, c.driver, attr.Refers, h.Address, h.FullType())
	}
	return value.NewRef(h.Full(), value.Key(h.typ.ID)), nil
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

// toStarlark turns an input's value into one of the language.
func toStarlark(v any) (starlark.Value, error) {
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
			e, err := toStarlark(v[i])
			if err != nil {
				return nil, err
			}
			out[i] = e
		}
		return starlark.NewList(out), nil
	case map[string]any:
		out := starlark.NewDict(len(v))
		for _, k := range value.Keys(v) {
			e, err := toStarlark(v[k])
			if err != nil {
				return nil, err
			}
			if err := out.SetKey(starlark.String(k), e); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return nil, errors.New("a " + value.Kind(v) + " cannot be an input")
}
