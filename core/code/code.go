// Package code reads the text of declarations without running it: where names are bound and used, which
// call and argument a place belongs to, and as much as can be known of a text that is being typed.
package code

import (
	"bytes"
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"

	"go.starlark.net/resolve"
	"go.starlark.net/syntax"
)

// Span is a piece of a text, by the offsets of its bytes.
type Span struct{ From, To int }

// Holds reports whether an offset lies in a span or at its end.
func (s Span) Holds(at int) bool { return s.From <= at && at <= s.To }

// File is one text, read as far as it can be.
type File struct {
	Name string // below the estate's folder
	Body []byte
	Tree *syntax.File // of everything that can be parsed; never nil
	Err  error        // why the whole cannot be
	// Idents are the names in the tree, in the order of the text, but for the keys of arguments and what
	// follows a dot.
	Idents []*syntax.Ident

	lines  []int // where each line begins
	tokens []token
}

var options = &syntax.FileOptions{Set: true, TopLevelControl: true, GlobalReassign: true}

// largest is how many bytes of a text are looked at: what no evaluation would read is not parsed here, either.
const largest = 1 << 20

// Read reads a text. What cannot be parsed is left out, statement by statement.
func Read(name string, body []byte) *File {
	f := Lines(name, body)
	if len(body) > largest {
		f.Err = fmt.Errorf("%s is larger than %d bytes", name, largest)
		return f
	}
	text := bytes.TrimPrefix(body, []byte("\ufeff"))
	if f.Tree, f.Err = options.Parse(name, text, 0); f.Err != nil {
		tree, err := options.Parse(name, f.healed(), 0)
		if err != nil {
			tree, err = options.Parse(name, []byte{}, 0)
		}
		if err != nil {
			tree = &syntax.File{Path: name, Options: options}
		}
		f.Tree = tree
	}
	// names that are not bound count as known from the beginning; the evaluation finds what is wrong
	_ = resolve.File(f.Tree, func(string) bool { return true }, func(string) bool { return false })
	for _, s := range f.Tree.Stmts {
		f.collect(s)
	}
	sort.SliceStable(f.Idents, func(i, j int) bool { return before(f.Idents[i].NamePos, f.Idents[j].NamePos) })
	f.tokens = scan(body)
	return f
}

// Large reports whether a text is too large to be looked at.
func (f *File) Large() bool { return len(f.Body) > largest }

func before(a, b syntax.Position) bool { return a.Line < b.Line || a.Line == b.Line && a.Col < b.Col }

func (f *File) collect(n syntax.Node) {
	syntax.Walk(n, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.Ident:
			f.Idents = append(f.Idents, n)
		case *syntax.DotExpr:
			f.collect(n.X)
			return false
		case *syntax.LoadStmt:
			f.Idents = append(f.Idents, n.To...)
			return false
		case *syntax.CallExpr:
			f.collect(n.Fn)
			for _, a := range n.Args {
				if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
					a = b.Y
				}
				f.collect(a)
			}
			return false
		}
		return true
	})
}

// Offset is the place of a line and column, counted from 1 in characters, as an offset.
func (f *File) Offset(line, column int) int {
	if line < 1 {
		return 0
	}
	if line > len(f.lines) {
		return len(f.Body)
	}
	at := f.lines[line-1]
	for ; column > 1 && at < len(f.Body) && f.Body[at] != '\n'; column-- {
		_, size := utf8.DecodeRune(f.Body[at:])
		at += size
	}
	return at
}

// Line is the line of an offset, counted from 0, and where it begins.
func (f *File) Line(at int) (line, from int) {
	line = sort.SearchInts(f.lines, at+1) - 1
	return line, f.lines[line]
}

// Lines is how many lines there are.
func (f *File) Lines() int { return len(f.lines) }

// LineStart is where a line begins, counted from 0; the end of the text for one that is not there.
func (f *File) LineStart(line int) int {
	if line >= len(f.lines) {
		return len(f.Body)
	}
	return f.lines[max(0, line)]
}

// At is the offset of a place in the tree.
func (f *File) At(p syntax.Position) int { return f.Offset(int(p.Line), int(p.Col)) }

