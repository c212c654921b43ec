package declare

import (
	"fmt"
	"sync"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/problem"
)

// index knows the calls of a ward's files by the place of their opening
// parenthesis, which is what the interpreter tells of a call. It is filled
// before the rewrite, so its positions are those of the text.
type index struct {
	calls   map[place]*callSite
	assigns map[string]map[string]syntax.Expr // file -> top-level name -> what it was last set to
	loads   map[string]map[string]loaded      // file -> name -> where it was loaded from
	bodies  map[string][]byte                 // file -> its text, for those who ask why

	// For those who ask why: what the evaluation knew besides files.
	estate, pattern string                       // the estate's name, and its pattern of names
	names           problem.Position             // of the pattern
	drivers, known  map[string]bool              // names that files start with
	modules         map[string]map[string]string // file -> module of a load statement -> file

	later func(*index) // fills it when it is asked for first; nil where it is filled
	fill  sync.Once

	// Kept only in an index of whole expressions, made by pristine.
	whole     bool
	defs      map[string]map[string]*syntax.DefStmt
	variables map[string][]loop // of loops at top level
	kitCalls  map[string][]*syntax.CallExpr
}

// loop is a loop around a call: its variables, and what it runs over.
type loop struct {
	vars []string
	in   syntax.Expr
}

func (l loop) binds(name string) bool { return contains(l.vars, name) }

type place struct {
	file      string
	line, col int32
}

type loaded struct{ file, name string }

// callSite is a call as written.
type callSite struct {
	start syntax.Position // of the whole call
	file  string
	args  []argument
	in    *function // the function whose body holds the call; nil at top level
	loops []string  // variables of the loops around it, outermost first
	over  []loop    // the loops themselves, in an index of whole expressions
}

// before is the site as the loop number i sees it: inside the loops around
// that one.
func (s *callSite) before(i int) *callSite {
	out := *s
	out.over = s.over[:i]
	return &out
}

type argument struct {
	name  string // of name = value
	stars int    // 1 for *x, 2 for **x
	expr  syntax.Expr
}

// function is a def or a lambda.
type function struct {
	name   string
	params []string
	kwargs string                 // the name of its **parameter
	values map[string]syntax.Expr // default values
	locals map[string]syntax.Expr // names set once in its body
}

func newIndex() *index {
	return &index{calls: map[place]*callSite{}, assigns: map[string]map[string]syntax.Expr{},
		loads: map[string]map[string]loaded{}, bodies: map[string][]byte{}, modules: map[string]map[string]string{}}
}

// filled is the index once it knows its files.
func (ix *index) filled() *index {
	if ix != nil && ix.later != nil {
		ix.fill.Do(func() { ix.later(ix) })
	}
	return ix
}

func at(p syntax.Position) place { return place{p.Filename(), p.Line, p.Col} }

// add reads a file's syntax tree. resolve turns the module of a load
// statement into the path of the file.
func (ix *index) add(path string, f *syntax.File, body []byte, resolve func(module string) string) {
	ix.bodies[path] = body
	ix.assigns[path] = map[string]syntax.Expr{}
	ix.loads[path] = map[string]loaded{}
	ix.modules[path] = map[string]string{}
	w := &indexer{ix: ix, file: path, resolve: resolve}
	for _, s := range f.Stmts {
		w.visit(s, nil, nil)
	}
}

type indexer struct {
	ix      *index
	file    string
	resolve func(string) string
	over    []loop // around what is visited, in an index of whole expressions
}

// kept is an expression as the index keeps it.
func (w *indexer) kept(e syntax.Expr) syntax.Expr {
	if w.ix.whole {
		return e
	}
	return frozen(e)
}

// within visits something inside a loop.
func (w *indexer) within(vars syntax.Expr, in syntax.Expr, visit func()) {
	if w.ix.whole {
		w.over = append(w.over[:len(w.over):len(w.over)], loop{names(vars), in})
		defer func() { w.over = w.over[:len(w.over)-1] }()
	}
	visit()
}

