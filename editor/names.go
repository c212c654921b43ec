package editor

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/sourcegraph/jsonrpc2"
	protocol "github.com/tliron/glsp/protocol_3_16"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/form"
	"kasbah/core/value"
)

// meaning is what the word at a position stands for.
type meaning struct {
	p   *project
	v   *view
	f   *code.File
	at  int
	sym *symbol
}

// meant is what the word at a position stands for; nil for nothing that is known.
func (s *server) meant(ctx context.Context, p protocol.TextDocumentPositionParams) *meaning {
	d, f, at := s.at(p)
	if f == nil {
		return nil
	}
	v := d.project.view(ctx)
	if v == nil {
		return nil
	}
	sym := d.project.symbolAt(v, f, at)
	if sym == nil {
		return nil
	}
	return &meaning{d.project, v, f, at, sym}
}

func (s *server) definition(ctx context.Context, p *protocol.DefinitionParams) (any, error) {
	m := s.meant(ctx, p.TextDocumentPositionParams)
	if m == nil {
		return nil, nil
	}
	return []protocol.Location{m.p.location(location{m.sym.file, m.sym.span})}, nil
}

func (p *project) location(l location) protocol.Location {
	f := p.file(l.file)
	if f == nil {
		return protocol.Location{URI: p.uri(l.file)}
	}
	return protocol.Location{URI: p.uri(l.file), Range: rangeOf(f, l.span)}
}

func (s *server) references(ctx context.Context, p *protocol.ReferenceParams) (any, error) {
	m := s.meant(ctx, p.TextDocumentPositionParams)
	if m == nil {
		return nil, nil
	}
	out := []protocol.Location{}
	for _, l := range m.p.uses(m.v, m.sym) {
		if p.Context.IncludeDeclaration || l.file != m.sym.file || l.span != m.sym.span {
			out = append(out, m.p.location(l))
		}
	}
	return out, nil
}

func (s *server) documentHighlight(ctx context.Context, p *protocol.DocumentHighlightParams) (any, error) {
	m := s.meant(ctx, p.TextDocumentPositionParams)
	if m == nil {
		return nil, nil
	}
	out := []protocol.DocumentHighlight{}
	for _, l := range m.p.uses(m.v, m.sym) {
		if l.file == m.f.Name {
			out = append(out, protocol.DocumentHighlight{Range: rangeOf(m.f, l.span)})
		}
	}
	return out, nil
}

