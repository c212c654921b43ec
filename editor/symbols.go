package editor

import (
	"context"
	"fmt"
	"strings"

	protocol "github.com/tliron/glsp/protocol_3_16"
	"go.starlark.net/syntax"

	"kasbah/core/code"
	"kasbah/core/estate"
)

func (s *server) documentSymbol(ctx context.Context, p *protocol.DocumentSymbolParams) (any, error) {
	d, f := s.text(p.TextDocument.URI)
	if f == nil {
		return []protocol.DocumentSymbol{}, nil
	}
	if d.path == estate.File {
		return estateSymbols(f), nil
	}
	return (&outline{f: f, v: d.project.view(ctx)}).symbols(), nil
}

// outline is what a file declares.
type outline struct {
	f *code.File
	v *view // nil while nothing is known
}

func (o *outline) symbols() []protocol.DocumentSymbol {
	out := []protocol.DocumentSymbol{}
	for _, s := range o.f.Tree.Stmts {
		out = append(out, o.of(s)...)
	}
	return out
}

// of are the symbols of a statement.
func (o *outline) of(s syntax.Stmt) []protocol.DocumentSymbol {
	symbol := func(name, detail string, kind protocol.SymbolKind, whole, part syntax.Node) protocol.DocumentSymbol {
		out := protocol.DocumentSymbol{Name: name, Kind: kind, Range: rangeOf(o.f, o.f.SpanOf(whole)),
			SelectionRange: rangeOf(o.f, o.f.SpanOf(part))}
		if detail != "" {
			out.Detail = &detail
		}
		if out.Name == "" {
			out.Name = "?"
		}
		return out
	}
	switch s := s.(type) {
	case *syntax.DefStmt:
		out := symbol(s.Name.Name, "", protocol.SymbolKindFunction, s, s.Name)
		for _, b := range s.Body {
			out.Children = append(out.Children, o.of(b)...)
		}
		return []protocol.DocumentSymbol{out}
	case *syntax.AssignStmt:
		id, ok := s.LHS.(*syntax.Ident)
		if !ok {
			return o.calls(s.RHS)
		}
		if c, ok := s.RHS.(*syntax.CallExpr); ok {
			if one := o.call(c, s); one != nil {
				return []protocol.DocumentSymbol{*one}
			}
		}
		if inner := o.calls(s.RHS); len(inner) > 0 {
			out := symbol(id.Name, "", protocol.SymbolKindVariable, s, id)
			out.Children = inner
			return []protocol.DocumentSymbol{out}
		}
		return []protocol.DocumentSymbol{symbol(id.Name, "", protocol.SymbolKindVariable, s, id)}
	case *syntax.ExprStmt:
		return o.calls(s.X)
	case *syntax.ForStmt:
		out := symbol("for "+o.f.Text(o.f.SpanOf(s.Vars)), "", protocol.SymbolKindNamespace, s, s.Vars)
		for _, b := range s.Body {
			out.Children = append(out.Children, o.of(b)...)
		}
		if len(out.Children) > 0 {
			return []protocol.DocumentSymbol{out}
		}
	case *syntax.IfStmt:
		var out []protocol.DocumentSymbol
		for _, b := range append(append([]syntax.Stmt{}, s.True...), s.False...) {
			out = append(out, o.of(b)...)
		}
		return out
	}
	return nil
}

// calls are the symbols in an expression: its outermost calls that declare something.
func (o *outline) calls(e syntax.Expr) []protocol.DocumentSymbol {
	var out []protocol.DocumentSymbol
	syntax.Walk(e, func(n syntax.Node) bool {
		c, ok := n.(*syntax.CallExpr)
		if !ok {
			return true
		}
		if one := o.call(c, c); one != nil {
			out = append(out, *one)
			return false
		}
		return true
	})
	return out
}