func (w *indexer) visit(n syntax.Node, in *function, loops []string) {
	syntax.Walk(n, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CallExpr:
			w.ix.calls[at(n.Lparen)] = w.site(n, in, loops)
			if id, ok := n.Fn.(*syntax.Ident); ok && id.Name == "kit" && w.ix.whole && len(n.Args) > 0 {
				w.ix.kitCalls[w.file] = append(w.ix.kitCalls[w.file], n)
			}
		case *syntax.AssignStmt:
			if id, ok := n.LHS.(*syntax.Ident); ok {
				if in != nil {
					in.locals[id.Name] = w.kept(n.RHS)
				} else {
					w.ix.assigns[w.file][id.Name] = w.kept(n.RHS)
				}
			}
		case *syntax.LoadStmt:
			module := w.resolve(n.ModuleName())
			w.ix.modules[w.file][n.ModuleName()] = module
			for i, to := range n.To {
				w.ix.loads[w.file][to.Name] = loaded{module, n.From[i].Name}
			}
		case *syntax.DefStmt:
			fn := w.function(n.Name.Name, n.Params)
			if w.ix.whole && in == nil {
				if w.ix.defs[w.file] == nil {
					w.ix.defs[w.file] = map[string]*syntax.DefStmt{}
				}
				w.ix.defs[w.file][n.Name.Name] = n
			}
			for _, p := range n.Params {
				w.visit(p, in, loops)
			}
			outer := w.over
			w.over = nil
			for _, s := range n.Body {
				w.visit(s, fn, nil)
			}
			w.over = outer
			return false
		case *syntax.LambdaExpr:
			outer := w.over
			w.over = nil
			w.visit(n.Body, w.function("", n.Params), nil)
			w.over = outer
			return false
		case *syntax.ForStmt:
			w.visit(n.X, in, loops)
			inner := append(append([]string(nil), loops...), names(n.Vars)...)
			if w.ix.whole && in == nil {
				w.ix.variables[w.file] = append(w.ix.variables[w.file], loop{names(n.Vars), n.X})
			}
			w.within(n.Vars, n.X, func() {
				for _, s := range n.Body {
					w.visit(s, in, inner)
				}
			})
			return false
		case *syntax.Comprehension:
			inner := append([]string(nil), loops...)
			outer := w.over
			for _, c := range n.Clauses {
				switch c := c.(type) {
				case *syntax.ForClause:
					w.visit(c.X, in, inner)
					inner = append(inner, names(c.Vars)...)
					if w.ix.whole {
						w.over = append(w.over[:len(w.over):len(w.over)], loop{names(c.Vars), c.X})
					}
				case *syntax.IfClause:
					w.visit(c.Cond, in, inner)
				}
			}
			w.visit(n.Body, in, inner)
			w.over = outer
			return false
		}
		return true
	})
}

func (w *indexer) function(name string, params []syntax.Expr) *function {
	fn := &function{name: name, values: map[string]syntax.Expr{}, locals: map[string]syntax.Expr{}}
	for _, p := range params {
		switch p := p.(type) {
		case *syntax.Ident:
			fn.params = append(fn.params, p.Name)
		case *syntax.BinaryExpr:
			name := p.X.(*syntax.Ident).Name
			fn.params = append(fn.params, name)
			fn.values[name] = w.kept(p.Y)
		case *syntax.UnaryExpr:
			if id, ok := p.X.(*syntax.Ident); ok && p.Op == syntax.STARSTAR {
				fn.kwargs = id.Name
			}
		}
	}
	return fn
}

func names(vars syntax.Expr) []string {
	var out []string
	syntax.Walk(vars, func(n syntax.Node) bool {
		if id, ok := n.(*syntax.Ident); ok {
			out = append(out, id.Name)
		}
		return true
	})
	return out
}

func (w *indexer) site(n *syntax.CallExpr, in *function, loops []string) *callSite {
	s := &callSite{start: syntax.Start(n), file: w.file, in: in, loops: loops, over: w.over}
	for _, a := range n.Args {
		switch a := a.(type) {
		case *syntax.BinaryExpr:
			if a.Op == syntax.EQ {
				s.args = append(s.args, argument{name: a.X.(*syntax.Ident).Name, expr: w.kept(a.Y)})
				continue
			}
		case *syntax.UnaryExpr:
			if a.Op == syntax.STAR || a.Op == syntax.STARSTAR {
				stars := 1
				if a.Op == syntax.STARSTAR {
					stars = 2
				}
				s.args = append(s.args, argument{stars: stars, expr: w.kept(a.X)})
				continue
			}
		}
		s.args = append(s.args, argument{expr: w.kept(a)})
	}
	return s
}