// SpanOf is where a node of the tree is.
func (f *File) SpanOf(n syntax.Node) Span {
	from, to := n.Span()
	s := Span{f.At(from), f.At(to)}
	switch n.(type) {
	case *syntax.IndexExpr, *syntax.SliceExpr: // their span ends before the bracket
		if s.To < len(f.Body) && f.Body[s.To] == ']' {
			s.To++
		}
	}
	return s
}

// SpanAt is the word or text that begins at a place, or what is called there; one character where it is
// neither.
func (f *File) SpanAt(line, column int) Span {
	at := f.Offset(line, column)
	i := sort.Search(len(f.tokens), func(i int) bool { return f.tokens[i].To > at })
	if i < len(f.tokens) && f.tokens[i].From == at && f.tokens[i].kind != newline {
		span := f.tokens[i].Span
		for n := i; n+2 < len(f.tokens) && f.tokens[n+1].kind == sign && f.Body[f.tokens[n+1].From] == '.' &&
			f.tokens[n+2].kind == word; n += 2 {
			if n+3 < len(f.tokens) && f.Body[f.tokens[n+3].From] == '(' { // what is called, with its dots
				span.To = f.tokens[n+2].To
			}
		}
		return span
	}
	return Span{at, min(at+1, len(f.Body))}
}

// Text is a piece of the text.
func (f *File) Text(s Span) string {
	if s.From < 0 || s.From > s.To || s.To > len(f.Body) {
		return ""
	}
	return string(f.Body[s.From:s.To])
}

// Ident is the name at an offset; nil where there is none.
func (f *File) Ident(at int) *syntax.Ident {
	i := sort.Search(len(f.Idents), func(i int) bool { return f.SpanOf(f.Idents[i]).To >= at })
	if i < len(f.Idents) && f.SpanOf(f.Idents[i]).Holds(at) {
		return f.Idents[i]
	}
	return nil
}

// First is the first binding of the variable that a name means; nil for one that the file does not bind.
func First(id *syntax.Ident) *syntax.Ident {
	if b, ok := id.Binding.(*resolve.Binding); ok && b.Scope != resolve.Predeclared && b.Scope != resolve.Universal {
		return b.First
	}
	return nil
}

// Uses are all names in the file that mean the variable which first binds.
func (f *File) Uses(first *syntax.Ident) []*syntax.Ident {
	var out []*syntax.Ident
	for _, id := range f.Idents {
		if id.Name == first.Name && First(id) == first {
			out = append(out, id)
		}
	}
	return out
}

// Top is the first binding of a name at the top of the file, loaded or set there; nil when there is none.
func (f *File) Top(name string) *syntax.Ident {
	for _, id := range f.Idents {
		if id.Name != name {
			continue
		}
		if b, ok := id.Binding.(*resolve.Binding); ok && (b.Scope == resolve.Global || b.Scope == resolve.Local && f.loads(b.First)) {
			return b.First
		}
	}
	return nil
}

func (f *File) loads(id *syntax.Ident) bool {
	_, _, ok := f.Loaded(id)
	return ok
}

// Loaded is the module and the name in it that a name is loaded as.
func (f *File) Loaded(id *syntax.Ident) (module string, from *syntax.Ident, ok bool) {
	for _, s := range f.Tree.Stmts {
		l, isLoad := s.(*syntax.LoadStmt)
		if !isLoad {
			continue
		}
		for i, to := range l.To {
			if to == id {
				return l.ModuleName(), l.From[i], true
			}
		}
	}
	return "", nil, false
}

// Loads are the load statements.
func (f *File) Loads() []*syntax.LoadStmt {
	var out []*syntax.LoadStmt
	for _, s := range f.Tree.Stmts {
		if l, ok := s.(*syntax.LoadStmt); ok {
			out = append(out, l)
		}
	}
	return out
}

