package declare

import (
	"fmt"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"
	"go.starlark.net/syntax"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// pending is a value not known yet, as the language sees it. It is no string
// and has no truth, length, order or hash: whatever would have to look at it
// is an error that names its source. It can be handed on, stored, joined into
// texts, and its fields and elements are pending as well.
type pending struct {
	ev   *evaluator
	p    *value.Pending
	attr *schema.Attribute // what the schema says of it; nil where it says nothing
	of   *schema.Type      // the type it belongs to, for references
	why  string            // why it is not known
	// missing marks the stand-in for an input that was not given. Errors that
	// it causes are not reported: the missing input is.
	missing bool
}

var (
	_ starlark.HasAttrs   = (*pending)(nil)
	_ starlark.Mapping    = (*pending)(nil)
	_ starlark.HasBinary  = (*pending)(nil)
	_ starlark.HasUnary   = (*pending)(nil)
	_ starlark.Comparable = (*pending)(nil)
)

// pendingType begins the type of every pending value.
const pendingType = "pending ("

// missingType is the type of the stand-in for a missing input.
const missingType = "missing input"

// pendingError is the error of everything that must look at a pending value.
type pendingError struct {
	p    *pending
	what string
}

func (e *pendingError) Error() string {
	return fmt.Sprintf("%s must look at %s, which is not known yet: %s", e.what, e.p.p, e.p.why)
}

func (p *pending) cannot(what string) error { return &pendingError{p, what} }

func (ev *evaluator) text(parts ...value.Part) *pending {
	return &pending{ev: ev, p: value.Concat(parts...), attr: &schema.Attribute{Kind: schema.Text},
		why: "it is made from values that are not known yet"}
}

// String is only for print and fail; whatever makes a text that counts goes
// through the built-ins of operators.go.
func (p *pending) String() string { return "(pending: " + p.p.String() + ")" }

// Type is worded so that the interpreter's own messages say which value it is.
func (p *pending) Type() string {
	if p.missing {
		return missingType
	}
	return pendingType + p.p.String() + ")"
}
func (p *pending) Freeze()               {}
func (p *pending) Hash() (uint32, error) { return 0, p.cannot("a key") }
func (p *pending) AttrNames() []string   { return nil }
func (p *pending) kind() schema.Kind {
	if p.attr == nil {
		return schema.Any
	}
	return p.attr.Kind
}

func (p *pending) CompareSameType(op syntax.Token, y starlark.Value, depth int) (bool, error) {
	return false, p.cannot("a comparison (" + op.String() + ")")
}

func (p *pending) Unary(op syntax.Token) (starlark.Value, error) {
	return nil, p.cannot("arithmetic (" + op.String() + ")")
}

func (p *pending) Binary(op syntax.Token, y starlark.Value, side starlark.Side) (starlark.Value, error) {
	return nil, p.cannot("arithmetic (" + op.String() + ")")
}

// Truth is asked for only where the rewrite put no built-in. It cannot
// return an error, so it stops the evaluation at this instruction.
func (p *pending) Truth() starlark.Bool {
	p.ev.cancel(p.cannot("a truth test").Error())
	return false
}

// Attr is a field of a pending record.
func (p *pending) Attr(name string) (starlark.Value, error) {
	switch p.kind() {
	case schema.Record, schema.Any:
		return p.below(value.Key(name))
	case schema.Text:
		return nil, p.cannot("the text method " + name)
	}
	return nil, p.cannot("the method " + name)
}

// Get is an element of a pending list or map.
func (p *pending) Get(k starlark.Value) (starlark.Value, bool, error) {
	var step value.Step
	switch k := k.(type) {
	case starlark.String:
		step = value.Key(string(k))
	case starlark.Int:
		n, ok := k.Int64()
		if !ok || n < 0 {
			return nil, false, fmt.Errorf("the index %v of %s must count from 0: its length is not known yet", k, p.p)
		}
		step = value.Item(int(n))
	case *pending:
		return nil, false, k.cannot("an index")
	default:
		return nil, false, fmt.Errorf("%s cannot be indexed by %s", p.p, schema.WithArticle(k.Type()))
	}
	if p.kind() == schema.Text {
		return nil, false, p.cannot("an index into a text")
	}
	v, err := p.below(step)
	return v, err == nil, err
}

func (p *pending) below(step value.Step) (starlark.Value, error) {
	q := p.p.Below(step)
	if q == nil {
		return nil, p.cannot("a field")
	}
	out := &pending{ev: p.ev, p: q, why: p.why, missing: p.missing}
	if p.attr != nil {
		switch {
		case p.attr.Kind == schema.Record && !step.Item:
			for _, f := range p.attr.Fields {
				if f.Name == step.Key {
					out.attr = f
				}
			}
			if out.attr == nil {
				return nil, fmt.Errorf("%s has no field %q", p.p, step.Key)
			}
		case p.attr.Elem != nil && (p.attr.Kind == schema.List) == step.Item:
			out.attr = p.attr.Elem
		case p.attr.Kind != schema.Any:
			return nil, fmt.Errorf("%s is a %s and cannot be indexed so", p.p, p.attr.Kind)
		}
	}
	return out, nil
}

// find is a pending value in v or in what v holds, or nil. Values nested
// deeper than levels are reported as an error, which also ends cycles.
func find(v starlark.Value, levels int) (*pending, error) {
	switch v := v.(type) {
	case *pending:
		return v, nil
	case starlark.String, starlark.Int, starlark.Bool, starlark.NoneType, starlark.Float:
		return nil, nil
	}
	if levels == 0 {
		return nil, fmt.Errorf("a value is nested too deeply")
	}
	among := func(v starlark.Value) (*pending, error) { return find(v, levels-1) }
	switch v := v.(type) {
	case *starlark.List:
		for i := 0; i < v.Len(); i++ {
			if p, err := among(v.Index(i)); p != nil || err != nil {
				return p, err
			}
		}
	case starlark.Tuple:
		for _, e := range v {
			if p, err := among(e); p != nil || err != nil {
				return p, err
			}
		}
	case *starlark.Dict:
		for _, item := range v.Items() { // keys are hashable, so never pending
			if p, err := among(item[1]); p != nil || err != nil {
				return p, err
			}
		}
	case *starlarkstruct.Struct:
		for _, name := range v.AttrNames() {
			e, err := v.Attr(name)
			if err != nil {
				return nil, err
			}
			if p, err := among(e); p != nil || err != nil {
				return p, err
			}
		}
	}
	return nil, nil
}