// frozen keeps an expression's start and, where positions are looked up
// through it, its shape, apart from the tree that the rewrite changes.
func frozen(e syntax.Expr) syntax.Expr {
	switch e := e.(type) {
	case *syntax.Ident, *syntax.Literal:
		return e
	case *syntax.ParenExpr:
		return frozen(e.X)
	case *syntax.DictExpr:
		out := &syntax.DictExpr{Lbrace: e.Lbrace, Rbrace: e.Rbrace}
		for _, entry := range e.List {
			d := entry.(*syntax.DictEntry)
			out.List = append(out.List, &syntax.DictEntry{Key: frozen(d.Key), Colon: d.Colon, Value: frozen(d.Value)})
		}
		return out
	case *syntax.CallExpr:
		if id, ok := e.Fn.(*syntax.Ident); ok && id.Name == "dict" {
			out := &syntax.CallExpr{Fn: id, Lparen: e.Lparen, Rparen: e.Rparen}
			for _, a := range e.Args {
				if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
					a = &syntax.BinaryExpr{X: b.X, OpPos: b.OpPos, Op: syntax.EQ, Y: frozen(b.Y)}
				}
				out.Args = append(out.Args, a)
			}
			return out
		}
	}
	return &syntax.Ident{NamePos: syntax.Start(e)} // only its start is needed
}

// trace is the stack of calls that led to a declaration, innermost first.
type trace []frame

type frame struct {
	syntax.Position
	opens bool // it opens an instance of a kit: its first argument is the instance's name
}

func traceOf(t *starlark.Thread) trace {
	var out trace
	opens := false
	for d := 1; d < t.CallStackDepth(); d++ {
		f := t.DebugFrame(d)
		if _, ok := f.Callable().(*kitValue); ok {
			opens = true
			continue
		}
		pos := f.Position()
		if pos.IsValid() && pos.Line > 0 && pos.Filename() != "<builtin>" {
			out = append(out, frame{pos, opens})
			opens = false
		}
	}
	return out
}

// call is where a declaration was made: the outermost call, and the further
// ones on the way to the driver, as `by FILE:LINE`.
func (ix *index) call(tr trace) (problem.Position, []string) {
	if len(tr) == 0 {
		return problem.Position{}, nil
	}
	return ix.start(tr[len(tr)-1].Position), tr.others(len(tr) - 1)
}

// start is where the call with that opening parenthesis begins.
func (ix *index) start(paren syntax.Position) problem.Position {
	if site := ix.calls[at(paren)]; site != nil {
		return position(site.start)
	}
	return position(paren)
}

// others lists the calls but the one at depth, outermost first.
func (tr trace) others(depth int) []string {
	var out []string
	for i := len(tr) - 1; i >= 0; i-- {
		if i != depth {
			out = append(out, "by "+position(tr[i].Position).Short())
		}
	}
	return out
}

// attribute is where the value of an attribute was written. name is the one
// used in the code. When the call does not give it, it is the call itself.
func (ix *index) attribute(tr trace, name string) (problem.Position, []string) {
	if len(tr) == 0 {
		return problem.Position{}, nil
	}
	pos, depth, ok := ix.value(tr, 0, func(a argument, i int) bool { return a.name == name }, name)
	if !ok {
		return ix.call(tr)
	}
	return position(pos), tr.others(depth)
}

// given is where the innermost call gives an argument of that name; where it
// only hands on what it was given with **, it is as attribute says.
func (ix *index) given(tr trace, name string) (problem.Position, []string) {
	if len(tr) > 0 {
		if site := ix.calls[at(tr[0].Position)]; site != nil {
			for _, a := range site.args {
				if a.stars == 0 && a.name == name {
					return position(syntax.Start(a.expr)), tr.others(0)
				}
			}
		}
	}
	return ix.attribute(tr, name)
}

// argument is where an argument of the innermost call in tr was written, and
// the other calls around it; the call itself where it is not given.
func (ix *index) argument(tr trace, name string) (problem.Position, []string) {
	if len(tr) == 0 {
		return problem.Position{}, nil
	}
	pos, depth, ok := ix.value(tr, 0, func(a argument, _ int) bool { return a.name == name }, name)
	if !ok {
		return ix.start(tr[0].Position), tr.others(0)
	}
	return position(pos), tr.others(depth)
}

