package declare

import (
	"fmt"
	"strings"

	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/problem"
	"kasbah/core/value"
)

// spot is an expression and where it is: in the body of the call at depth
// of the trace, or at top level when site is nil.
type spot struct {
	expr  syntax.Expr
	file  string
	site  *callSite
	depth int
}

// find looks for the argument of the call at depth that gives name, through
// `**` as well.
func (w *why) find(depth int, name string) (spot, bool) {
	site := w.index.calls[at(w.r.trace[depth].Position)]
	if site == nil {
		return spot{}, false
	}
	for _, a := range site.args {
		if a.stars == 0 && a.name == name {
			return spot{a.expr, site.file, site, depth}, true
		}
	}
	for _, a := range site.args {
		if a.stars != 2 {
			continue
		}
		e := a.expr
		if id, ok := e.(*syntax.Ident); ok {
			if site.in != nil && id.Name == site.in.kwargs && depth+1 < len(w.r.trace) {
				return w.find(depth+1, name)
			}
			if def := w.index.lookup(site, id.Name); def != nil {
				e = def
			}
		}
		if x, rest := inside(e, value.Path{value.Key(name)}); len(rest) == 0 {
			return spot{x, site.file, site, depth}, true
		}
		return spot{e, site.file, site, depth}, true
	}
	return spot{}, false
}

// inside follows a path into maps and lists that are written out. rest is
// what could not be followed.
func inside(e syntax.Expr, path value.Path) (syntax.Expr, value.Path) {
	for len(path) > 0 {
		next := syntax.Expr(nil)
		switch x := e.(type) {
		case *syntax.ParenExpr:
			e = x.X
			continue
		case *syntax.DictExpr:
			for _, entry := range x.List {
				d := entry.(*syntax.DictEntry)
				if k, ok := d.Key.(*syntax.Literal); ok && k.Value == path[0].Key && !path[0].Item {
					next = d.Value
				}
			}
		case *syntax.ListExpr:
			if path[0].Item && path[0].Index < len(x.List) {
				next = x.List[path[0].Index]
			}
		case *syntax.CallExpr:
			for _, a := range x.Args {
				if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ && b.X.(*syntax.Ident).Name == path[0].Key {
					next = b.Y
				}
			}
		}
		if next == nil {
			return e, path
		}
		e, path = next, path[1:]
	}
	return e, nil
}

// explain tells where the value of an expression comes from.
func (w *why) explain(s spot) *Origin {
	for {
		p, ok := s.expr.(*syntax.ParenExpr)
		if !ok {
			break
		}
		s.expr = p.X
	}
	pos := position(syntax.Start(s.expr))
	out := &Origin{Kind: FromExpression, What: w.text(s), Position: pos}
	if w.seen[pos.String()+out.What] {
		return out // told already
	}
	w.seen[pos.String()+out.What] = true
	switch e := s.expr.(type) {
	case *syntax.Literal:
		out.Kind = FromLiteral
		return out
	case *syntax.Ident:
		return w.name(s, e)
	case *syntax.CallExpr:
		if o := w.call(s, e); o != nil {
			return o
		}
	}
	w.parts(s, out)
	if out.From == nil && constant(s.expr) {
		out.Kind = FromLiteral
	}
	return out
}

// parts explains the names and calls inside an expression.
func (w *why) parts(s spot, out *Origin) {
	bound := map[string]bool{} // by comprehensions inside it: their sources are explained instead
	syntax.Walk(s.expr, func(n syntax.Node) bool {
		if c, ok := n.(*syntax.Comprehension); ok {
			for _, clause := range c.Clauses {
				if f, ok := clause.(*syntax.ForClause); ok {
					for _, name := range names(f.Vars) {
						bound[name] = true
					}
				}
			}
		}
		return true
	})
	told := map[string]bool{}
	var visit func(n syntax.Node) bool
	visit = func(n syntax.Node) bool {
		inner := s
		switch n := n.(type) {
		case *syntax.Ident:
			if bound[n.Name] || told[n.Name] || w.index.known[n.Name] && !saying[n.Name] &&
				w.index.assigns[s.file][n.Name] == nil {
				return false
			}
			told[n.Name] = true
			inner.expr = n
			out.From = append(out.From, w.explain(inner))
			return false
		case *syntax.DotExpr:
			syntax.Walk(n.X, visit)
			return false
		case *syntax.BinaryExpr:
			if n.Op == syntax.EQ { // name = value of a call
				syntax.Walk(n.Y, visit)
				return false
			}
		case *syntax.CallExpr:
			inner.expr = n
			if n != s.expr {
				if o := w.call(inner, n); o != nil {
					out.From = append(out.From, o)
					return false
				}
			}
			if _, method := n.Fn.(*syntax.DotExpr); method {
				return true
			}
			for _, a := range n.Args { // a plain function's name says enough in the text
				syntax.Walk(a, visit)
			}
			return false
		case *syntax.LambdaExpr:
			return false
		}
		return true
	}
	syntax.Walk(s.expr, visit)
}

