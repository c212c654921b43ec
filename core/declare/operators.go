package declare

import (
	"fmt"
	"strings"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// operators are the built-ins that the rewrite puts in place of operators and
// methods. With known values each does what the interpreter would do, within
// the evaluation's bounds.
func (ev *evaluator) operators() starlark.StringDict {
	out := starlark.StringDict{
		opMod:   ev.operator(opMod, ev.mod),
		opMul:   ev.operator(opMul, ev.mul),
		opShift: ev.operator(opShift, ev.shift),
		opAdd:   ev.operator(opAdd, ev.add),
		"%+=":   ev.operator("%+=", ev.addInPlace),
		opIn:    ev.operator(opIn, ev.in),
		opLook:  starlark.NewBuiltin(opLook, ev.look("a condition")),
		opEach:  starlark.NewBuiltin(opEach, ev.look("a loop")),
		opAttr:  starlark.NewBuiltin(opAttr, ev.attr),
		opNotIn: ev.operator(opNotIn, func(x, y starlark.Value) (starlark.Value, error) {
			v, err := ev.in(x, y)
			if err != nil {
				return nil, err
			}
			return !v.(starlark.Bool), nil
		}),
	}
	for op, name := range comparisons {
		out[name] = ev.operator(name, func(x, y starlark.Value) (starlark.Value, error) { return ev.compare(op, x, y) })
	}
	return out
}

func (ev *evaluator) operator(name string, f func(x, y starlark.Value) (starlark.Value, error)) *starlark.Builtin {
	return starlark.NewBuiltin(name, func(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
		_ []starlark.Tuple) (starlark.Value, error) {
		return f(args[0], args[1])
	})
}

// known is an error when one of the values is or holds a pending one.
func (ev *evaluator) known(what string, vs ...starlark.Value) error {
	for _, v := range vs {
		p, err := find(v, ev.limits.Levels)
		if err != nil {
			return err
		}
		if p != nil {
			return p.cannot(what)
		}
	}
	return nil
}

// look stands around every condition that is not a comparison, and around
// what loops run over.
func (ev *evaluator) look(what string) builtin {
	return func(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, _ []starlark.Tuple) (starlark.Value,
		error) {
		if p, ok := args[0].(*pending); ok {
			return nil, p.cannot(what)
		}
		return args[0], nil
	}
}

func (ev *evaluator) compare(op syntax.Token, x, y starlark.Value) (starlark.Value, error) {
	if err := ev.known("a comparison ("+op.String()+")", x, y); err != nil {
		return nil, err
	}
	ok, err := starlark.Compare(op, x, y)
	return starlark.Bool(ok), err
}

func (ev *evaluator) in(x, y starlark.Value) (starlark.Value, error) {
	if err := ev.known("in", x); err != nil {
		return nil, err
	}
	if p, ok := y.(*pending); ok {
		return nil, p.cannot("in")
	}
	if _, ok := y.(*starlark.Dict); !ok { // the keys of a map are never pending
		if err := ev.known("in", y); err != nil {
			return nil, err
		}
	}
	return starlark.Binary(syntax.IN, x, y)
}

func (ev *evaluator) mul(x, y starlark.Value) (starlark.Value, error) {
	for _, v := range []starlark.Value{x, y} {
		if p, ok := v.(*pending); ok {
			return nil, p.cannot("arithmetic (*)")
		}
	}
	if err := bitsOf(x, y); err != nil {
		return nil, err
	}
	seq, times := x, y
	if _, ok := x.(starlark.Int); ok {
		seq, times = y, x
	}
	if n, ok := times.(starlark.Int); ok {
		if s, ok := seq.(interface{ Len() int }); ok {
			limit := ev.limits.Range
			if _, ok := seq.(starlark.String); ok {
				limit = ev.limits.TextBytes
			}
			count, small := n.Int64()
			if s.Len() > 0 && (!small && n.Sign() > 0 || count > int64(limit/s.Len())) {
				return nil, fmt.Errorf("a repetition of %d by %v goes over the limit of %d", s.Len(), n, limit)
			}
		}
	}
	return starlark.Binary(syntax.STAR, x, y)
}

// maxBits is how many bits a whole number may have. A few more steps of a product take all
// memory and time there is, before anybody looks.
const maxBits = 1 << 16

// bitsOf is an error when the product of two whole numbers is larger than one may be.
func bitsOf(x, y starlark.Value) error {
	a, ok1 := x.(starlark.Int)
	b, ok2 := y.(starlark.Int)
	if ok1 && ok2 && bits(a)+bits(b) > maxBits {
		return fmt.Errorf("a whole number of more than %d bits goes over the limit", maxBits)
	}
	return nil
}

// bits is how many bits a whole number has, or 64 where it has fewer.
func bits(i starlark.Int) int {
	if _, small := i.Int64(); small {
		return 64
	}
	return i.BigInt().BitLen()
}

func (ev *evaluator) shift(x, y starlark.Value) (starlark.Value, error) {
	if err := ev.known("arithmetic (<<)", x, y); err != nil {
		return nil, err
	}
	if a, ok := x.(starlark.Int); ok && bits(a) > maxBits {
		return nil, fmt.Errorf("a whole number of more than %d bits goes over the limit", maxBits)
	}
	return starlark.Binary(syntax.LTLT, x, y)
}

func (ev *evaluator) add(x, y starlark.Value) (starlark.Value, error) {
	switch a := x.(type) {
	case starlark.String:
		switch b := y.(type) {
		case starlark.String:
			if len(a)+len(b) > ev.limits.TextBytes {
				return nil, fmt.Errorf("a text of %d bytes goes over the limit of %d", len(a)+len(b),
					ev.limits.TextBytes)
			}
			return a + b, nil
		case *pending:
			return ev.addText(value.Part{Text: string(a)}, b, false)
		}
	case starlark.Int:
		if b, ok := y.(starlark.Int); ok {
			return a.Add(b), nil
		}
	case *pending:
		switch b := y.(type) {
		case starlark.String:
			return ev.addText(value.Part{Text: string(b)}, a, true)
		case *pending:
			if !a.isText() {
				return nil, a.cannot("arithmetic (+)")
			}
			return ev.addText(value.Part{Value: a.p}, b, false)
		}
		return nil, a.cannot("arithmetic (+)")
	case *starlark.List:
		if b, ok := y.(*starlark.List); ok && a.Len()+b.Len() > ev.limits.Range {
			return nil, fmt.Errorf("a list of %d items goes over the limit of %d", a.Len()+b.Len(), ev.limits.Range)
		}
	}
	if p, ok := y.(*pending); ok {
		return nil, p.cannot("arithmetic (+)")
	}
	return starlark.Binary(syntax.PLUS, x, y)
}

// addInPlace is `+=`: a list grows in place, as the language says.
func (ev *evaluator) addInPlace(x, y starlark.Value) (starlark.Value, error) {
	list, ok := x.(*starlark.List)
	if !ok {
		return ev.add(x, y)
	}
	return list, ev.extend(list, y)
}

func (ev *evaluator) extend(list *starlark.List, y starlark.Value) error {
	it := starlark.Iterate(y)
	if it == nil {
		if p, ok := y.(*pending); ok {
			return p.cannot("a loop")
		}
		return fmt.Errorf("a list cannot be extended by %s", schema.WithArticle(y.Type()))
	}
	var more []starlark.Value
	var e starlark.Value
	for it.Next(&e) {
		more = append(more, e)
		if list.Len()+len(more) > ev.limits.Range {
			it.Done()
			return fmt.Errorf("a list goes over the limit of %d items", ev.limits.Range)
		}
	}
	it.Done()
	for _, e := range more {
		if err := list.Append(e); err != nil {
			return err
		}
	}
	return nil
}

func (p *pending) isText() bool { return p.kind() == schema.Text || p.kind() == schema.Any }

func (ev *evaluator) addText(known value.Part, p *pending, after bool) (starlark.Value, error) {
	if !p.isText() {
		return nil, fmt.Errorf("%s is a %s and cannot be joined to a text with +: write str(…) around it", p.p,
			p.kind())
	}
	if after {
		return ev.text(value.Part{Value: p.p}, known), nil
	}
	return ev.text(known, value.Part{Value: p.p}), nil
}

// attr stands for `x.name` where name is one of the methods in looking.
func (ev *evaluator) attr(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	_ []starlark.Tuple) (starlark.Value, error) {
	return ev.getattr(args[0], string(args[1].(starlark.String)))
}

func (ev *evaluator) getattr(x starlark.Value, name string) (starlark.Value, error) {
	if s, ok := x.(starlark.String); ok {
		switch name {
		case "format":
			return ev.method(name, func(args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
				return ev.format(string(s), args, kwargs)
			}), nil
		case "join":
			return ev.method(name, func(args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
				return ev.join(string(s), args, kwargs)
			}), nil
		}
	}
	h, ok := x.(starlark.HasAttrs)
	if !ok {
		return nil, fmt.Errorf("%s has no .%s field or method", x.Type(), name)
	}
	v, err := h.Attr(name)
	if err != nil {
		return nil, err
	}
	b, ok := v.(*starlark.Builtin)
	if v == nil || !ok {
		if v == nil {
			return nil, starlark.NoSuchAttrError(fmt.Sprintf("%s has no .%s field or method", x.Type(), name))
		}
		return v, nil
	}
	switch x := x.(type) {
	case starlark.String:
		return starlark.NewBuiltin(name, func(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
			kwargs []starlark.Tuple) (starlark.Value, error) {
			if name == "replace" {
				if err := ev.replaceFits(x, args); err != nil {
					return nil, err
				}
			}
			if err := ev.known("the text method "+name, args...); err != nil {
				return nil, err
			}
			return starlark.Call(t, b, args, kwargs)
		}), nil
	case *starlark.List:
		return starlark.NewBuiltin(name, func(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
			kwargs []starlark.Tuple) (starlark.Value, error) {
			if name == "extend" && len(args) == 1 && len(kwargs) == 0 {
				return starlark.None, ev.extend(x, args[0])
			}
			if name != "extend" {
				if err := ev.known("the list method "+name, append(starlark.Tuple{x}, args...)...); err != nil {
					return nil, err
				}
			}
			return starlark.Call(t, b, args, kwargs)
		}), nil
	}
	return v, nil
}

func (ev *evaluator) replaceFits(x starlark.String, args starlark.Tuple) error {
	if len(args) < 2 {
		return nil
	}
	from, ok1 := args[0].(starlark.String)
	to, ok2 := args[1].(starlark.String)
	if !ok1 || !ok2 {
		return nil
	}
	n := len(x) + 1
	if from != "" {
		n = strings.Count(string(x), string(from))
	}
	if size := int64(len(x)) + int64(n)*int64(len(to)-len(from)); size > int64(ev.limits.TextBytes) {
		return fmt.Errorf("replace would make a text of %d bytes, over the limit of %d", size, ev.limits.TextBytes)
	}
	return nil
}

func (ev *evaluator) method(name string, f func(starlark.Tuple, []starlark.Tuple) (starlark.Value,
	error)) *starlark.Builtin {
	return starlark.NewBuiltin(name, func(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
		kwargs []starlark.Tuple) (starlark.Value, error) {
		return f(args, kwargs)
	})
}
