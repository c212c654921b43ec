package declare

import (
	"fmt"

	"go.starlark.net/syntax"

	"kasbah/core/problem"
)

// Names of the built-ins that stand in for operators after the rewrite. No
// user can type them.
const (
	opMod   = "%mod"
	opMul   = "%mul"
	opAdd   = "%add"
	opIn    = "%in"
	opNotIn = "%not in"
	opLook  = "%look"
	opAttr  = "%attr"
	opEach  = "%each"
	opShift = "%shift"
)

var comparisons = map[syntax.Token]string{
	syntax.EQL: "%==", syntax.NEQ: "%!=", syntax.LT: "%<", syntax.GT: "%>", syntax.LE: "%<=", syntax.GE: "%>=",
}

// looking are the methods that look at values in ways the interpreter would
// not report for a pending one, or whose results need a bound.
var looking = map[string]bool{"format": true, "join": true, "replace": true, "index": true, "remove": true,
	"count": true, "extend": true}

// rewriter replaces the operators and methods through which a pending value
// could be misread by calls to built-ins, at the operators' positions. The
// interpreter itself stays as it is: pending values are ordinary values to
// it, and everything not rewritten either carries them along or refuses them.
type rewriter struct {
	problems problem.List
}

func rewrite(f *syntax.File) problem.List {
	r := &rewriter{}
	r.stmts(f.Stmts)
	return r.problems
}

func call(pos syntax.Position, name string, args ...syntax.Expr) *syntax.CallExpr {
	return &syntax.CallExpr{Fn: &syntax.Ident{NamePos: pos, Name: name}, Lparen: pos, Args: args, Rparen: pos}
}

func (r *rewriter) stmts(list []syntax.Stmt) {
	for _, s := range list {
		r.stmt(s)
	}
}

func (r *rewriter) stmt(s syntax.Stmt) {
	switch s := s.(type) {
	case *syntax.AssignStmt:
		r.assign(s)
	case *syntax.DefStmt:
		r.params(s.Params)
		r.stmts(s.Body)
	case *syntax.ExprStmt:
		s.X = r.expr(s.X)
	case *syntax.ForStmt:
		s.Vars, s.X = r.target(s.Vars), r.each(s.X)
		r.stmts(s.Body)
	case *syntax.WhileStmt:
		s.Cond = r.cond(s.Cond)
		r.stmts(s.Body)
	case *syntax.IfStmt:
		s.Cond = r.cond(s.Cond)
		r.stmts(s.True)
		r.stmts(s.False)
	case *syntax.ReturnStmt:
		if s.Result != nil {
			s.Result = r.expr(s.Result)
		}
	}
}

// params rewrites the default values of parameters.
func (r *rewriter) params(list []syntax.Expr) {
	for _, p := range list {
		if b, ok := p.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
			b.Y = r.expr(b.Y)
		}
	}
}

var inPlace = map[syntax.Token]string{syntax.PLUS_EQ: opAdd, syntax.PERCENT_EQ: opMod, syntax.STAR_EQ: opMul,
	syntax.LTLT_EQ: opShift}

// assign rewrites `x op= y`. A plain name becomes `x = op(x, y)`; lists keep
// growing in place because the built-in for + is told so. An indexed target
// is rewritten when evaluating it twice cannot matter, and refused otherwise.
func (r *rewriter) assign(s *syntax.AssignStmt) {
	name, ok := inPlace[s.Op]
	if !ok {
		s.LHS, s.RHS = r.target(s.LHS), r.expr(s.RHS)
		return
	}
	if name == opAdd {
		name = "%+="
	}
	if !simple(s.LHS) {
		start := syntax.Start(s.LHS)
		r.problems = append(r.problems, problem.At(position(start), "%s on a target that is computed: write it out "+
			"as an assignment", s.Op))
		return
	}
	read := r.expr(copyOf(s.LHS))
	s.LHS = r.target(s.LHS)
	s.RHS = call(s.OpPos, name, read, r.expr(s.RHS))
	s.Op = syntax.EQ
}

// simple reports whether e can be evaluated twice without anyone noticing.
func simple(e syntax.Expr) bool {
	switch e := e.(type) {
	case *syntax.Ident, *syntax.Literal:
		return true
	case *syntax.ParenExpr:
		return simple(e.X)
	case *syntax.IndexExpr:
		return simple(e.X) && simple(e.Y)
	case *syntax.DotExpr:
		return simple(e.X)
	}
	return false
}

// copyOf copies a simple expression: the resolver writes into identifiers,
// so a name used twice needs two nodes.
func copyOf(e syntax.Expr) syntax.Expr {
	switch e := e.(type) {
	case *syntax.Ident:
		return &syntax.Ident{NamePos: e.NamePos, Name: e.Name}
	case *syntax.ParenExpr:
		return copyOf(e.X)
	case *syntax.IndexExpr:
		return &syntax.IndexExpr{X: copyOf(e.X), Lbrack: e.Lbrack, Y: copyOf(e.Y), Rbrack: e.Rbrack}
	case *syntax.DotExpr:
		return &syntax.DotExpr{X: copyOf(e.X), Dot: e.Dot, NamePos: e.NamePos,
			Name: &syntax.Ident{NamePos: e.Name.NamePos, Name: e.Name.Name}}
	}
	return e
}

