package code

import (
	"errors"
	"strings"

	"go.starlark.net/syntax"
)

// Edit replaces a piece of a text.
type Edit struct {
	Span
	Text string
}

// AddArgument is the edit that adds an argument behind those of a call, laid out as they are.
func (f *File) AddArgument(c *syntax.CallExpr, text string) Edit {
	return f.addItem(c.Args, f.At(c.Lparen), f.At(c.Rparen), text)
}

// addItem adds an item behind those between two brackets.
func (f *File) addItem(items []syntax.Expr, open, closing int, text string) Edit {
	if len(items) == 0 {
		return Edit{Span{open + 1, open + 1}, text}
	}
	last := f.SpanOf(items[len(items)-1])
	end := last.To
	if _, from := f.Line(closing); from > end && strings.TrimSpace(string(f.Body[from:closing])) == "" {
		n, _ := f.Line(last.From) // the bracket is on a line of its own
		between := string(f.Body[end:closing])
		if i := strings.IndexByte(between, ','); i >= 0 && strings.TrimSpace(between[:i]) == "" {
			return Edit{Span{end + i + 1, end + i + 1}, "\n" + f.Indent(n) + text + ","}
		}
		return Edit{Span{end, end}, ",\n" + f.Indent(n) + text + ","}
	}
	return Edit{Span{end, end}, ", " + text}
}

// SetCare is what to edit so that the care of a call says something: care(name = text). It is an error where
// the care is not written in the call.
func (f *File) SetCare(c *syntax.CallExpr, name, text string) ([]Edit, error) {
	is := Argument(c, "care", -1)
	if is == nil {
		return []Edit{f.AddArgument(c, "care = care("+name+" = "+text+")")}, nil
	}
	care, ok := is.(*syntax.CallExpr)
	if !ok || Callee(care) != "care" {
		return nil, errors.New("its care is set elsewhere: " + f.Text(f.SpanOf(is)))
	}
	if was := Argument(care, name, -1); was != nil {
		return []Edit{{f.SpanOf(was), text}}, nil
	}
	return []Edit{f.AddArgument(care, name+" = "+text)}, nil
}

// AddExcuse is what to edit so that the care of a call excuses a rule.
func (f *File) AddExcuse(c *syntax.CallExpr, rule, reason string) ([]Edit, error) {
	if care, ok := Argument(c, "care", -1).(*syntax.CallExpr); ok && Callee(care) == "care" {
		if d, ok := Argument(care, "excuse", -1).(*syntax.DictExpr); ok {
			return []Edit{f.addItem(d.List, f.At(d.Lbrace), f.At(d.Rbrace), rule+": "+reason)}, nil
		}
	}
	return f.SetCare(c, "excuse", "{"+rule+": "+reason+"}")
}

// CallAt is the call whose opening bracket is at an offset; nil for none.
func (f *File) CallAt(paren int) *syntax.CallExpr {
	for _, c := range f.Calls() {
		if f.At(c.Lparen) == paren {
			return c
		}
	}
	return nil
}

// CallAround is the innermost call that holds an offset and that fits; nil for none.
func (f *File) CallAround(at int, fits func(*syntax.CallExpr) bool) *syntax.CallExpr {
	var best *syntax.CallExpr
	for _, c := range f.Calls() {
		if f.SpanOf(c).Holds(at) && fits(c) && (best == nil || f.SpanOf(c).From >= f.SpanOf(best).From) {
			best = c
		}
	}
	return best
}

// Literals are the texts that are written in the tree.
func (f *File) Literals() []*syntax.Literal {
	var out []*syntax.Literal
	for _, s := range f.Tree.Stmts {
		if l, ok := s.(*syntax.LoadStmt); ok {
			out = append(out, l.Module)
			continue
		}
		syntax.Walk(s, func(n syntax.Node) bool {
			if l, ok := n.(*syntax.Literal); ok && l.Token == syntax.STRING {
				out = append(out, l)
			}
			return true
		})
	}
	return out
}

// Inside is a text without its quotes.
func (f *File) Inside(l *syntax.Literal) Span {
	s := f.SpanOf(l)
	n := 1
	for s.From < s.To && f.Body[s.From] != '"' && f.Body[s.From] != '\'' {
		s.From++
	}
	if raw := f.Text(s); strings.HasPrefix(raw, `"""`) || strings.HasPrefix(raw, "'''") {
		n = 3
	}
	return Span{s.From + n, max(s.From+n, s.To-n)}
}

// AddArguments is AddArgument for several.
func (f *File) AddArguments(c *syntax.CallExpr, texts []string) Edit {
	e := f.AddArgument(c, texts[0])
	sep := ", "
	if strings.Contains(e.Text, "\n") { // each on a line of its own
		n, _ := f.Line(f.SpanOf(c.Args[len(c.Args)-1]).From)
		e.Text = strings.TrimSuffix(e.Text, ",")
		sep = ",\n" + f.Indent(n)
		return Edit{e.Span, e.Text + sep + strings.Join(texts[1:], sep) + ","}
	}
	return Edit{e.Span, e.Text + sep + strings.Join(texts[1:], sep)}
}

// Nearest is the word or the inside of a text that is spelt so and stands closest to an offset.
func (f *File) Nearest(name string, at int) (Span, bool) {
	best, found := Span{}, false
	far := func(s Span) int { return max(s.From-at, at-s.To, 0) }
	for _, t := range f.tokens {
		s := t.Span
		switch t.kind {
		case text:
			s = f.inside(t)
		case word:
		default:
			continue
		}
		if f.Text(s) == name && (!found || far(s) < far(best)) {
			best, found = s, true
		}
	}
	return best, found
}
