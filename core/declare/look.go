package declare

import (
	"fmt"
	"strings"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"

	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Look is what the language knows of a value, for those who write code with it.
type Look struct {
	What     string    // of which kind it is: `text`, `handle of medina.network`, `kit station`
	Shown    string    // the value itself, on one line; "" where that says nothing more
	Help     string    // what it is for; may be empty
	Resource *Resource // of a handle
	Driver   string
	Type     *schema.Type
	Members  []Param // what can follow a dot
	Call     *Signature
	Function string // of a kit: the function that it wraps
}

// Signature is how something is called.
type Signature struct {
	Name   string
	Help   string
	Named  bool // it takes one name first, which no parameter stands for
	Params []Param
	Rest   bool // it takes others, too
}

// Param is one argument that a call takes, one attribute of a type, or one member of a value.
type Param struct {
	Name     string // as the code writes it
	Attr     *schema.Attribute
	Help     string
	Required bool
	Default  string // as code; "" for none
}

// Kind is its kind in words, with what it refers to.
func (p Param) Kind() string {
	if p.Attr == nil {
		return ""
	}
	if p.Attr.Refers != "" && p.Attr.Kind != handleKind {
		return "id of " + schema.WithArticle(p.Attr.Refers)
	}
	return KindName(p.Attr)
}

// Globals are the names at the top of a file as an evaluation left them, frozen; nil for a file that
// it did not read. It knows only what was evaluated with Options.Again.
func (d *Declared) Globals(file string) starlark.StringDict {
	for _, t := range d.turns {
		if t.ev == nil {
			continue
		}
		if f := t.ev.files[file]; f != nil && f.done {
			return f.globals
		}
	}
	return nil
}

// Predeclared are the names that files of a ward start with, without those that no code can write.
func (d *Declared) Predeclared(ward string) starlark.StringDict {
	t := d.turns[ward]
	if t == nil || t.ev == nil {
		return nil
	}
	out := starlark.StringDict{}
	for name, v := range t.ev.names {
		if !strings.HasPrefix(name, "%") {
			out[name] = v
		}
	}
	for name, v := range starlark.Universe {
		if out[name] == nil {
			out[name] = v
		}
	}
	return out
}

// TypeCall is how a resource of a type is declared: what is required comes first.
func TypeCall(full string, t *schema.Type) *Signature {
	s := &Signature{Name: full, Help: t.Help, Named: true}
	for _, required := range []bool{true, false} {
		for _, a := range t.Attributes {
			if !a.Output && a.Required == required {
				s.Params = append(s.Params, paramOf(a))
			}
		}
	}
	s.Params = append(s.Params, ofKind("care", careKind, "how it is to be treated"))
	return s
}

func paramOf(a *schema.Attribute) Param {
	p := Param{Name: Identifier(a.Name), Attr: a, Help: a.Help, Required: a.Required}
	if a.HasDefault {
		p.Default = Literal(a.Default)
	}
	return p
}

// LookAt says what is known of a value.
func LookAt(v starlark.Value) Look {
	switch v := v.(type) {
	case *Handle:
		l := Look{What: v.Type(), Shown: v.Full(), Help: v.typ.Help, Resource: v.Resource, Type: v.typ, Driver: v.Driver}
		for _, a := range v.typ.Attributes {
			l.Members = append(l.Members, paramOf(a))
		}
		return l
	case *found:
		l := Look{What: "handle of " + v.FullType(), Help: v.Find.Type.Help, Type: v.Find.Type, Driver: v.Find.Driver}
		for _, a := range v.Find.Type.Attributes {
			l.Members = append(l.Members, paramOf(a))
		}
		return l
	case *driver:
		l := Look{What: "driver " + v.name, Driver: v.name}
		for _, n := range v.catalog.Names() {
			l.Members = append(l.Members, Param{Name: Identifier(n), Help: v.catalog.Types[n].Help})
		}
		return l
	case *kitDriver:
		if is := v.ev.driver(v.name); is != nil {
			return LookAt(is)
		}
		return Look{What: "driver " + v.name}
	case *declarer:
		return Look{Driver: v.d.name, What: "type " + v.full, Help: v.typ.Help, Type: v.typ, Call: TypeCall(v.full, v.typ),
			Members: []Param{{Name: "find", Help: "refer to a thing that exists and is not managed here"}}}
	case *kitValue:
		s := &Signature{Name: v.Name(), Help: v.help, Named: true}
		for _, required := range []bool{true, false} {
			for _, in := range v.inputs {
				if (in.def == nil) == required {
					p := Param{Name: in.attr.Name, Attr: in.attr, Help: in.attr.Help, Required: in.def == nil}
					if in.def != nil {
						p.Default = in.def.String()
					}
					s.Params = append(s.Params, p)
				}
			}
		}
		s.Params = append(s.Params, ofKind("care", careKind, "how all that it declares is to be treated"),
			Param{Name: "drivers", Help: "which drivers stand behind the kinds that the kit names"})
		return Look{What: v.String(), Help: v.help, Call: s, Function: v.fn.Name()}
	case *pending:
		l := Look{What: "a value that is not known yet", Help: v.why}
		if v.attr != nil {
			l.What = KindName(v.attr) + ", not known yet"
			for _, f := range v.attr.Fields {
				l.Members = append(l.Members, paramOf(f))
			}
		}
		return l
	case *kindValue:
		return Look{What: "kind " + kindName(v.attr), Call: builtinCall("kind.text")}
	case *starlark.Function:
		s := &Signature{Name: v.Name(), Help: v.Doc(), Rest: v.HasKwargs()}
		n := v.NumParams()
		if v.HasKwargs() {
			n--
		}
		if v.HasVarargs() {
			n--
		}
		for i := 0; i < n; i++ {
			name, _ := v.Param(i)
			p := Param{Name: name}
			if def := v.ParamDefault(i); def != nil {
				p.Default = def.String()
			} else {
				p.Required = true
			}
			s.Params = append(s.Params, p)
		}
		return Look{What: "function", Help: v.Doc(), Call: s}
	case *starlark.Builtin:
		s := builtinCall(v.Name())
		l := Look{What: "built-in function", Call: s}
		if s != nil {
			l.Help = s.Help
		}
		return l
	case *starlarkstruct.Module:
		return Look{What: "module " + v.Name, Members: members(v)}
	case *starlarkstruct.Struct:
		return Look{What: "struct", Shown: short(v), Members: members(v)}
	case starlark.String:
		return Look{What: "text", Shown: short(v), Members: members(v)}
	case starlark.Bool:
		return Look{What: "bool", Shown: v.String()}
	case starlark.NoneType:
		return Look{What: "None"}
	case starlark.HasAttrs:
		return Look{What: v.Type(), Shown: short(v), Members: members(v)}
	}
	return Look{What: v.Type(), Shown: short(v)}
}

func members(v starlark.HasAttrs) []Param {
	var out []Param
	for _, name := range v.AttrNames() {
		if m, err := v.Attr(name); err == nil && m != nil {
			p := Param{Name: name}
			if b, ok := m.(*starlark.Builtin); ok {
				if s := builtinCall(b.Name()); s != nil {
					p.Help = s.Help
				}
			}
			out = append(out, p)
		}
	}
	return out
}

const longestShown = 200

// short is a value as code, cut where it is long. What is not known yet, and what is secret, stands as it
// is referred to.
func short(v starlark.Value) string {
	x, err := converter{levels: schemaLevels}.value(v, nil, nil)
	if err != nil {
		return ""
	}
	text := []rune(value.Plain(x))
	if len(text) > longestShown {
		text = append(text[:longestShown-1], '…')
	}
	return string(text)
}

// Fits reports whether a value can be given where the schema of a driver, or a kit's input, wants an
// attribute.
func Fits(v starlark.Value, a *schema.Attribute, driver string) bool {
	if v == nil || v == starlark.None {
		return false
	}
	if a == nil {
		return true
	}
	if a.Kind == handleKind {
		_, name, _ := strings.Cut(a.Refers, ".")
		switch h := v.(type) {
		case *Handle:
			return h.typ.Name == name
		case *found:
			return h.Find.Type.Name == name
		}
		return false
	}
	switch a.Kind {
	case careKind:
		_, ok := v.(*careValue)
		return ok
	case kindKind:
		_, ok := v.(*kindValue)
		return ok
	case functionKind:
		_, ok := v.(*starlark.Function)
		return ok
	}
	switch v := v.(type) {
	case *pending:
		if v.missing {
			return false
		}
		if v.attr == nil {
			return a.Kind == schema.Any
		}
		if a.Refers != "" { // the id of a thing of that type
			return v.of != nil && v.of.Name == a.Refers && v.attr.Name == v.of.ID
		}
		return v.attr.Kind == a.Kind && v.attr.Format == a.Format && a.Pattern == "" && len(a.OneOf) == 0
	case *Handle:
		return a.Refers == v.typ.Name && v.Driver == driver
	case *found:
		return a.Refers == v.Find.Type.Name && v.Driver == driver
	}
	if a.Refers != "" && a.Elem == nil { // a text could be any id
		return false
	}
	if a.Secret {
		return false
	}
	x, err := converter{levels: schemaLevels, attr: a, driver: driver}.value(v, a, value.Path{value.Key(a.Name)})
	if err != nil {
		return false
	}
	_, faults := a.Check(value.Clone(x), value.Path{value.Key(a.Name)})
	return len(faults) == 0
}

// Value is a plain value as code of a ward has it. It knows only what was evaluated with Options.Again.
func (d *Declared) Value(ward string, v any) (starlark.Value, error) {
	t := d.turns[ward]
	if t == nil || t.ev == nil {
		return nil, fmt.Errorf("ward %s is not evaluated", ward)
	}
	return t.ev.fromValue(v)
}

// CalledAt reports whether the call that declares the resource, or one of those that led to it, has its
// opening bracket at a place. Lines and columns count from 1.
func (r *Resource) CalledAt(file string, line, column int) bool {
	for _, f := range r.trace {
		if int(f.Line) == line && int(f.Col) == column && f.Filename() == file {
			return true
		}
	}
	return false
}

// Calls are the places of the opening brackets of the calls that declare the resource, the innermost first.
func (r *Resource) Calls() []problem.Position {
	var out []problem.Position
	for _, f := range r.trace {
		out = append(out, position(f.Position))
	}
	return out
}