// target rewrites what stands left of an assignment: the parts that are read.
func (r *rewriter) target(e syntax.Expr) syntax.Expr {
	switch e := e.(type) {
	case *syntax.IndexExpr:
		e.X, e.Y = r.expr(e.X), r.expr(e.Y)
	case *syntax.DotExpr:
		e.X = r.expr(e.X)
	case *syntax.ListExpr:
		for i := range e.List {
			e.List[i] = r.target(e.List[i])
		}
	case *syntax.TupleExpr:
		for i := range e.List {
			e.List[i] = r.target(e.List[i])
		}
	case *syntax.ParenExpr:
		e.X = r.target(e.X)
	}
	return e
}

// cond rewrites an expression whose truth decides something.
func (r *rewriter) cond(e syntax.Expr) syntax.Expr {
	switch x := e.(type) {
	case *syntax.ParenExpr:
		x.X = r.cond(x.X)
		return x
	case *syntax.UnaryExpr:
		if x.Op == syntax.NOT {
			x.X = r.cond(x.X)
			return x
		}
	case *syntax.BinaryExpr:
		if x.Op == syntax.AND || x.Op == syntax.OR {
			x.X, x.Y = r.cond(x.X), r.cond(x.Y)
			return x
		}
		if comparisons[x.Op] != "" || x.Op == syntax.IN || x.Op == syntax.NOT_IN {
			return r.expr(x) // gives a real truth value
		}
	case *syntax.Literal:
		return x
	}
	start := syntax.Start(e)
	return call(start, opLook, r.expr(e))
}

// each rewrites what a loop runs over.
func (r *rewriter) each(e syntax.Expr) syntax.Expr { return call(syntax.Start(e), opEach, r.expr(e)) }

func (r *rewriter) exprs(list []syntax.Expr) {
	for i := range list {
		list[i] = r.expr(list[i])
	}
}

func (r *rewriter) expr(e syntax.Expr) syntax.Expr {
	switch e := e.(type) {
	case *syntax.BinaryExpr:
		return r.binary(e)
	case *syntax.UnaryExpr:
		if e.Op == syntax.NOT {
			e.X = r.cond(e.X)
		} else if e.X != nil { // nil in the bare * of parameters
			e.X = r.expr(e.X)
		}
	case *syntax.CallExpr:
		e.Fn = r.expr(e.Fn)
		for i, a := range e.Args {
			if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ { // name = value
				b.Y = r.expr(b.Y)
				continue
			}
			if u, ok := a.(*syntax.UnaryExpr); ok && (u.Op == syntax.STAR || u.Op == syntax.STARSTAR) {
				u.X = r.expr(u.X)
				continue
			}
			e.Args[i] = r.expr(a)
		}
	case *syntax.Comprehension:
		for _, c := range e.Clauses {
			switch c := c.(type) {
			case *syntax.ForClause:
				c.Vars, c.X = r.target(c.Vars), r.each(c.X)
			case *syntax.IfClause:
				c.Cond = r.cond(c.Cond)
			}
		}
		e.Body = r.expr(e.Body)
	case *syntax.CondExpr:
		e.Cond, e.True, e.False = r.cond(e.Cond), r.expr(e.True), r.expr(e.False)
	case *syntax.DictEntry:
		e.Key, e.Value = r.expr(e.Key), r.expr(e.Value)
	case *syntax.DictExpr:
		r.exprs(e.List)
	case *syntax.DotExpr:
		e.X = r.expr(e.X)
		if looking[e.Name.Name] {
			name := &syntax.Literal{Token: syntax.STRING, TokenPos: e.NamePos, Raw: fmt.Sprintf("%q", e.Name.Name),
				Value: e.Name.Name}
			return call(e.Dot, opAttr, e.X, name)
		}
	case *syntax.IndexExpr:
		e.X, e.Y = r.expr(e.X), r.expr(e.Y)
	case *syntax.LambdaExpr:
		r.params(e.Params)
		e.Body = r.expr(e.Body)
	case *syntax.ListExpr:
		r.exprs(e.List)
	case *syntax.ParenExpr:
		e.X = r.expr(e.X)
	case *syntax.SliceExpr:
		e.X = r.expr(e.X)
		for _, p := range []*syntax.Expr{&e.Lo, &e.Hi, &e.Step} {
			if *p != nil {
				*p = r.expr(*p)
			}
		}
	case *syntax.TupleExpr:
		r.exprs(e.List)
	}
	return e
}

func (r *rewriter) binary(e *syntax.BinaryExpr) syntax.Expr {
	if e.Op == syntax.AND || e.Op == syntax.OR {
		e.X, e.Y = r.cond(e.X), r.expr(e.Y)
		return e
	}
	name := comparisons[e.Op]
	switch e.Op {
	case syntax.PERCENT:
		name = opMod
	case syntax.STAR:
		name = opMul
	case syntax.LTLT:
		name = opShift
	case syntax.PLUS:
		name = opAdd
	case syntax.IN:
		name = opIn
	case syntax.NOT_IN:
		name = opNotIn
	}
	e.X, e.Y = r.expr(e.X), r.expr(e.Y)
	if name == "" {
		return e
	}
	return call(e.OpPos, name, e.X, e.Y)
}

func position(p syntax.Position) problem.Position {
	if !p.IsValid() {
		return problem.Position{}
	}
	return problem.Position{File: p.Filename(), Line: int(p.Line), Column: int(p.Col)}
}
