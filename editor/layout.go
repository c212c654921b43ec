package editor

import (
	"bytes"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	protocol "github.com/tliron/glsp/protocol_3_16"
	"go.starlark.net/syntax"

	"kasbah/core/code"
	"kasbah/core/estate"
	"kasbah/core/tidy"
)

func (s *server) formatting(ctx context.Context, p *protocol.DocumentFormattingParams) (any, error) {
	d, f := s.text(p.TextDocument.URI)
	if f == nil || !strings.HasSuffix(d.path, ".star") {
		return nil, nil
	}
	if f.Large() {
		return nil, refused("%v", f.Err)
	}
	type laidOut struct {
		edits []protocol.TextEdit
		err   error
	}
	done := make(chan laidOut, 1)
	go func() {
		text, err := tidy.Text(d.path, f.Body)
		if err != nil {
			done <- laidOut{err: err}
			return
		}
		done <- laidOut{edits: textEdits(f, text)}
	}()
	select {
	case out := <-done:
		if out.err != nil {
			return nil, refused("%v", out.err)
		}
		return out.edits, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(longestLayout): // others wait for their answers
		return nil, refused("%s takes longer than %s to lay out; `kasbah tidy` has the time", d.path, longestLayout)
	}
}

const longestLayout = 5 * time.Second

// textEdits are the edits that turn a text into another one, each as small as can be.
func textEdits(f *code.File, text []byte) []protocol.TextEdit {
	out := []protocol.TextEdit{}
	if bytes.Equal(f.Body, text) {
		return out
	}
	for _, e := range udiff.Strings(string(f.Body), string(text)) {
		out = append(out, protocol.TextEdit{Range: rangeOf(f, code.Span{From: e.Start, To: e.End}), NewText: e.New})
	}
	return out
}

func (s *server) foldingRange(_ context.Context, p *protocol.FoldingRangeParams) (any, error) {
	out := []protocol.FoldingRange{}
	d, f := s.text(p.TextDocument.URI)
	if f == nil {
		return out, nil
	}
	add := func(from, to int, kind string) {
		if to <= from {
			return
		}
		r := protocol.FoldingRange{StartLine: uint32(from), EndLine: uint32(to)}
		if kind != "" {
			r.Kind = &kind
		}
		out = append(out, r)
	}
	if d.path == estate.File {
		last := -1
		for n := 0; n <= f.Lines(); n++ {
			text := strings.TrimSpace(f.Text(code.Span{From: f.LineStart(n), To: f.LineStart(n + 1)}))
			if n == f.Lines() || strings.HasPrefix(text, "[") {
				if last >= 0 {
					end := n - 1
					for end > last && strings.TrimSpace(f.Text(code.Span{From: f.LineStart(end), To: f.LineStart(end + 1)})) == "" {
						end--
					}
					add(last, end, "")
				}
				last = n
			}
		}
		return out, nil
	}
	lines := func(n syntax.Node) (from, to int) {
		span := f.SpanOf(n)
		from, _ = f.Line(span.From)
		to, _ = f.Line(max(span.From, span.To-1))
		return from, to
	}
	for _, s := range f.Tree.Stmts {
		syntax.Walk(s, func(n syntax.Node) bool {
			switch n := n.(type) {
			case *syntax.DefStmt, *syntax.ForStmt, *syntax.IfStmt:
				from, to := lines(n)
				add(from, to, "")
			case *syntax.CallExpr, *syntax.ListExpr, *syntax.DictExpr, *syntax.Comprehension:
				from, to := lines(n)
				add(from, to-1, "") // the bracket at the end stays
			}
			return true
		})
	}
	begin := -1
	for n := 0; n <= f.Lines(); n++ {
		comment := n < f.Lines() && strings.HasPrefix(f.Text(code.Span{From: f.LineStart(n), To: f.LineStart(n + 1)}), "#")
		switch {
		case comment && begin < 0:
			begin = n
		case !comment && begin >= 0:
			add(begin, n-1, "comment")
			begin = -1
		}
	}
	return out, nil
}