// Names are the names that code at an offset can use and that the file binds: those at the top that are
// bound before it, and those of the functions and loops around it.
func (f *File) Names(at int) []string {
	seen := map[string]bool{}
	var out []string
	add := func(name string) {
		if !seen[name] {
			seen[name] = true
			out = append(out, name)
		}
	}
	d := f.Function(at)
	inside := d != nil // what is bound later counts, too
	if inside {
		for _, p := range Params(d) {
			add(p)
		}
		for _, b := range d.Body {
			f.bound(b, at, add)
		}
	}
	for _, s := range f.Tree.Stmts {
		switch {
		case inside: // its body runs once all of the file is there
			f.bound(s, len(f.Body), add)
		case f.SpanOf(s).From > at:
			return out
		default:
			f.bound(s, at, add)
		}
	}
	return out
}

// bound adds the names that a statement binds for what stands at an offset.
func (f *File) bound(s syntax.Stmt, at int, add func(string)) {
	targets := func(e syntax.Expr) {
		syntax.Walk(e, func(n syntax.Node) bool {
			switch n := n.(type) {
			case *syntax.Ident:
				add(n.Name)
			case *syntax.DotExpr, *syntax.IndexExpr:
				return false
			}
			return true
		})
	}
	switch s := s.(type) {
	case *syntax.LoadStmt:
		for _, to := range s.To {
			add(to.Name)
		}
	case *syntax.AssignStmt:
		if span := f.SpanOf(s); span.To <= at {
			targets(s.LHS)
		} else if span.Holds(at) {
			f.comprehension(s.RHS, at, targets)
		}
	case *syntax.ExprStmt:
		f.comprehension(s.X, at, targets)
	case *syntax.DefStmt:
		if f.At(s.Def) <= at {
			add(s.Name.Name)
		}
	case *syntax.ForStmt:
		if f.SpanOf(s).From > at {
			return
		}
		targets(s.Vars)
		for _, b := range s.Body {
			f.bound(b, at, add)
		}
	case *syntax.IfStmt:
		for _, b := range s.True {
			f.bound(b, at, add)
		}
		for _, b := range s.False {
			f.bound(b, at, add)
		}
	}
}

// comprehension adds the variables of a comprehension around an offset.
func (f *File) comprehension(e syntax.Expr, at int, targets func(syntax.Expr)) {
	if e == nil || !f.SpanOf(e).Holds(at) {
		return
	}
	syntax.Walk(e, func(n syntax.Node) bool {
		c, ok := n.(*syntax.Comprehension)
		if ok && f.SpanOf(c).Holds(at) {
			for _, clause := range c.Clauses {
				if l, ok := clause.(*syntax.ForClause); ok {
					targets(l.Vars)
				}
			}
		}
		return true
	})
}

// Calls are the calls in the tree, in the order of the text.
func (f *File) Calls() []*syntax.CallExpr {
	var out []*syntax.CallExpr
	for _, s := range f.Tree.Stmts {
		syntax.Walk(s, func(n syntax.Node) bool {
			if c, ok := n.(*syntax.CallExpr); ok {
				out = append(out, c)
			}
			return true
		})
	}
	return out
}

// Callee is what a call calls, as it is written: `medina.machine`; "" for anything but names and dots.
func Callee(c *syntax.CallExpr) string { return dotted(c.Fn) }

func dotted(e syntax.Expr) string {
	switch e := e.(type) {
	case *syntax.Ident:
		return e.Name
	case *syntax.DotExpr:
		if x := dotted(e.X); x != "" {
			return x + "." + e.Name.Name
		}
	}
	return ""
}

// Argument is an argument of a call: by its name, or by its place where it has none.
func Argument(c *syntax.CallExpr, name string, place int) syntax.Expr {
	for i, a := range c.Args {
		if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
			if id, ok := b.X.(*syntax.Ident); ok && id.Name == name {
				return b.Y
			}
		} else if i == place {
			return a
		}
	}
	return nil
}

// TextOf is the text that a literal is.
func TextOf(e syntax.Expr) (string, bool) {
	l, ok := e.(*syntax.Literal)
	if !ok || l.Token != syntax.STRING {
		return "", false
	}
	s, ok := l.Value.(string)
	return s, ok
}

// Indent is the white space at the start of a line.
func (f *File) Indent(line int) string {
	rest := string(f.Body[f.LineStart(line):])
	return rest[:len(rest)-len(strings.TrimLeft(rest, " \t"))]
}

