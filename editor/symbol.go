package editor

import (
	"strings"

	"go.starlark.net/syntax"

	"kasbah/core/code"
	"kasbah/core/estate"
	"kasbah/core/value"
)

// symbolKind is what a word stands for.
type symbolKind int

const (
	ofName      symbolKind = iota // a variable or function of a file, or of a function in it
	ofParam                       // a parameter of a function, or an input of a kit
	ofInput                       // an input of wards
	ofPublished                   // a published value of a ward
	ofResource                    // a resource by its address
	ofInstance                    // an instance of a kit by its address in the ward
	ofFile                        // a file
	ofKit                         // a kit by its name in kasbah.toml
)

// call is the function that makes an input or a published value.
func (k symbolKind) call() string {
	if k == ofInput {
		return "input"
	}
	return "publish"
}

// symbol is what a word stands for, with the place of its definition.
type symbol struct {
	kind symbolKind
	name string // as it is written
	ward string // of inputs, published values, resources and instances

	file  string        // of the definition
	span  code.Span     // of the name there
	first *syntax.Ident // of names
	fn    *syntax.DefStmt
	call  *syntax.CallExpr // that declares the resource or opens the instance
	short string           // of a resource or an instance: its address without the ward, as the call sees it
}

// place is a place in a file.
type location struct {
	file string
	span code.Span
}

// symbolAt is what the word at an offset stands for; nil for nothing that is known.
func (p *project) symbolAt(v *view, f *code.File, at int) *symbol {
	if f.Name == estate.File {
		return p.symbolInEstate(v, f, at)
	}
	pl := f.Place(at)
	if pl.Comment {
		return nil
	}
	if pl.Text {
		return p.symbolInText(v, f, &pl, at)
	}
	if len(pl.Calls) > 0 && pl.Calls[0].Open == '(' && isArgument(f, pl.Word) && !pl.Dotted {
		return p.paramOf(v, f, pl.Calls[0].Fn, pl.Calls[0].At, f.Text(pl.Word))
	}
	if id := f.Ident(at); id != nil {
		return p.symbolOf(v, f, id)
	}
	return nil
}

// symbolOf is what a name of a file stands for, followed into the file that it is loaded from.
func (p *project) symbolOf(v *view, f *code.File, id *syntax.Ident) *symbol {
	first := code.First(id)
	if first == nil {
		return nil
	}
	if module, from, ok := f.Loaded(first); ok {
		file := v.module(f.Name, module)
		other := p.file(file)
		if other == nil {
			return nil
		}
		if top := other.Top(from.Name); top != nil {
			return p.symbolOf(v, other, top)
		}
		return nil
	}
	s := &symbol{kind: ofName, name: first.Name, file: f.Name, span: f.SpanOf(first), first: first}
	if d := f.Function(f.At(first.NamePos)); d != nil {
		for _, param := range d.Params {
			if paramIdent(param) == first {
				s.kind, s.fn = ofParam, d
			}
		}
	}
	return s
}

func paramIdent(p syntax.Expr) *syntax.Ident {
	switch p := p.(type) {
	case *syntax.Ident:
		return p
	case *syntax.BinaryExpr:
		id, _ := p.X.(*syntax.Ident)
		return id
	case *syntax.UnaryExpr:
		id, _ := p.X.(*syntax.Ident)
		return id
	}
	return nil
}

// paramOf is the parameter that an argument of a call is given to: of a function, or of the one that a kit
// wraps.
func (p *project) paramOf(v *view, f *code.File, callee string, at int, name string) *symbol {
	id := f.Ident(max(0, at-1))
	if callee == "" || strings.Contains(callee, ".") || id == nil {
		return nil
	}
	fn := p.symbolOf(v, f, id)
	if fn == nil {
		return nil
	}
	of := p.file(fn.file)
	return paramIn(of, functionOf(of, fn.first), name)
}

// functionOf is the function that a name at the top is, or that the kit of that name wraps.
func functionOf(f *code.File, first *syntax.Ident) *syntax.DefStmt {
	name := first.Name
	if c, ok := f.Assigned(first).(*syntax.CallExpr); ok && code.Callee(c) == "kit" {
		if id, ok := code.Argument(c, "function", 0).(*syntax.Ident); ok {
			name = id.Name
		}
	}
	for _, s := range f.Tree.Stmts {
		if d, ok := s.(*syntax.DefStmt); ok && d.Name.Name == name {
			return d
		}
	}
	return nil
}

func paramIn(f *code.File, d *syntax.DefStmt, name string) *symbol {
	if d == nil {
		return nil
	}
	for _, param := range d.Params {
		if id := paramIdent(param); id != nil && id.Name == name {
			return &symbol{kind: ofParam, name: name, file: f.Name, span: f.SpanOf(id), first: id, fn: d}
		}
	}
	return nil
}