// value follows one argument of the call at depth outwards, to the
// outermost place that wrote it.
func (ix *index) value(tr trace, depth int, want func(argument, int) bool, key string) (syntax.Position, int, bool) {
	site := ix.calls[at(tr[depth].Position)]
	if site == nil {
		return syntax.Position{}, 0, false
	}
	for i, a := range site.args {
		if a.stars == 0 && want(a, i) {
			return ix.outwards(tr, depth, site, a.expr)
		}
	}
	for _, a := range site.args {
		if a.stars != 2 {
			continue
		}
		if pos, d, ok := ix.spread(tr, depth, site, a.expr, key); ok {
			return pos, d, true
		}
	}
	return syntax.Position{}, 0, false
}

// outwards follows a value that is a parameter of the function around it to
// the call that gave it.
func (ix *index) outwards(tr trace, depth int, site *callSite, e syntax.Expr) (syntax.Position, int, bool) {
	id, ok := e.(*syntax.Ident)
	if ok && site.in != nil && depth+1 < len(tr) {
		for i, p := range site.in.params {
			if p != id.Name {
				continue
			}
			given := func(a argument, j int) bool { return a.name == p || a.name == "" && j == i && !tr[depth+1].opens }
			if pos, d, ok := ix.value(tr, depth+1, given, p); ok {
				return pos, d, true
			}
			if def := site.in.values[p]; def != nil {
				return syntax.Start(def), depth, true
			}
		}
	}
	return syntax.Start(e), depth, true
}

// spread finds a key in what was given with `**`.
func (ix *index) spread(tr trace, depth int, site *callSite, e syntax.Expr, key string) (syntax.Position, int, bool) {
	if id, ok := e.(*syntax.Ident); ok {
		if site.in != nil && id.Name == site.in.kwargs && depth+1 < len(tr) {
			return ix.value(tr, depth+1, func(a argument, _ int) bool { return a.name == key }, key)
		}
		if def := ix.lookup(site, id.Name); def != nil {
			e = def
		}
	}
	switch e := e.(type) {
	case *syntax.DictExpr:
		for _, entry := range e.List {
			d := entry.(*syntax.DictEntry)
			if k, ok := d.Key.(*syntax.Literal); ok && k.Value == key {
				return syntax.Start(d.Value), depth, true
			}
		}
	case *syntax.CallExpr:
		for _, a := range e.Args {
			if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ && b.X.(*syntax.Ident).Name == key {
				return syntax.Start(b.Y), depth, true
			}
		}
	}
	return syntax.Position{}, 0, false
}

// lookup is what a name was last set to: in the function, the file, or the
// file it was loaded from.
func (ix *index) lookup(site *callSite, name string) syntax.Expr {
	if site.in != nil {
		if e := site.in.locals[name]; e != nil {
			return e
		}
	}
	file := site.file
	for range 10 { // a chain of loads
		if e := ix.assigns[file][name]; e != nil {
			return e
		}
		l, ok := ix.loads[file][name]
		if !ok {
			return nil
		}
		file, name = l.file, l.name
	}
	return nil
}

// loopValues says which values the loops around a call had, such as
// ` (with l = "sallow", n = 0)`. It reads the running thread.
func (ix *index) loopValues(t *starlark.Thread) string {
	var said string
	for d := 1; d < t.CallStackDepth(); d++ {
		f := t.DebugFrame(d)
		pos := f.Position()
		fn, ok := f.Callable().(*starlark.Function)
		if !ok || !pos.IsValid() {
			continue
		}
		site := ix.calls[at(pos)]
		if site == nil {
			continue
		}
		for _, name := range site.loops {
			var v starlark.Value
			for i := 0; i < f.NumLocals(); i++ {
				if b, lv := f.Local(i); b.Name == name && lv != nil {
					v = lv
				}
			}
			if v == nil {
				v = fn.Globals()[name]
			}
			if v == nil {
				continue
			}
			if said != "" {
				said += ", "
			}
			s := v.String()
			if len(s) > 40 {
				s = s[:39] + "…"
			}
			said += fmt.Sprintf("%s = %s", name, s)
		}
	}
	if said == "" {
		return ""
	}
	return " (with " + said + ")"
}