// Lines is a text of any kind with nothing but its lines.
func Lines(name string, body []byte) *File {
	f := &File{Name: name, Body: body, lines: []int{0}, Tree: &syntax.File{Path: name, Options: options}}
	for i, b := range body {
		if b == '\n' {
			f.lines = append(f.lines, i+1)
		}
	}
	return f
}

// Function is the function at the top whose body holds an offset; nil for none.
func (f *File) Function(at int) *syntax.DefStmt {
	for _, s := range f.Tree.Stmts {
		if d, ok := s.(*syntax.DefStmt); ok {
			span := f.SpanOf(d)
			if line, _ := f.Line(span.To); at > f.At(d.Name.NamePos) && (at <= span.To || at <= f.indented(line)) {
				return d
			}
		}
	}
	return nil
}

// indented is the end of the lines after one that are empty or begin with white space.
func (f *File) indented(line int) int {
	end := f.LineStart(line + 1)
	for n := line + 1; n < len(f.lines); n++ {
		from, to := f.lines[n], f.LineStart(n+1)
		if len(strings.TrimSpace(string(f.Body[from:to]))) > 0 && f.Body[from] != ' ' && f.Body[from] != '\t' {
			break
		}
		end = to
	}
	return end - 1
}

// Params are the names of a function's parameters.
func Params(d *syntax.DefStmt) []string {
	var out []string
	for _, p := range d.Params {
		switch p := p.(type) {
		case *syntax.Ident:
			out = append(out, p.Name)
		case *syntax.BinaryExpr:
			if id, ok := p.X.(*syntax.Ident); ok {
				out = append(out, id.Name)
			}
		case *syntax.UnaryExpr:
			if id, ok := p.X.(*syntax.Ident); ok {
				out = append(out, id.Name)
			}
		}
	}
	return out
}

// Assigned is what the statement that first binds a name at the top sets it to; nil for anything else.
func (f *File) Assigned(first *syntax.Ident) syntax.Expr {
	for _, s := range f.Tree.Stmts {
		if a, ok := s.(*syntax.AssignStmt); ok && a.LHS == first {
			return a.RHS
		}
	}
	return nil
}

// LocalAssigned is what a function sets a name to before an offset. binds says whether it binds the name
// in any way.
func (f *File) LocalAssigned(d *syntax.DefStmt, name string, at int) (rhs syntax.Expr, binds bool) {
	for _, s := range d.Body {
		syntax.Walk(s, func(n syntax.Node) bool {
			switch n := n.(type) {
			case *syntax.AssignStmt:
				if id, ok := n.LHS.(*syntax.Ident); ok && id.Name == name {
					binds = true
					if f.At(id.NamePos) <= at {
						rhs = n.RHS
					}
				}
			case *syntax.ForStmt:
				binds = binds || binds1(n.Vars, name)
			case *syntax.ForClause:
				binds = binds || binds1(n.Vars, name) && f.SpanOf(n).Holds(at)
			}
			return true
		})
	}
	return rhs, binds
}

func binds1(vars syntax.Expr, name string) bool {
	found := false
	syntax.Walk(vars, func(n syntax.Node) bool {
		if id, ok := n.(*syntax.Ident); ok && id.Name == name {
			found = true
		}
		return true
	})
	return found
}

// Exports are the names at the top of the file that another one can load.
func (f *File) Exports() []string {
	var out []string
	seen := map[string]bool{}
	for _, id := range f.Idents {
		b, ok := id.Binding.(*resolve.Binding)
		if ok && b.Scope == resolve.Global && b.First == id && !seen[id.Name] && !strings.HasPrefix(id.Name, "_") {
			seen[id.Name] = true
			out = append(out, id.Name)
		}
	}
	return out
}

// Texts are the texts in a list; nil for anything else.
func Texts(e syntax.Expr) []string {
	l, ok := e.(*syntax.ListExpr)
	if !ok {
		return nil
	}
	var out []string
	for _, x := range l.List {
		if s, ok := TextOf(x); ok {
			out = append(out, s)
		}
	}
	return out
}
