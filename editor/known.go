package editor

import (
	"path"
	"strings"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// known is what is known of an expression: its value by the last evaluation, or what kind of value the
// text says it is.
type known struct {
	value  starlark.Value    // nil where only the kind is known
	attr   *schema.Attribute // of an input of a kit, or an attribute of a resource
	typ    *schema.Type      // of a handle
	driver string            // of that type
}

func (k known) isKnown() bool { return k.value != nil || k.attr != nil || k.typ != nil }

// look is what can be said of it.
func (k known) look() declare.Look {
	switch {
	case k.value != nil:
		return declare.LookAt(k.value)
	case k.typ != nil:
		l := declare.Look{What: "handle of " + k.driver + "." + k.typ.Name, Help: k.typ.Help, Type: k.typ, Driver: k.driver}
		for _, a := range k.typ.Attributes {
			l.Members = append(l.Members, declare.Param{Name: declare.Identifier(a.Name), Attr: a, Help: a.Help})
		}
		return l
	case k.attr != nil:
		l := declare.Look{What: declare.KindName(k.attr), Help: k.attr.Help}
		for _, f := range k.attr.Fields {
			l.Members = append(l.Members, declare.Param{Name: f.Name, Attr: f, Help: f.Help})
		}
		return l
	}
	return declare.Look{}
}

// fits reports whether it can be given for an attribute. What is not known might.
func (k known) fits(want *schema.Attribute, driver string) bool {
	switch {
	case want == nil || !k.isKnown():
		return true
	case k.value != nil:
		return declare.Fits(k.value, want, driver)
	case k.typ != nil:
		if declare.IsHandle(want) {
			_, name, _ := strings.Cut(want.Refers, ".")
			return name == k.typ.Name
		}
		return want.Refers == k.typ.Name
	case declare.IsHandle(k.attr) || declare.IsHandle(want):
		return declare.IsHandle(k.attr) && declare.IsHandle(want) && k.attr.Refers == want.Refers
	}
	return want.Refers == "" && k.attr.Kind == want.Kind && !k.attr.Secret
}

// module is the file that a load statement of a file names, below the estate's folder; "" for none there.
func (v *view) module(file, module string) string {
	if name, ok := strings.CutPrefix(module, kitPrefix); ok {
		if k := v.options.Kits[name]; k != nil && k.Folder != "" {
			return path.Join(k.Folder, "kit.star")
		}
		return ""
	}
	if rest, ok := strings.CutPrefix(module, "/"); ok {
		return path.Clean(rest)
	}
	return path.Join(path.Dir(file), module)
}

// global is the value of a name at the top of a file, by the last good evaluation.
func (v *view) global(file, name string) starlark.Value { return v.globals[v.evaluated(file)][name] }

// predeclared are the names that a file starts with.
func (v *view) predeclared(file string) starlark.StringDict {
	all := v.eval.Declared.Predeclared(v.anyWard(file))
	ward := v.ward(file)
	if all == nil || ward != "" {
		return all
	}
	out := starlark.StringDict{}
	for name, is := range all {
		out[name] = is
	}
	k := v.kitOf(file)
	for _, name := range []string{"input", "publish", "published"} {
		delete(out, name)
	}
	delete(out, "ward")
	if inRules(file) || k != nil {
		for name := range v.session.Catalogs {
			delete(out, declare.Identifier(name))
		}
	}
	if inRules(file) {
		for _, name := range []string{"care", "secret", "kit", "file"} {
			delete(out, name)
		}
		out["rule"] = starlark.NewBuiltin("rule", nil)
	}
	if k != nil {
		for _, kind := range k.Drivers {
			if name := v.driverOf(kind); name != "" {
				out[declare.Identifier(kind)] = all[declare.Identifier(name)]
			}
		}
	}
	return out
}

func inRules(file string) bool { return path.Dir(file) == "rules" }

// driverOf is a driver of some kind: the one of that name, or the first.
func (v *view) driverOf(kind string) string {
	if v.options.Kinds[kind] == kind {
		return kind
	}
	for _, name := range value.Keys(v.options.Kinds) {
		if v.options.Kinds[name] == kind {
			return name
		}
	}
	return ""
}

// expression is what is known of an expression that is written as text, in a file at an offset.
func (v *view) expression(f *code.File, text string, at int) known {
	e, err := (&syntax.FileOptions{}).ParseExpr(f.Name, text, 0)
	if err != nil {
		return known{}
	}
	return v.of(f, e, at)
}

// of is what is known of an expression at an offset of a file.
func (v *view) of(f *code.File, e syntax.Expr, at int) known {
	switch e := e.(type) {
	case *syntax.Ident:
		return v.name(f, e.Name, at)
	case *syntax.ParenExpr:
		return v.of(f, e.X, at)
	case *syntax.Literal:
		switch x := e.Value.(type) {
		case string:
			return known{value: starlark.String(x)}
		case int64:
			return known{value: starlark.MakeInt64(x)}
		}
	case *syntax.ListExpr:
		return known{value: starlark.NewList(nil)}
	case *syntax.DictExpr:
		return known{value: starlark.NewDict(0)}
	case *syntax.DotExpr:
		x := v.of(f, e.X, at)
		if has, ok := x.value.(starlark.HasAttrs); ok {
			if is, err := has.Attr(e.Name.Name); err == nil && is != nil {
				return known{value: is}
			}
			return known{}
		}
		for _, m := range x.look().Members {
			if m.Name == e.Name.Name && m.Attr != nil {
				return known{attr: m.Attr}
			}
		}
	case *syntax.IndexExpr:
		switch x := v.of(f, e.X, at).value.(type) {
		case *starlark.Dict:
			if items := x.Items(); len(items) > 0 {
				return known{value: items[0][1]}
			}
		case starlark.Indexable:
			if x.Len() > 0 {
				return known{value: x.Index(0)}
			}
		}
	case *syntax.CallExpr:
		return v.call(f, e, at)
	}
	return known{}
}

// call is what is known of what a call gives back.
func (v *view) call(f *code.File, e *syntax.CallExpr, at int) known {
	switch callee := code.Callee(e); callee {
	case "published":
		ward, ok1 := code.TextOf(code.Argument(e, "ward", 0))
		name, ok2 := code.TextOf(code.Argument(e, "name", 1))
		if w := v.wards[ward]; ok1 && ok2 && w != nil && w.Published[name] != nil {
			if is, err := v.eval.Declared.Value(v.anyWard(f.Name), w.Published[name].Value); err == nil {
				return known{value: is}
			}
		}
		return known{}
	case "input":
		if name, ok := code.TextOf(code.Argument(e, "name", 0)); ok {
			if w := v.wards[v.ward(f.Name)]; w != nil && w.Taken[name] != nil && !w.Taken[name].Secret {
				if is, err := v.eval.Declared.Value(v.ward(f.Name), w.Taken[name].Value); err == nil {
					return known{value: is}
				}
			}
		}
		return known{}
	}
	fn := v.of(f, e.Fn, at)
	if l := fn.look(); l.Type != nil && strings.HasPrefix(l.What, "type ") {
		return known{typ: l.Type, driver: l.Driver}
	}
	return known{}
}

// name is what is known of a name at an offset of a file.
func (v *view) name(f *code.File, name string, at int) known {
	if d := f.Function(at); d != nil {
		if k, found := v.local(f, d, name, at); found {
			return k
		}
	}
	if is := v.global(f.Name, name); is != nil {
		return known{value: is}
	}
	if first := f.Top(name); first != nil {
		if module, from, ok := f.Loaded(first); ok {
			if is := v.global(v.module(f.Name, module), from.Name); is != nil {
				return known{value: is}
			}
			if is := v.globals[module+"/kit.star"][from.Name]; is != nil { // of a kit from elsewhere
				return known{value: is}
			}
			return known{}
		}
		if d := functionOf(f, first); d != nil && d.Name == first {
			return known{attr: &schema.Attribute{Name: name, Kind: "function"}}
		}
		if rhs := f.Assigned(first); rhs != nil { // it has not been evaluated yet
			return v.of(f, rhs, max(0, f.At(first.NamePos)-1))
		}
		return known{}
	}
	if is := v.predeclared(f.Name)[name]; is != nil {
		return known{value: is}
	}
	return known{}
}

// local is what is known of a name that a function binds. found says whether it does.
func (v *view) local(f *code.File, d *syntax.DefStmt, name string, at int) (k known, found bool) {
	for _, p := range code.Params(d) {
		if p != name {
			continue
		}
		for _, is := range v.globals[v.evaluated(f.Name)] {
			l := declare.LookAt(is)
			if l.Function != d.Name.Name || l.Call == nil {
				continue
			}
			for _, in := range l.Call.Params {
				if in.Name == name && in.Attr != nil {
					if declare.IsHandle(in.Attr) {
						kind, typ, _ := strings.Cut(in.Attr.Refers, ".")
						driver := v.driverOf(kind)
						if c := v.session.Catalogs[driver]; c != nil && c.Types[typ] != nil {
							return known{typ: c.Types[typ], driver: driver}, true
						}
					}
					return known{attr: in.Attr}, true
				}
			}
		}
		return known{}, true
	}
	rhs, binds := f.LocalAssigned(d, name, at)
	if !binds {
		return known{}, false
	}
	if rhs == nil || f.SpanOf(rhs).Holds(at) {
		return known{}, true
	}
	return v.of(f, rhs, f.SpanOf(rhs).From-1), true
}