// uses are all places that stand for a symbol, its definition among them.
func (p *project) uses(v *view, sym *symbol) []location {
	var out []location
	add := func(file string, span code.Span) {
		l := location{file, span}
		if !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	switch sym.kind {
	case ofName, ofParam:
		f := p.file(sym.file)
		if f == nil {
			return nil
		}
		for _, id := range f.Uses(sym.first) {
			add(f.Name, f.SpanOf(id))
		}
		if sym.kind == ofParam {
			p.usesOfParam(v, sym, f, add)
			return out
		}
		p.loaders(v, sym.file, func(other *code.File, l *syntax.LoadStmt, i int) {
			if l.From[i].Name != sym.name {
				return
			}
			add(other.Name, other.SpanOf(l.From[i]))
			if l.To[i].Name == sym.name {
				for _, id := range other.Uses(l.To[i]) {
					add(other.Name, other.SpanOf(id))
				}
			}
		})
	case ofInput:
		p.callsOf(v, "", "input", func(f *code.File, _ *syntax.CallExpr, l *syntax.Literal, text string) {
			if text == sym.name {
				add(f.Name, f.Inside(l))
			}
		})
		if f := p.file(estate.File); f != nil {
			for _, k := range estate.KeyPlaces(string(f.Body)) {
				parts := strings.Split(k.Key, ".")
				if n := len(parts); n > 1 && parts[n-2] == "inputs" && parts[n-1] == sym.name {
					if span, ok := keySpan(f, k, sym.name); ok {
						add(f.Name, span)
					}
				}
			}
		}
	case ofPublished:
		p.callsOf(v, sym.ward, "publish", func(f *code.File, _ *syntax.CallExpr, l *syntax.Literal, text string) {
			if text == sym.name {
				add(f.Name, f.Inside(l))
			}
		})
		for _, file := range p.sources() {
			f := p.file(file)
			if f == nil || v.ward(file) == "" {
				continue
			}
			for _, c := range f.Calls() {
				if code.Callee(c) != "published" {
					continue
				}
				ward, _ := code.TextOf(code.Argument(c, "ward", 0))
				l, ok := code.Argument(c, "name", 1).(*syntax.Literal)
				if text, is := code.TextOf(l); ok && is && ward == sym.ward && text == sym.name {
					add(file, f.Inside(l))
				}
			}
		}
	case ofResource, ofInstance:
		add(sym.file, sym.span)
		for _, l := range p.addressTexts(v, sym) {
			add(l.file, l.span)
		}
		if f := p.file(sym.file); f != nil { // the variable that holds it
			for _, s := range f.Tree.Stmts {
				if a, ok := s.(*syntax.AssignStmt); ok && a.RHS == sym.call {
					if id, ok := a.LHS.(*syntax.Ident); ok && code.First(id) != nil {
						for _, l := range p.uses(v, &symbol{kind: ofName, name: id.Name, file: sym.file, first: code.First(id)}) {
							if l.file != sym.file || l.span != f.SpanOf(id) {
								add(l.file, l.span)
							}
						}
					}
				}
			}
		}
	case ofFile:
		for _, file := range p.sources() {
			f := p.file(file)
			if f == nil {
				continue
			}
			for _, l := range f.Loads() {
				if v.module(file, l.ModuleName()) == sym.file {
					add(file, f.Inside(l.Module))
				}
			}
		}
	}
	return out
}

// keySpan is the last part of a key of kasbah.toml.
func keySpan(f *code.File, k estate.KeyPlace, name string) (code.Span, bool) {
	end := min(len(f.Body), max(k.Value, k.From+len(name)))
	text := string(f.Body[k.From:end])
	i := strings.LastIndex(text, name)
	if i < 0 {
		return code.Span{}, false
	}
	return code.Span{From: k.From + i, To: k.From + i + len(name)}, true
}

// loaders visits every name that some file loads from another one.
func (p *project) loaders(v *view, file string, visit func(other *code.File, l *syntax.LoadStmt, i int)) {
	for _, path := range p.sources() {
		f := p.file(path)
		if f == nil {
			continue
		}
		for _, l := range f.Loads() {
			if v.module(path, l.ModuleName()) != file {
				continue
			}
			for i := range l.From {
				visit(f, l, i)
			}
		}
	}
}

// usesOfParam adds the arguments that are given to a parameter by name, and the key that gives an input of
// a kit its kind.
func (p *project) usesOfParam(v *view, sym *symbol, f *code.File, add func(string, code.Span)) {
	called := map[string]map[string]bool{f.Name: {}} // names under which a file knows the function
	for _, s := range f.Tree.Stmts {
		switch s := s.(type) {
		case *syntax.DefStmt:
			if s == sym.fn {
				called[f.Name][s.Name.Name] = true
			}
		case *syntax.AssignStmt:
			c, ok := s.RHS.(*syntax.CallExpr)
			id, isName := s.LHS.(*syntax.Ident)
			if !ok || !isName || functionOf(f, id) != sym.fn {
				continue
			}
			called[f.Name][id.Name] = true
			if d, ok := code.Argument(c, "inputs", 1).(*syntax.DictExpr); ok {
				for _, e := range d.List {
					if l, ok := e.(*syntax.DictEntry).Key.(*syntax.Literal); ok {
						if text, is := code.TextOf(l); is && text == sym.name {
							add(f.Name, f.Inside(l))
						}
					}
				}
			}
		}
	}
	p.loaders(v, f.Name, func(other *code.File, l *syntax.LoadStmt, i int) {
		if called[f.Name][l.From[i].Name] {
			if called[other.Name] == nil {
				called[other.Name] = map[string]bool{}
			}
			called[other.Name][l.To[i].Name] = true
		}
	})
	for _, file := range value.Keys(called) {
		other := p.file(file)
		for _, c := range other.Calls() {
			if !called[file][code.Callee(c)] {
				continue
			}
			for _, a := range c.Args {
				if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
					if id, ok := b.X.(*syntax.Ident); ok && id.Name == sym.name {
						add(file, other.SpanOf(id))
					}
				}
			}
		}
	}
}

// declaredAs are the resources whose declaration goes through the call of a symbol.
func (v *view) declaredAs(p *project, sym *symbol) []*declare.Resource {
	f := p.file(sym.file)
	if f == nil || sym.call == nil {
		return nil
	}
	line, from := f.Line(f.At(sym.call.Lparen))
	column := 1 + len([]rune(string(f.Body[from:f.At(sym.call.Lparen)])))
	var out []*declare.Resource
	for _, r := range v.resources("") {
		if r.CalledAt(v.evaluated(sym.file), line+1, column) {
			out = append(out, r)
		}
	}
	return out
}