// call is the symbol of a call: an input, a published value, a resource, an instance or a rule; nil for any
// other.
func (o *outline) call(c *syntax.CallExpr, whole syntax.Node) *protocol.DocumentSymbol {
	if len(c.Args) == 0 {
		return nil
	}
	callee := code.Callee(c)
	first := code.Argument(c, "name", 0)
	if first == nil {
		return nil
	}
	name, ok := code.TextOf(first)
	if !ok {
		name = o.f.Text(o.f.SpanOf(first))
	}
	out := &protocol.DocumentSymbol{Name: name, Detail: ptr(callee), Range: rangeOf(o.f, o.f.SpanOf(whole)),
		SelectionRange: rangeOf(o.f, o.f.SpanOf(first))}
	switch {
	case callee == "input":
		out.Kind = protocol.SymbolKindField
	case callee == "publish":
		out.Kind = protocol.SymbolKindEvent
	case callee == "rule":
		out.Kind = protocol.SymbolKindConstant
	case strings.Contains(callee, ".") && o.isType(c):
		out.Name, out.Kind = callee+"/"+name, protocol.SymbolKindObject
	case o.isKit(c):
		out.Kind = protocol.SymbolKindModule
	default:
		return nil
	}
	return out
}

func (o *outline) isType(c *syntax.CallExpr) bool {
	if o.v == nil {
		return false
	}
	return strings.HasPrefix(o.v.of(o.f, c.Fn, o.f.At(c.Lparen)).look().What, "type ")
}

func (o *outline) isKit(c *syntax.CallExpr) bool {
	if o.v == nil {
		return false
	}
	return strings.HasPrefix(o.v.of(o.f, c.Fn, o.f.At(c.Lparen)).look().What, "kit ")
}

// estateSymbols are the sections of kasbah.toml with their keys.
func estateSymbols(f *code.File) []protocol.DocumentSymbol {
	out := []protocol.DocumentSymbol{}
	for _, k := range estate.KeyPlaces(string(f.Body)) {
		line, _ := f.Line(k.From)
		end := max(k.End, k.From)
		span := code.Span{From: k.From, To: end}
		if k.End == 0 {
			span.To = f.LineStart(line+1) - 1
		}
		span.To = max(span.From, span.To)
		one := protocol.DocumentSymbol{Name: k.Key, Kind: protocol.SymbolKindProperty, Range: rangeOf(f, span),
			SelectionRange: rangeOf(f, span)}
		if k.End == 0 {
			one.Kind = protocol.SymbolKindNamespace
			out = append(out, one)
			continue
		}
		if n := len(out); n > 0 && out[n-1].Kind == protocol.SymbolKindNamespace && strings.HasPrefix(k.Key, out[n-1].Name+".") {
			one.Name = strings.TrimPrefix(k.Key, out[n-1].Name+".")
			out[n-1].Children = append(out[n-1].Children, one)
			out[n-1].Range.End = one.Range.End
			continue
		}
		out = append(out, one)
	}
	return out
}

// mostSymbols is how many symbols one answer holds.
const mostSymbols = 500

func (s *server) workspaceSymbol(ctx context.Context, q *protocol.WorkspaceSymbolParams) (any, error) {
	out := []protocol.SymbolInformation{}
	s.mu.Lock()
	var projects []*project
	for _, p := range s.projects {
		projects = append(projects, p)
	}
	s.mu.Unlock()
	for _, p := range projects {
		at := map[string]int{} // of out, by address
		for _, v := range p.all(ctx) {
			for _, r := range v.resources("") {
				if !matches(r.Full(), q.Query) && !strings.Contains(r.Full(), q.Query) {
					continue
				}
				if i, known := at[r.Full()]; known {
					*out[i].ContainerName += ", " + v.env
					continue
				}
				if len(out) == mostSymbols {
					break
				}
				at[r.Full()] = len(out)
				pos, _ := r.Position()
				out = append(out, protocol.SymbolInformation{Name: r.Full(), Kind: protocol.SymbolKindObject, ContainerName: ptr(v.env),
					Location: protocol.Location{URI: p.uri(pos.File), Range: p.span(p.place(pos.File), pos.Line, pos.Column)}})
			}
		}
	}
	return out, nil
}

func (s *server) prepareCallHierarchy(ctx context.Context, r *protocol.CallHierarchyPrepareParams) (any, error) {
	m := s.meant(ctx, r.TextDocumentPositionParams)
	if m == nil || m.sym.kind != ofName {
		return nil, nil
	}
	item, ok := m.p.callItem(m.sym.file, m.sym.first)
	if !ok {
		return nil, nil
	}
	return []protocol.CallHierarchyItem{item}, nil
}

