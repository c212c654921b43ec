package declare

import (
	"fmt"

	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Origin says where a value comes from: one step, and the steps behind it.
type Origin struct {
	Kind     OriginKind       `json:"kind"`
	What     string           `json:"what"` // a phrase
	Position problem.Position `json:"position"`
	From     []*Origin        `json:"from,omitempty"`

	// Source is the input or published value that the step is, as InputAddress and PublishedAddress write it; "" for all else.
	Source string `json:"-"`
}

// InputAddress stands for an input of a ward where graphs need an address.
func InputAddress(ward, name string) string { return value.InWard(ward, "input/"+name) }

// PublishedAddress stands for a value that a ward publishes where graphs need an address.
func PublishedAddress(ward, name string) string { return value.InWard(ward, "published/"+name) }

// OriginKind is the kind of a step.
type OriginKind string

const (
	FromLiteral    OriginKind = "literal"
	FromExpression OriginKind = "expression"
	FromName       OriginKind = "name"     // a name that was set to something
	FromLoop       OriginKind = "loop"     // a variable of a loop
	FromArgument   OriginKind = "argument" // what a call handed to a function or kit
	FromDefault    OriginKind = "default"  // of a parameter, or of a kit's input
	FromFunction   OriginKind = "function"
	FromInput      OriginKind = "input"
	FromPublished  OriginKind = "published"
	FromSecret     OriginKind = "secret"
	FromFile       OriginKind = "file"
	FromFind       OriginKind = "find"
	FromResource   OriginKind = "resource" // another resource, or an attribute of it
	FromSchema     OriginKind = "schema"   // left out: the schema's default
	FromCloud      OriginKind = "cloud"    // decided by the cloud
	FromPattern    OriginKind = "pattern"  // made by the name pattern
	FromLanguage   OriginKind = "language" // a name that every file starts with
	FromKit        OriginKind = "kit"      // a call that opened an instance
)

// SchemaDefault begins what is said of an attribute that takes its schema's
// default, which follows.
const SchemaDefault = "left out: the schema's default is "

// Find is the declared resource at an address with its ward.
func (d *Declared) Find(full string) *Resource {
	for _, r := range d.Resources {
		if r.Full() == full {
			return r
		}
	}
	return nil
}

// Why explains a resource, or the value at a path below it.
func (d *Declared) Why(r *Resource, path value.Path) (*Origin, error) {
	w := &why{d: d, r: r, index: r.index.pristine(), seen: map[string]bool{}}
	pos, _ := r.Position()
	if len(path) == 0 {
		return w.resource(pos), nil
	}
	attr := r.Type.Attribute(path[0].Key)
	if attr == nil {
		var names []string
		for _, a := range r.Type.Attributes {
			names = append(names, a.Name)
		}
		return nil, withHint(fmt.Errorf("%s has no attribute %q", schema.WithArticle(r.FullType()), path[0].Key),
			nearest.Hint(path[0].Key, names))
	}
	v, declared := r.Inputs()[attr.Name]
	switch {
	case attr.Output:
		return &Origin{Kind: FromCloud, What: "decided by the cloud", Position: pos}, nil
	case declared:
		return w.attribute(path, v), nil
	case attr.Name == "name" && r.MadeName != "":
		o := &Origin{Kind: FromPattern, What: fmt.Sprintf("left out: made once by the pattern of names, %q",
			r.index.pattern), Position: r.index.names}
		if r.index.pattern == estate.DefaultNames {
			o.Position = pos
		}
		return o, nil
	case attr.HasDefault:
		return &Origin{Kind: FromSchema, What: SchemaDefault + value.Plain(attr.Default), Position: pos}, nil
	}
	return &Origin{Kind: FromCloud, What: "left out: it belongs to the cloud", Position: pos}, nil
}

// why explains one resource.
type why struct {
	d     *Declared
	r     *Resource
	index *index // of the files as they were written
	seen  map[string]bool
}

// resource tells of the calls that led to the declaration.
func (w *why) resource(pos problem.Position) *Origin {
	out := &Origin{Kind: FromResource, What: "declared", Position: pos}
	for i := len(w.r.trace) - 2; i >= 0; i-- {
		out.From = append(out.From, &Origin{Kind: FromFunction, What: "by the call",
			Position: w.index.start(w.r.trace[i].Position)})
	}
	for _, in := range w.r.Within {
		what := "in the instance " + in.Name
		if in.Kit != "" {
			what += " of kit " + in.Kit + " " + in.Version
		}
		out.From = append(out.From, &Origin{Kind: FromKit, What: what, Position: in.Position})
	}
	for _, n := range w.r.Needs {
		out.From = append(out.From, w.other(n.Address, "needs "+w.shortOf(n.Address)+" for "+n.Why))
	}
	return out
}

func (w *why) shortOf(full string) string {
	if ward, short := value.SplitWard(full); ward == w.r.Ward {
		return short
	}
	return full
}

// other is another resource, at its line where it is declared here.
func (w *why) other(full, what string) *Origin {
	o := &Origin{Kind: FromResource, What: what}
	if r := w.d.Find(full); r != nil {
		o.Position, _ = r.Position()
	}
	return o
}

// attribute explains an attribute that is declared: the expression, then what
// is pending in its value.
func (w *why) attribute(path value.Path, v any) *Origin {
	code := path[0].Key
	if s, ok := w.r.star[code]; ok {
		code = s
	}
	var out *Origin
	if at, ok := w.find(0, code); ok {
		expr, rest := inside(at.expr, path[1:])
		at.expr = expr
		out = w.explain(at)
		if len(rest) > 0 && out.Kind != FromLiteral {
			v, _ = path.At(map[string]any(w.r.Inputs()))
		}
	} else {
		pos, _ := w.r.At(path.String())
		out = &Origin{Kind: FromExpression, What: "given through ** ", Position: pos}
	}
	if x, ok := path.At(map[string]any(w.r.Inputs())); ok {
		v = x
	}
	told := map[string]bool{}
	value.Refs(v, func(ref value.Ref) {
		if !told[ref.String()] {
			told[ref.String()] = true
			out.From = append(out.From, w.reference(ref))
		}
	})
	return out
}

// reference explains a value that is not known yet.
func (w *why) reference(ref value.Ref) *Origin {
	if name, ok := value.SecretName(ref.Address); ok {
		return &Origin{Kind: FromSecret, What: "the secret " + name, Position: w.secretAt(name)}
	}
	if f := w.d.Finds[ref.Address]; f != nil {
		return &Origin{Kind: FromFind, What: fmt.Sprintf("%s of the %s found by %s", ref.Path, f.FullType(),
			by(f.Match)), Position: f.Position}
	}
	o := w.other(ref.Address, ref.In(w.r.Ward)+", ")
	if r := w.d.Find(ref.Address); r != nil && len(ref.Path) > 0 {
		if a := r.Type.Attribute(ref.Path[0].Key); a != nil && !a.Output {
			o.What += "left out there, so the cloud decides it"
			return o
		}
	}
	o.What += "decided by the cloud"
	return o
}

func (w *why) secretAt(name string) problem.Position {
	for _, ward := range w.d.Wards {
		if s := ward.Secrets[name]; s != nil && ward.Name == w.r.Ward {
			return s.Position
		}
	}
	return problem.Position{}
}