// addressTexts are the parts of addresses, in declarations, rules and kasbah.toml, that are the name of a
// resource or an instance.
func (p *project) addressTexts(v *view, sym *symbol) []location {
	all := map[string]int{} // full address -> where the name begins in the address without its ward
	for _, view := range p.everyView() {
		for _, r := range view.declaredAs(p, sym) {
			switch sym.kind {
			case ofResource:
				all[r.Full()] = len(r.Address) - len(r.Name)
			case ofInstance:
				at := 0
				for _, in := range r.Within {
					if in.Name == sym.name && in.Position.Line > 0 {
						all[r.Full()] = at
						break
					}
					at += len(in.Name) + 1
				}
			}
		}
	}
	var out []location
	within := func(file, own string, from int, text string) {
		address, _, _ := strings.Cut(text, " ")
		ward, short := value.SplitWard(address)
		if ward == "" {
			ward = own
		}
		begin, ok := all[value.InWard(ward, short)]
		if !ok {
			return
		}
		at := from + len(address) - len(short) + begin
		out = append(out, location{file, code.Span{From: at, To: at + len(sym.name)}})
	}
	for _, file := range p.sources() {
		f := p.file(file)
		if f == nil {
			continue
		}
		for _, l := range f.Literals() {
			if text, ok := code.TextOf(l); ok && strings.Contains(text, "/") && f.Text(f.Inside(l)) == text {
				within(file, v.ward(file), f.Inside(l).From, text)
			}
		}
	}
	if f := p.file(estate.File); f != nil {
		for _, m := range quotedInTOML().FindAllIndex(f.Body, -1) {
			within(estate.File, "", m[0]+1, string(f.Body[m[0]+1:m[1]-1]))
		}
	}
	return out
}

var quotedInTOML = form.Of(`"[^"\\\n]*"|'[^'\n]*'`)

// everyView are all views.
func (p *project) everyView() []*view {
	p.known.RLock()
	defer p.known.RUnlock()
	var out []*view
	for _, env := range value.Keys(p.views) {
		if p.views[env].eval != nil {
			out = append(out, p.views[env])
		}
	}
	return out
}

func refused(format string, args ...any) error {
	return &jsonrpc2.Error{Code: requestFailed, Message: fmt.Sprintf(format, args...)}
}

// requestFailed is the protocol's code for what is well-formed and cannot be done.
const requestFailed = -32803

func (s *server) prepareRename(ctx context.Context, p *protocol.PrepareRenameParams) (any, error) {
	m := s.meant(ctx, p.TextDocumentPositionParams)
	if m == nil || m.sym.kind == ofFile {
		return nil, nil
	}
	for _, l := range m.p.uses(m.v, m.sym) {
		if l.file == m.f.Name && l.span.Holds(m.at) {
			return protocol.RangeWithPlaceholder{Range: rangeOf(m.f, l.span), Placeholder: m.sym.name}, nil
		}
	}
	return nil, nil
}

var identifier = form.Of(`^[A-Za-z_][A-Za-z0-9_]*$`)

func (s *server) rename(ctx context.Context, r *protocol.RenameParams) (any, error) {
	d, f, at := s.at(r.TextDocumentPositionParams)
	if f == nil {
		return nil, nil
	}
	p := d.project
	s.current(ctx, p)
	v := p.view(ctx)
	if v == nil {
		return nil, refused("the estate cannot be read yet")
	}
	sym := p.symbolAt(v, f, at)
	if sym == nil || sym.kind == ofFile {
		return nil, refused("nothing here can be renamed")
	}
	edits, err := p.renames(ctx, v, sym, r.NewName)
	if err != nil {
		return nil, err
	}
	return p.workspaceEdit(edits), nil
}

// fileEdits are edits by file.
type fileEdits map[string][]code.Edit

func (e fileEdits) add(file string, edit code.Edit) {
	if !slices.Contains(e[file], edit) {
		e[file] = append(e[file], edit)
	}
}

func (p *project) workspaceEdit(edits fileEdits) protocol.WorkspaceEdit {
	out := protocol.WorkspaceEdit{Changes: map[string][]protocol.TextEdit{}}
	for _, file := range value.Keys(edits) {
		f := p.lines(file)
		slices.SortStableFunc(edits[file], func(a, b code.Edit) int { return a.From - b.From })
		for _, e := range edits[file] {
			out.Changes[p.uri(file)] = append(out.Changes[p.uri(file)], protocol.TextEdit{Range: rangeOf(f, e.Span), NewText: e.Text})
		}
	}
	return out
}