// saying are the names every file starts with that say something of where a
// value comes from.
var saying = map[string]bool{"env": true, "env_part": true, "ward": true, "estate": true}

// call explains calls of built-ins that bring a value from outside, and of
// functions of the estate; nil for all others.
func (w *why) call(s spot, e *syntax.CallExpr) *Origin {
	pos := position(syntax.Start(e))
	id, ok := e.Fn.(*syntax.Ident)
	if !ok {
		if d, isDot := e.Fn.(*syntax.DotExpr); isDot {
			return w.declares(s, e, d, pos)
		}
		return nil
	}
	arg := func(i int) string {
		if i < len(e.Args) {
			if l, ok := e.Args[i].(*syntax.Literal); ok {
				if t, ok := l.Value.(string); ok {
					return t
				}
			}
		}
		return ""
	}
	switch id.Name {
	case "input":
		return w.input(arg(0), pos)
	case "secret":
		return &Origin{Kind: FromSecret, What: "the secret " + arg(0), Position: pos}
	case "file":
		return &Origin{Kind: FromFile, What: "the file " + arg(0), Position: pos}
	case "published":
		o := &Origin{Kind: FromPublished, What: fmt.Sprintf("%s, published by ward %s", arg(1), arg(0)), Position: pos, Source: PublishedAddress(arg(0), arg(1))}
		for _, ward := range w.d.Wards {
			if p := ward.Published[arg(1)]; p != nil && ward.Name == arg(0) {
				o.From = append(o.From, &Origin{Kind: FromPublished, What: "published there", Position: p.Position})
			}
		}
		return o
	}
	def := w.index.function(s.file, id.Name)
	if def == nil {
		return nil
	}
	out := &Origin{Kind: FromFunction, What: w.text(s), Position: pos}
	out.From = append(out.From, &Origin{Kind: FromFunction, What: "the function " + id.Name,
		Position: position(def.Def)})
	w.parts(s, out)
	return out
}

// declares explains a call that declares a resource or looks one up.
func (w *why) declares(s spot, e *syntax.CallExpr, d *syntax.DotExpr, pos problem.Position) *Origin {
	drv, ok := d.X.(*syntax.Ident)
	if inner, isDot := d.X.(*syntax.DotExpr); isDot && d.Name.Name == "find" {
		if drv, ok = inner.X.(*syntax.Ident); ok && w.index.drivers[drv.Name] {
			return &Origin{Kind: FromFind, What: w.text(s), Position: pos}
		}
	}
	if !ok || !w.index.drivers[drv.Name] {
		return nil
	}
	out := &Origin{Kind: FromResource, What: "a " + drv.Name + "." + d.Name.Name, Position: pos}
	return out
}

func (w *why) input(name string, pos problem.Position) *Origin {
	for _, ward := range w.d.Wards {
		t := ward.Taken[name]
		if t == nil || ward.Name != w.r.Ward {
			continue
		}
		what := fmt.Sprintf("input %s, given by %s", name, t.Source)
		switch {
		case t.Secret:
			what = "input " + name + ", a secret"
		case t.Source == "default":
			what = "input " + name + ", its default"
		}
		o := &Origin{Kind: FromInput, What: what, Position: t.Given, Source: InputAddress(ward.Name, name)}
		if t.Given.File == "" {
			o.Position = t.Position
		} else {
			o.From = append(o.From, &Origin{Kind: FromInput, What: "declared", Position: t.Position})
		}
		for _, beaten := range t.Beaten {
			o.From = append(o.From, &Origin{Kind: FromInput, What: "beats " + beaten, Position: t.Position})
		}
		return o
	}
	return &Origin{Kind: FromInput, What: "input " + name, Position: pos}
}

