package editor

import (
	"context"
	"fmt"
	"strings"

	protocol "github.com/tliron/glsp/protocol_3_16"
	"go.starlark.net/syntax"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/value"
	"kasbah/session"
)

// codeLens says above each declaration what the last proposal would do with it.
func (s *server) codeLens(ctx context.Context, r *protocol.CodeLensParams) (any, error) {
	out := []protocol.CodeLens{}
	s.mu.Lock()
	on := s.lenses
	s.mu.Unlock()
	d, f := s.text(r.TextDocument.URI)
	if f == nil || !on || !strings.HasSuffix(d.path, ".star") {
		return out, nil
	}
	said := make([][]string, f.Lines())
	views := d.project.all(ctx)
	for _, v := range views {
		for n, counts := range v.proposed(ctx, f) {
			if len(counts) == 0 {
				continue
			}
			text := inWords(counts)
			if len(views) > 1 {
				text = v.env + ": " + text
			}
			said[n] = append(said[n], text)
		}
	}
	for n, texts := range said {
		if texts == nil {
			continue
		}
		at := f.LineStart(n) + len(f.Indent(n))
		out = append(out, protocol.CodeLens{Range: rangeOf(f, code.Span{From: at, To: at}),
			Command: &protocol.Command{Title: "last proposal: " + strings.Join(texts, "; ")}})
	}
	return out, nil
}

// proposed is what the last proposal would do with what each line declares: how often each action.
func (v *view) proposed(ctx context.Context, f *code.File) []map[string]int {
	k := session.ReadKnown(v.project.dir, v.env)
	if k == nil {
		return nil
	}
	out := make([]map[string]int, f.Lines())
	for _, one := range v.resources(v.ward(f.Name)) {
		action := k.Actions[one.Full()]
		if action == "" || !v.isOf(ctx, k, one.Ward) {
			continue
		}
		for _, c := range one.Calls() {
			if n := c.Line - 1; v.project.place(c.File) == f.Name && n < len(out) {
				if out[n] == nil {
					out[n] = map[string]int{}
				}
				out[n][action]++
			}
		}
	}
	return out
}

// isOf reports whether a proposal was made from the ledger of a ward as it is now.
func (v *view) isOf(ctx context.Context, k *session.Known, ward string) bool {
	s, err := v.state(ctx, ward)
	return err == nil && s.Seq == k.Entries[ward]
}

// inWords are actions, each once: `new`, or `edit size (3 resources), new`.
func inWords(counts map[string]int) string {
	var out []string
	for _, action := range value.Keys(counts) {
		if n := counts[action]; n > 1 {
			action = fmt.Sprintf("%s (%d resources)", action, n)
		}
		out = append(out, action)
	}
	return strings.Join(out, ", ")
}

// Inlay hints are of version 3.17, which the library of types does not know.
type (
	inlayHintParams struct {
		TextDocument protocol.TextDocumentIdentifier `json:"textDocument"`
		Range        protocol.Range                  `json:"range"`
	}
	inlayHint struct {
		Position    protocol.Position `json:"position"`
		Label       string            `json:"label"`
		PaddingLeft bool              `json:"paddingLeft"`
		Tooltip     string            `json:"tooltip,omitempty"`
	}
)

const longestHint = 40

// inlayHint shows the value of expressions behind them, where it is not plain to see.
func (s *server) inlayHint(ctx context.Context, r *inlayHintParams) (any, error) {
	out := []inlayHint{}
	s.mu.Lock()
	on := s.hints
	s.mu.Unlock()
	d, f := s.text(r.TextDocument.URI)
	if f == nil || !on || !strings.HasSuffix(d.path, ".star") {
		return out, nil
	}
	views := d.project.all(ctx)
	asked := code.Span{From: offset(f, r.Range.Start), To: offset(f, r.Range.End)}
	shown := map[syntax.Expr][]string{} // by the expression: what it is in each environment
	var order []syntax.Expr
	for i, v := range views {
		v.hints(f, asked, func(e syntax.Expr, l declare.Look) {
			if l.Shown == "" {
				return
			}
			if shown[e] == nil {
				order = append(order, e)
				shown[e] = make([]string, len(views))
			}
			shown[e][i] = l.Shown
		})
	}
	for _, e := range order {
		out = append(out, hintOf(f, e, views, shown[e]))
	}
	return out, nil
}

// hintOf is the hint of an expression: its value, or that of the first environment where they differ.
func hintOf(f *code.File, e syntax.Expr, views []*view, values []string) inlayHint {
	in, all := "", ""
	for i, text := range values {
		all += fmt.Sprintf("%s: %s\n", views[i].env, text)
		if text != values[0] {
			in = " in " + views[0].env
		}
	}
	h := inlayHint{Position: position(f, f.SpanOf(e).To), PaddingLeft: true, Tooltip: strings.TrimSpace(all)}
	label := []rune("= " + values[0])
	if len(label) > longestHint {
		label = append(label[:longestHint-1], '…')
	}
	h.Label = string(label) + in
	return h
}

// hints are the expressions in a piece of a file whose value is not plain to see: of variables, and of
// attributes of resources that are declared once.
func (v *view) hints(f *code.File, in code.Span, hint func(syntax.Expr, declare.Look)) {
	for _, st := range f.Tree.Stmts {
		a, ok := st.(*syntax.AssignStmt)
		if span := f.SpanOf(st); !ok || span.To < in.From || span.From > in.To || !computed(a.RHS) {
			continue
		}
		if id, ok := a.LHS.(*syntax.Ident); ok {
			if is := v.global(f.Name, id.Name); is != nil {
				if l := declare.LookAt(is); l.Resource == nil {
					hint(a.RHS, l)
				}
			}
		}
	}
	if v.ward(f.Name) == "" {
		return
	}
	calls := map[int]*syntax.CallExpr{}
	for _, c := range f.Calls() {
		if at := f.At(c.Lparen); in.Holds(at) {
			calls[at] = c
		}
	}
	for _, one := range v.resources(v.ward(f.Name)) {
		at := one.Calls()
		if len(at) != 1 || at[0].File != f.Name {
			continue
		}
		c := calls[f.Offset(at[0].Line, at[0].Column)]
		if c == nil {
			continue
		}
		for _, attr := range one.Type.Attributes {
			is, has := one.Inputs()[attr.Name]
			e := code.Argument(c, declare.Identifier(attr.Name), -1)
			if !has || e == nil || attr.Refers != "" || !computed(e) {
				continue
			}
			if shown, err := v.eval.Declared.Value(one.Ward, is); err == nil {
				hint(e, declare.LookAt(shown))
			}
		}
	}
}

// computed reports whether the value of an expression is not plain to see.
func computed(e syntax.Expr) bool {
	plain := true
	syntax.Walk(e, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CallExpr, *syntax.Comprehension, *syntax.IndexExpr, *syntax.DotExpr:
			plain = false
		case *syntax.BinaryExpr:
			plain = plain && n.Op == syntax.EQ
		case *syntax.Ident:
			plain = plain && (n.Name == "True" || n.Name == "False" || n.Name == "None")
		}
		return plain
	})
	return !plain
}