func (s *server) documentLink(ctx context.Context, p *protocol.DocumentLinkParams) (any, error) {
	out := []protocol.DocumentLink{}
	d, f := s.text(p.TextDocument.URI)
	if f == nil {
		return out, nil
	}
	v := d.project.view(ctx)
	if v == nil {
		return out, nil
	}
	link := func(span code.Span, file string) {
		if file != "" && d.project.lines(file) != nil {
			out = append(out, protocol.DocumentLink{Range: rangeOf(f, span), Target: ptr(d.project.uri(file))})
		}
	}
	if d.path == estate.File {
		for _, k := range estate.KeyPlaces(string(f.Body)) {
			if k.Value == 0 {
				continue
			}
			text := strings.Trim(string(f.Body[k.Value:k.End]), "\"' ")
			span := code.Span{From: k.Value, To: k.End}
			switch {
			case strings.Contains("."+k.Key, ".kits."):
				link(span, text+"/kit.star")
			case strings.HasSuffix(k.Key, ".spec"), strings.HasSuffix(k.Key, ".overlay"), k.Key == "prices", k.Key == "prices.book":
				link(span, text)
			}
		}
		return out, nil
	}
	for _, l := range f.Loads() {
		link(f.Inside(l.Module), v.module(f.Name, l.ModuleName()))
	}
	for _, c := range f.Calls() {
		if code.Callee(c) == "file" {
			if l, ok := code.Argument(c, "path", 0).(*syntax.Literal); ok {
				if text, ok := code.TextOf(l); ok {
					link(f.Inside(l), v.module(f.Name, text))
				}
			}
		}
	}
	return out, nil
}

// legend are the kinds of words that are told apart by colour.
var legend = protocol.SemanticTokensLegend{
	TokenTypes:     []string{"namespace", "class", "parameter", "variable", "property", "function", "enumMember"},
	TokenModifiers: []string{"readonly", "defaultLibrary"},
}

const (
	tokenNamespace = iota
	tokenClass
	tokenParameter
	tokenVariable
	tokenProperty
	tokenFunction
	tokenEnum
)

func (s *server) semanticTokens(ctx context.Context, p *protocol.SemanticTokensParams) (any, error) {
	out := protocol.SemanticTokens{Data: []uint32{}}
	d, f := s.text(p.TextDocument.URI)
	if f == nil || !strings.HasSuffix(d.path, ".star") {
		return out, nil
	}
	v := d.project.view(ctx)
	at := map[int]int{} // offset -> kind
	ends := map[int]int{}
	put := func(span code.Span, kind int) {
		if span.To > span.From {
			at[span.From], ends[span.From] = kind, span.To
		}
	}
	for _, s := range f.Tree.Stmts {
		syntax.Walk(s, func(n syntax.Node) bool {
			switch n := n.(type) {
			case *syntax.DefStmt:
				put(f.SpanOf(n.Name), tokenFunction)
			case *syntax.CallExpr:
				for _, a := range n.Args {
					if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
						put(f.SpanOf(b.X), tokenProperty)
					}
				}
				switch fn := n.Fn.(type) {
				case *syntax.Ident:
					put(f.SpanOf(fn), tokenFunction)
				case *syntax.DotExpr:
					put(f.SpanOf(fn.Name), tokenFunction)
					if v != nil && strings.HasPrefix(v.of(f, n.Fn, f.At(n.Lparen)).look().What, "type ") {
						put(f.SpanOf(fn.Name), tokenClass)
						put(f.SpanOf(fn.X), tokenNamespace)
					}
				}
			case *syntax.DotExpr:
				if span := f.SpanOf(n.Name); ends[span.From] == 0 {
					put(span, tokenProperty)
				}
			}
			return true
		})
	}
	for _, id := range f.Idents {
		span := f.SpanOf(id)
		if ends[span.From] != 0 {
			continue
		}
		kind := tokenVariable
		if first := code.First(id); first != nil {
			if fn := f.Function(f.At(first.NamePos)); fn != nil {
				for _, param := range fn.Params {
					if paramIdent(param) == first {
						kind = tokenParameter
					}
				}
			}
		} else if id.Name == "True" || id.Name == "False" || id.Name == "None" {
			kind = tokenEnum
		}
		put(span, kind)
	}
	line, column := uint32(0), uint32(0)
	for _, from := range slices.Sorted(maps.Keys(at)) {
		begin, end := position(f, from), position(f, ends[from])
		if begin.Line != end.Line {
			continue
		}
		if begin.Line != line {
			column = 0
		}
		out.Data = append(out.Data, begin.Line-line, begin.Character-column, end.Character-begin.Character, uint32(at[from]), 0)
		line, column = begin.Line, begin.Character
	}
	return out, nil
}