// callItem is a kit or a function as the call hierarchy shows it.
func (p *project) callItem(file string, first *syntax.Ident) (protocol.CallHierarchyItem, bool) {
	f := p.file(file)
	if f == nil || first == nil {
		return protocol.CallHierarchyItem{}, false
	}
	d := functionOf(f, first)
	if d == nil {
		return protocol.CallHierarchyItem{}, false
	}
	kind := protocol.SymbolKindFunction
	if d.Name.Name != first.Name {
		kind = protocol.SymbolKindModule
	}
	span := f.SpanOf(first)
	return protocol.CallHierarchyItem{Name: first.Name, Kind: kind, Detail: &file, URI: p.uri(file), Range: rangeOf(f, span),
		SelectionRange: rangeOf(f, span)}, true
}

// itemMeant is the kit or function of an item; nil for none.
func (s *server) itemMeant(ctx context.Context, item protocol.CallHierarchyItem) *meaning {
	m := s.meant(ctx, protocol.TextDocumentPositionParams{TextDocument: protocol.TextDocumentIdentifier{URI: item.URI},
		Position: item.SelectionRange.Start})
	if m == nil || m.sym.kind != ofName {
		return nil
	}
	return m
}

func (s *server) incomingCalls(ctx context.Context, r *protocol.CallHierarchyIncomingCallsParams) (any, error) {
	out := []protocol.CallHierarchyIncomingCall{}
	m := s.itemMeant(ctx, r.Item)
	if m == nil {
		return out, nil
	}
	p, v, sym := m.p, m.v, m.sym
	by := map[string]int{}
	for _, l := range p.uses(v, sym) {
		f := p.file(l.file)
		c := f.CallAround(l.span.To, func(c *syntax.CallExpr) bool {
			return f.SpanOf(c.Fn) == l.span || code.Callee(c) == "kit" && len(c.Args) > 0 && f.SpanOf(c.Args[0]) == l.span
		})
		if c == nil {
			continue
		}
		from, ok := p.caller(v, f, l.span.From)
		if !ok {
			continue
		}
		key := fmt.Sprint(from.URI, from.Range)
		i, known := by[key]
		if !known {
			i = len(out)
			by[key] = i
			out = append(out, protocol.CallHierarchyIncomingCall{From: from})
		}
		out[i].FromRanges = append(out[i].FromRanges, rangeOf(f, l.span))
	}
	return out, nil
}

// caller is what calls from an offset: the kit or function around it, or the file.
func (p *project) caller(v *view, f *code.File, at int) (protocol.CallHierarchyItem, bool) {
	if d := f.Function(at); d != nil {
		for _, s := range f.Tree.Stmts { // the kit that wraps it
			if a, ok := s.(*syntax.AssignStmt); ok {
				if id, ok := a.LHS.(*syntax.Ident); ok && functionOf(f, id) == d {
					return p.callItem(f.Name, id)
				}
			}
		}
		return p.callItem(f.Name, d.Name)
	}
	return protocol.CallHierarchyItem{Name: f.Name, Kind: protocol.SymbolKindFile, URI: p.uri(f.Name),
		Range: rangeOf(f, code.Span{To: len(f.Body)})}, true
}

func (s *server) outgoingCalls(ctx context.Context, r *protocol.CallHierarchyOutgoingCallsParams) (any, error) {
	out := []protocol.CallHierarchyOutgoingCall{}
	m := s.itemMeant(ctx, r.Item)
	if m == nil {
		return out, nil
	}
	p, v, sym := m.p, m.v, m.sym
	f := p.file(sym.file)
	d := functionOf(f, sym.first)
	if d == nil {
		return out, nil
	}
	by := map[string]int{}
	for _, c := range f.Calls() {
		if !f.SpanOf(d).Holds(f.At(c.Lparen)) {
			continue
		}
		id, ok := c.Fn.(*syntax.Ident)
		if !ok {
			continue
		}
		to := p.symbolOf(v, f, id)
		if to == nil || to.kind != ofName {
			continue
		}
		item, ok := p.callItem(to.file, to.first)
		if !ok {
			continue
		}
		key := fmt.Sprint(item.URI, item.Range)
		i, known := by[key]
		if !known {
			i = len(out)
			by[key] = i
			out = append(out, protocol.CallHierarchyOutgoingCall{To: item})
		}
		out[i].FromRanges = append(out[i].FromRanges, rangeOf(f, f.SpanOf(id)))
	}
	return out, nil
}