// renames are the edits that give a symbol another name.
func (p *project) renames(ctx context.Context, v *view, sym *symbol, name string) (fileEdits, error) {
	out := fileEdits{}
	switch sym.kind {
	case ofName, ofParam:
		if !identifier().MatchString(name) || declare.Identifier(name) != name {
			return nil, refused("%q cannot be the name of a variable", name)
		}
	case ofInput, ofPublished:
		if !identifier().MatchString(name) || strings.ToLower(name) != name || name[0] == '_' {
			return nil, refused("%q cannot be the name of %s: use a-z, 0-9 and _, starting with a letter", name,
				map[symbolKind]string{ofInput: "an input", ofPublished: "a published value"}[sym.kind])
		}
	case ofResource, ofInstance:
		if err := p.renamesDeclared(ctx, sym, name, out); err != nil {
			return nil, err
		}
	}
	if name == sym.name {
		return fileEdits{}, nil
	}
	uses := p.uses(v, sym)
	if sym.kind == ofResource || sym.kind == ofInstance { // not the variable that holds it
		uses = append([]location{{sym.file, sym.span}}, p.addressTexts(v, sym)...)
	}
	for _, l := range uses {
		f := p.file(l.file)
		if sym.kind == ofName || sym.kind == ofParam {
			if err := p.isFree(v, f, name, sym, l); err != nil {
				return nil, err
			}
		}
		out.add(l.file, code.Edit{Span: l.span, Text: name})
	}
	if sym.kind == ofInput || sym.kind == ofPublished {
		if p.taken(v, sym, name) {
			return nil, refused("%q is there already", name)
		}
	}
	return out, nil
}

// isFree refuses a name that means something else where it would stand.
func (p *project) isFree(v *view, f *code.File, name string, sym *symbol, l location) error {
	if v.predeclared(f.Name)[name] != nil || starlark.Universe[name] != nil {
		return refused("%q is a name of the language", name)
	}
	if slices.Contains(f.Names(l.span.To), name) || sym.first != nil && f.Name == sym.file && f.Top(name) != nil {
		return refused("%s has a %q already", l.file, name)
	}
	return nil
}

// taken reports whether there is an input or a published value of a name already.
func (p *project) taken(v *view, sym *symbol, name string) bool {
	ward := sym.ward
	if sym.kind == ofInput {
		ward = ""
	}
	there := false
	p.callsOf(v, ward, sym.kind.call(), func(_ *code.File, _ *syntax.CallExpr, _ *syntax.Literal, text string) {
		there = there || text == name
	})
	return there
}

// renamesDeclared adds what tells the next run that a recorded resource, or an instance of recorded ones, has
// another name now.
func (p *project) renamesDeclared(ctx context.Context, sym *symbol, name string, out fileEdits) error {
	if name == "" || strings.ContainsAny(name, " \t\n\"'\\/*") || sym.kind == ofInstance && !instanceName().MatchString(name) {
		return refused("%q cannot be the name of %s", name, map[symbolKind]string{ofResource: "a resource",
			ofInstance: "an instance: use a-z, 0-9 and -, starting with a letter"}[sym.kind])
	}
	f := p.file(sym.file)
	if sym.call == nil || len(sym.call.Args) == 0 {
		return refused("the call that declares it is not known")
	}
	if _, ok := sym.call.Args[0].(*syntax.Literal); !ok {
		return refused("its name is computed: %s", f.Text(f.SpanOf(sym.call.Args[0])))
	}
	recorded := false
	declared := 0
	for _, v := range p.everyView() {
		for _, r := range v.declaredAs(p, sym) {
			declared++
			other := strings.TrimSuffix(r.Full(), r.Name) + name
			if sym.kind == ofResource && v.eval.Declared.Resource(other) != nil {
				return refused("%s is declared already", other)
			}
			s, err := v.state(ctx, r.Ward)
			if err != nil {
				return refused("whether it is recorded cannot be told: the ledger of %s in %s cannot be read: %v", r.Ward, v.env, err)
			}
			recorded = recorded || s.Records[r.Address] != nil
		}
	}
	if declared == 0 {
		return refused("nothing is known of what this declares: mend what is wrong first")
	}
	if !recorded {
		return nil
	}
	was := sym.name
	if sym.kind == ofResource {
		was = sym.short
	}
	edits, err := f.SetCare(sym.call, "renamed_from", declare.Literal(was))
	if err != nil {
		return refused("it is recorded, so it needs care(renamed_from = %s), and %v", declare.Literal(was), err)
	}
	for _, e := range edits {
		out.add(sym.file, e)
	}
	return nil
}

var instanceName = form.Of(`^[a-z][a-z0-9-]*$`)

// current brings what is known of a project up to the texts as they are.
func (s *server) current(ctx context.Context, p *project) {
	s.mu.Lock()
	env := s.env
	if env == "" {
		env = s.o.Env
	}
	s.mu.Unlock()
	p.check(ctx, env)
}