// symbolInText is what a text stands for, by the call that it is in.
func (p *project) symbolInText(v *view, f *code.File, pl *code.Place, at int) *symbol {
	for _, l := range f.Loads() {
		if !f.SpanOf(l).Holds(at) {
			continue
		}
		if f.SpanOf(l.Module).Holds(at) {
			return p.fileSymbol(v.module(f.Name, l.ModuleName()))
		}
		for i, from := range l.From {
			if span := f.SpanOf(from); span.Holds(at) {
				return p.symbolOf(v, f, l.To[i])
			}
		}
	}
	if len(pl.Calls) == 0 {
		return nil
	}
	text := f.Text(pl.Word)
	c := pl.Calls[0]
	own := v.ward(f.Name)
	if c.Open == '(' && c.Arg == 0 && c.Name == "" {
		switch c.Fn {
		case "input":
			return p.offeredSymbol(v, ofInput, own, text)
		case "publish":
			return p.offeredSymbol(v, ofPublished, own, text)
		case "published":
			if w := v.wards[text]; w != nil {
				for _, file := range value.Keys(w.Files) {
					if strings.HasPrefix(file, text+"/") {
						return p.fileSymbol(file)
					}
				}
			}
			return nil
		case "file":
			return p.fileSymbol(v.module(f.Name, text))
		}
		if call := f.CallAt(c.At); call != nil {
			if s := v.declaredSymbol(f, call); s != nil {
				return s
			}
		}
	}
	if c.Fn == "published" && c.Arg == 1 {
		return p.offeredSymbol(v, ofPublished, strings.Trim(c.First, "\"'"), text)
	}
	if c.Open == '{' && !c.Value && len(pl.Calls) > 1 && pl.Calls[1].Fn == "kit" && pl.Calls[1].Name == "inputs" {
		if call := f.CallAt(pl.Calls[1].At); call != nil {
			if id, ok := code.Argument(call, "function", 0).(*syntax.Ident); ok {
				if first := code.First(id); first != nil {
					return paramIn(f, functionOf(f, first), text)
				}
			}
		}
	}
	return p.addressSymbol(v, own, text)
}

func (p *project) fileSymbol(file string) *symbol {
	if file == "" || p.lines(file) == nil {
		return nil
	}
	return &symbol{kind: ofFile, name: file, file: file}
}

// declaredSymbol is the resource that a call declares, or the instance that it opens.
func (v *view) declaredSymbol(f *code.File, c *syntax.CallExpr) *symbol {
	if len(c.Args) == 0 {
		return nil
	}
	s := &symbol{ward: v.ward(f.Name), file: f.Name, span: f.SpanOf(c.Args[0]), call: c}
	s.name = f.Text(s.span) // where it is computed
	if name, ok := c.Args[0].(*syntax.Literal); ok {
		if text, ok := code.TextOf(name); ok {
			s.name, s.span = text, f.Inside(name)
		}
	}
	l := v.of(f, c.Fn, f.At(c.Lparen)).look()
	switch {
	case l.Type != nil && strings.HasPrefix(l.What, "type "):
		s.kind, s.short = ofResource, l.Driver+"."+l.Type.Name+"/"+s.name
	case strings.HasPrefix(l.What, "kit "):
		s.kind, s.short = ofInstance, s.name
	default:
		return nil
	}
	return s
}

// callsOf are the calls of some name in the files of a ward, or of all wards for "", with their first text.
func (p *project) callsOf(v *view, ward string, callee string, visit func(f *code.File, c *syntax.CallExpr, name *syntax.Literal,
	text string)) {
	for _, file := range p.sources() {
		if in := v.ward(file); in == "" || ward != "" && in != ward {
			continue
		}
		f := p.file(file)
		if f == nil {
			continue
		}
		for _, c := range f.Calls() {
			if code.Callee(c) != callee || len(c.Args) == 0 {
				continue
			}
			if l, ok := code.Argument(c, "name", 0).(*syntax.Literal); ok {
				if text, ok := code.TextOf(l); ok {
					visit(f, c, l, text)
				}
			}
		}
	}
}

// offeredSymbol is the input or the published value of a name in a ward, or in any for "".
func (p *project) offeredSymbol(v *view, kind symbolKind, ward, name string) *symbol {
	var out *symbol
	p.callsOf(v, ward, kind.call(), func(f *code.File, c *syntax.CallExpr, l *syntax.Literal, text string) {
		if text == name && out == nil {
			out = &symbol{kind: kind, name: name, ward: ward, file: f.Name, span: f.Inside(l), call: c}
		}
	})
	return out
}

// addressSymbol is the resource that a text is the address of.
func (p *project) addressSymbol(v *view, own, text string) *symbol {
	ward, short := value.SplitWard(text)
	if ward == "" {
		ward = own
	}
	for _, r := range v.resources(ward) {
		if r.Address != short || len(r.Calls()) == 0 {
			continue
		}
		pos := r.Calls()[0]
		file := p.place(pos.File)
		f := p.file(file)
		if f == nil {
			return nil
		}
		c := f.CallAt(f.Offset(pos.Line, pos.Column))
		if c == nil || len(c.Args) == 0 {
			return nil
		}
		s := v.declaredSymbol(f, c)
		if s != nil {
			s.ward = ward
		}
		return s
	}
	return nil
}

// symbolInEstate is what a key of kasbah.toml stands for.
func (p *project) symbolInEstate(v *view, f *code.File, at int) *symbol {
	k, ok := keyAt(f, at)
	if !ok {
		return nil
	}
	parts := strings.Split(k.Key, ".")
	for i, part := range parts {
		switch {
		case part == "inputs" && i+1 < len(parts):
			ward := ""
			if i == 4 && parts[2] == "ward" {
				ward = parts[3]
			}
			return p.offeredSymbol(v, ofInput, ward, parts[i+1])
		case part == "kits" && i+1 < len(parts):
			if kit := v.options.Kits[parts[i+1]]; kit != nil && kit.Folder != "" {
				return p.fileSymbol(kit.Folder + "/kit.star")
			}
		case part == "adopt" && i+1 < len(parts):
			return p.addressSymbol(v, "", strings.Join(parts[i+1:], "."))
		}
	}
	return nil
}