// name explains a name.
func (w *why) name(s spot, id *syntax.Ident) *Origin {
	pos := position(id.NamePos)
	out := &Origin{Kind: FromName, What: id.Name, Position: pos}
	follow := func(to spot) *Origin {
		o := w.explain(to)
		if o.Kind == FromExpression || o.Kind == FromLiteral || o.Kind == FromFunction || o.Kind == FromResource {
			return &Origin{Kind: FromName, What: id.Name + " = " + o.What, Position: o.Position, From: o.From}
		}
		return o
	}
	if s.site != nil {
		for i := len(s.site.over) - 1; i >= 0; i-- {
			if l := s.site.over[i]; l.binds(id.Name) {
				out.Kind, out.What, out.Position = FromLoop, fmt.Sprintf("%s, each of %s", id.Name,
					w.text(spot{expr: l.in, file: s.file})), position(syntax.Start(l.in))
				out.From = []*Origin{w.explain(spot{expr: l.in, file: s.file, site: s.site.before(i), depth: s.depth})}
				return flat(out)
			}
		}
		if in := s.site.in; in != nil {
			for i, p := range in.params {
				if p == id.Name {
					return w.parameter(s, in, p, i)
				}
			}
			if e := in.locals[id.Name]; e != nil {
				return follow(spot{expr: e, file: s.file, site: s.site, depth: s.depth})
			}
		}
	}
	file, name := s.file, id.Name
	for range 10 { // a chain of loads
		if e := w.index.assigns[file][name]; e != nil {
			return follow(spot{expr: e, file: file})
		}
		if def := w.index.defs[file][name]; def != nil {
			return &Origin{Kind: FromFunction, What: "the function " + name, Position: position(def.Def)}
		}
		l, ok := w.index.loads[file][name]
		if !ok {
			break
		}
		file, name = l.file, l.name
	}
	for _, v := range w.index.variables[s.file] { // of loops at top level
		if v.binds(id.Name) {
			out.Kind, out.What, out.Position = FromLoop, fmt.Sprintf("%s, each of %s", id.Name,
				w.text(spot{expr: v.in, file: s.file})), position(syntax.Start(v.in))
			out.From = []*Origin{w.explain(spot{expr: v.in, file: s.file})}
			return flat(out)
		}
	}
	switch id.Name {
	case "env", "env_part", "ward", "estate":
		out.Kind, out.What = FromLanguage, fmt.Sprintf("%s, %q here", id.Name, map[string]string{"env": w.d.Env,
			"env_part": w.d.Part, "ward": w.r.Ward, "estate": w.r.index.estate}[id.Name])
	case "True", "False", "None":
		out.Kind = FromLiteral
	default:
		out.Kind, out.What = FromLanguage, id.Name+", which every file starts with"
		if w.index.drivers[id.Name] {
			out.What = "the driver " + id.Name
		} else if starlark.Universe[id.Name] == nil && !w.index.known[id.Name] {
			out.Kind, out.What = FromName, id.Name+", set while the file runs"
		}
	}
	return out
}

// flat leaves out a step that only repeats its parent.
func flat(o *Origin) *Origin {
	if len(o.From) == 1 && o.From[0].Position == o.Position {
		o.From = o.From[0].From
	}
	return o
}

// parameter follows a parameter to the call that gave it, or to its default.
func (w *why) parameter(s spot, in *function, name string, i int) *Origin {
	depth := s.depth + 1
	if depth < len(w.r.trace) {
		caller := w.index.calls[at(w.r.trace[depth].Position)]
		if caller != nil {
			for j, a := range caller.args {
				if a.stars == 0 && (a.name == name || a.name == "" && j == i && !w.r.trace[depth].opens) {
					return handed(name, w.explain(spot{a.expr, caller.file, caller, depth}),
						position(syntax.Start(a.expr)))
				}
			}
			if at, ok := w.find(depth, name); ok {
				return handed(name, w.explain(at), position(syntax.Start(at.expr)))
			}
		}
		if w.r.trace[depth].opens {
			if def, file := w.index.kitDefault(s.file, in.name, name); def != nil {
				return &Origin{Kind: FromDefault, What: fmt.Sprintf("%s = %s, the default of the kit's input", name,
					w.text(spot{expr: def, file: file})), Position: position(syntax.Start(def))}
			}
		}
	}
	if def := in.values[name]; def != nil {
		return &Origin{Kind: FromDefault, What: fmt.Sprintf("%s = %s, its default", name,
			w.text(spot{expr: def, file: s.file})), Position: position(syntax.Start(def))}
	}
	return &Origin{Kind: FromArgument, What: name, Position: position(syntax.Start(s.expr))}
}

