package adopt

import (
	"fmt"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/declare"
)

// steps bounds the evaluation of an expression for one thing.
const steps = 1_000_000

// Where makes a test of a Starlark expression over r: r.type, r.id and the attributes, such as
// r.tags.owner == "keepers". What a thing does not have is None, also below it.
func Where(expression string) (func(driver string, t Thing) (bool, error), error) {
	e, err := (&syntax.FileOptions{}).ParseExpr("-where", expression, 0)
	if err != nil {
		return nil, err
	}
	return func(driver string, t Thing) (bool, error) {
		thread := &starlark.Thread{Name: "-where"}
		thread.SetMaxExecutionSteps(steps)
		all := map[string]any{"type": driver + "." + t.Type.Name, "id": t.ID}
		for name, v := range t.Attributes {
			if a := t.Type.Attribute(name); a == nil || !a.Secret {
				all[declare.Identifier(name)] = v
			}
		}
		v, err := starlark.EvalExprOptions(&syntax.FileOptions{}, thread, e, starlark.StringDict{"r": fields(all)})
		if err != nil {
			return false, fmt.Errorf("-where of %s %s: %w", all["type"], t.ID, err)
		}
		return bool(v.Truth()), nil
	}, nil
}

// fields are attributes in the language.
type fields map[string]any

var (
	_ starlark.HasAttrs = fields{}
	_ starlark.Mapping  = fields{}
)

func (f fields) String() string                           { return "attributes" }
func (f fields) Type() string                             { return "attributes" }
func (f fields) Freeze()                                  {}
func (f fields) Truth() starlark.Bool                     { return len(f) > 0 }
func (f fields) Hash() (uint32, error)                    { return 0, fmt.Errorf("attributes cannot be a key") }
func (f fields) AttrNames() []string                      { return nil }
func (f fields) Attr(name string) (starlark.Value, error) { return inLanguage(f[name]), nil }

// Get is r["name"].
func (f fields) Get(k starlark.Value) (starlark.Value, bool, error) {
	name, ok := starlark.AsString(k)
	return inLanguage(f[name]), ok, nil
}

// nothing is None that has no attributes but itself.
type nothing struct{ starlark.NoneType }

func (n nothing) Attr(string) (starlark.Value, error) { return n, nil }
func (n nothing) AttrNames() []string                 { return nil }

// CompareSameType makes what is missing equal to what is missing.
func (n nothing) CompareSameType(op syntax.Token, y starlark.Value, _ int) (bool, error) {
	return op == syntax.EQL || op == syntax.LE || op == syntax.GE, nil
}

func inLanguage(v any) starlark.Value {
	switch v := v.(type) {
	case nil:
		return nothing{starlark.None}
	case bool:
		return starlark.Bool(v)
	case int64:
		return starlark.MakeInt64(v)
	case float64:
		return starlark.Float(v)
	case string:
		return starlark.String(v)
	case []any:
		out := make([]starlark.Value, len(v))
		for i := range v {
			out[i] = inLanguage(v[i])
		}
		return starlark.NewList(out)
	case map[string]any:
		return fields(v)
	}
	return starlark.String(fmt.Sprint(v))
}