// handed is an argument whose value has an origin of its own.
func handed(name string, o *Origin, pos problem.Position) *Origin {
	switch o.Kind {
	case FromLiteral, FromExpression:
		return &Origin{Kind: FromArgument, What: name + " = " + o.What, Position: pos, From: o.From}
	}
	return &Origin{Kind: FromArgument, What: name + ", handed on", Position: pos, From: []*Origin{o}}
}

// constant reports whether an expression holds nothing but literals.
func constant(e syntax.Expr) bool {
	only := true
	syntax.Walk(e, func(n syntax.Node) bool {
		switch n.(type) {
		case *syntax.Ident, *syntax.CallExpr, *syntax.Comprehension:
			only = false
		}
		return only
	})
	return only
}

const longestText = 70

// text is an expression as it was written, on one line.
func (w *why) text(s spot) string {
	from, to := s.expr.Span()
	lines := strings.Split(string(w.index.bodies[from.Filename()]), "\n")
	if from.Line < 1 || int(to.Line) > len(lines) {
		return "an expression"
	}
	var b strings.Builder
	for n := from.Line; n <= to.Line; n++ {
		line := []rune(lines[n-1])
		begin, end := 0, len(line)
		if n == from.Line {
			begin = min(int(from.Col)-1, len(line))
		}
		if n == to.Line {
			end = min(int(to.Col)-1, len(line))
			switch s.expr.(type) {
			case *syntax.IndexExpr, *syntax.SliceExpr: // their span ends before the bracket
				end = min(end+1, len(line))
			}
		}
		if begin < end {
			b.WriteString(string(line[begin:end]) + " ")
		}
	}
	text := []rune(strings.Join(strings.Fields(b.String()), " "))
	if len(text) > longestText {
		text = append(text[:longestText-1], '…')
	}
	return string(text)
}

// pristine is an index of the same files that keeps whole expressions. It
// parses them again: the evaluation has rewritten the first trees.
func (ix *index) pristine() *index {
	ix.filled()
	out := newIndex()
	out.whole = true
	out.estate, out.pattern, out.names, out.drivers, out.known = ix.estate, ix.pattern, ix.names, ix.drivers, ix.known
	out.defs, out.variables, out.kitCalls = map[string]map[string]*syntax.DefStmt{}, map[string][]loop{},
		map[string][]*syntax.CallExpr{}
	for path, body := range ix.bodies {
		f, err := fileOptions.Parse(path, body, 0)
		if err == nil { // it was parsed before
			out.add(path, f, body, func(module string) string { return ix.modules[path][module] })
		}
	}
	return out
}

// function finds the def of a name that a file knows.
func (ix *index) function(file, name string) *syntax.DefStmt {
	for range 10 { // a chain of loads
		if def := ix.defs[file][name]; def != nil {
			return def
		}
		l, ok := ix.loads[file][name]
		if !ok {
			break
		}
		file, name = l.file, l.name
	}
	return nil
}

// kitDefault finds the default that kit(function, inputs = …) states for an
// input.
func (ix *index) kitDefault(file, function, input string) (syntax.Expr, string) {
	for _, c := range ix.kitCalls[file] {
		if id, ok := c.Args[0].(*syntax.Ident); !ok || id.Name != function {
			continue
		}
		for _, a := range c.Args[1:] {
			b, ok := a.(*syntax.BinaryExpr)
			if !ok || b.Op != syntax.EQ || b.X.(*syntax.Ident).Name != "inputs" {
				continue
			}
			kind, rest := inside(b.Y, value.Path{value.Key(input)})
			if def, left := inside(kind, value.Path{value.Key("default")}); len(rest) == 0 && len(left) == 0 {
				return def, file
			}
		}
	}
	return nil, ""
}
