package editor

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	protocol "github.com/tliron/glsp/protocol_3_16"
	"go.starlark.net/syntax"

	"kasbah/core/alert"
	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/form"
	"kasbah/core/schema"
	"kasbah/core/settle"
	"kasbah/core/survey"
	"kasbah/core/value"
)

const (
	quickFix = "quickfix"
	refactor = "refactor"
)

// acting gathers what can be done at a range of a file.
type acting struct {
	ctx  context.Context
	p    *project
	v    *view
	f    *code.File
	span code.Span
	out  []protocol.CodeAction
}

func (s *server) codeAction(ctx context.Context, r *protocol.CodeActionParams) (any, error) {
	d, f := s.text(r.TextDocument.URI)
	if f == nil || !strings.HasSuffix(d.path, ".star") {
		return []protocol.CodeAction{}, nil
	}
	v := d.project.view(ctx)
	if v == nil {
		return []protocol.CodeAction{}, nil
	}
	a := &acting{ctx: ctx, p: d.project, v: v, f: f, span: code.Span{From: offset(f, r.Range.Start), To: offset(f, r.Range.End)},
		out: []protocol.CodeAction{}}
	for _, one := range r.Context.Diagnostics {
		a.nearest(one)
		a.addRequired(one)
		a.excuse(one)
	}
	a.takeOver()
	a.makeInput()
	a.makeLoop()
	if len(r.Context.Only) > 0 {
		a.out = slices.DeleteFunc(a.out, func(one protocol.CodeAction) bool {
			return !slices.ContainsFunc(r.Context.Only, func(kind string) bool { return kind == *one.Kind || strings.HasPrefix(*one.Kind, kind+".") })
		})
	}
	return a.out, nil
}

func (a *acting) add(title, kind string, edits fileEdits, mends ...protocol.Diagnostic) {
	action := protocol.CodeAction{Title: title, Kind: &kind, Edit: ptr(a.p.workspaceEdit(edits)), Diagnostics: mends}
	if len(mends) > 0 && kind == quickFix {
		action.IsPreferred = ptr(true)
	}
	a.out = append(a.out, action)
}

var (
	quotedWord = form.Of(`"([^"\s]+)"`)
	didYouMean = form.Of(`did you mean "([^"]+)"`)
	undefined  = form.Of(`undefined: (\S+)`)
	isRequired = form.Of(`^(?:[^\s]+: )?(?:.*: )?(\w+) is required and missing`)
)

// nearest puts the name that was meant in place of the one that is not known.
func (a *acting) nearest(d protocol.Diagnostic) {
	m := didYouMean().FindStringSubmatch(d.Message)
	if m == nil {
		return
	}
	before := didYouMean().ReplaceAllString(d.Message, "")
	var wrong []string
	for _, w := range append(quotedWord().FindAllStringSubmatch(before, -1), undefined().FindAllStringSubmatch(before, -1)...) {
		wrong = append(wrong, strings.TrimRight(w[1], ";,."))
	}
	at := offset(a.f, d.Range.Start)
	for _, name := range wrong {
		if span, ok := a.f.Nearest(name, at); ok {
			a.add(fmt.Sprintf("Write %s in place of %s", m[1], name), quickFix, fileEdits{a.f.Name: {{Span: span, Text: m[1]}}}, d)
			return
		}
	}
}

// addRequired adds the required arguments that a call lacks.
func (a *acting) addRequired(d protocol.Diagnostic) {
	first, _, _ := strings.Cut(d.Message, "\n")
	if !isRequired().MatchString(first) {
		return
	}
	at := offset(a.f, d.Range.Start)
	c := a.f.CallAround(at, func(c *syntax.CallExpr) bool {
		sig := a.v.of(a.f, c.Fn, a.f.At(c.Lparen)).look().Call
		return sig != nil && sig.Named
	})
	if c == nil {
		return
	}
	l := a.v.of(a.f, c.Fn, a.f.At(c.Lparen)).look()
	var names []string
	var texts []string
	pl := &place{v: a.v, p: a.p, f: a.f, at: a.f.SpanOf(c).From, Place: code.Place{Word: code.Span{From: a.f.SpanOf(c).From, To: a.f.SpanOf(c).From}}}
	for _, p := range l.Call.Params {
		if p.Required && code.Argument(c, p.Name, -1) == nil {
			names = append(names, p.Name)
			texts = append(texts, p.Name+" = "+pl.example(p, l.Driver))
		}
	}
	if len(names) == 0 {
		return
	}
	edit := a.f.AddArgument(c, texts[0])
	if len(texts) > 1 {
		edit = a.f.AddArguments(c, texts)
	}
	a.add("Add "+strings.Join(names, ", "), quickFix, fileEdits{a.f.Name: {edit}}, d)
}

// example is a value for an argument until a person chooses one.
func (pl *place) example(p declare.Param, driver string) string {
	if p.Attr == nil {
		return "None"
	}
	if len(p.Attr.OneOf) > 0 {
		return declare.Literal(p.Attr.OneOf[0])
	}
	if p.Attr.Refers != "" || declare.IsHandle(p.Attr) {
		for _, o := range pl.values(p.Attr, driver) {
			return o.label
		}
		return "None"
	}
	switch p.Attr.Kind {
	case schema.Text:
		if p.Attr.Format == "cidr" {
			return `"10.0.0.0/24"`
		}
		return `""`
	case schema.Int, schema.Number:
		if p.Attr.Min != nil {
			return strconv.FormatFloat(*p.Attr.Min, 'g', -1, 64)
		}
		return "0"
	case schema.Bool:
		return "False"
	case schema.List:
		return "[]"
	}
	return "{}"
}

// excuse lets a resource break a rule for a while.
func (a *acting) excuse(d protocol.Diagnostic) {
	var data actionData
	if body, err := json.Marshal(d.Data); err != nil || json.Unmarshal(body, &data) != nil || data.Rule == "" {
		return
	}
	if !slices.Contains(a.v.rulesOfOne(), data.Rule) || strings.Contains(d.Message, "; excused until") {
		return
	}
	ward, _ := value.SplitWard(data.Address)
	sym := a.p.addressSymbol(a.v, ward, data.Address)
	if sym == nil {
		return
	}
	f := a.p.file(sym.file)
	until := time.Now().AddDate(0, 0, 90).Format(time.DateOnly)
	edits, err := f.AddExcuse(sym.call, declare.Literal(data.Rule), declare.Literal("say why, until "+until))
	if err != nil {
		return // its care is written elsewhere
	}
	a.add(fmt.Sprintf("Excuse the rule %s until %s", data.Rule, until), quickFix, fileEdits{sym.file: edits}, d)
}

// takeOver writes what the last survey found live into the code.
func (a *acting) takeOver() {
	h := &hovering{ctx: a.ctx, views: []*view{a.v}, v: a.v, f: a.f, at: a.span.From}
	for _, r := range h.allDeclaredAt() {
		for _, one := range a.v.drifted(a.ctx, r.Ward, r.Address) {
			f := one.Finding
			if f.Verdict != alert.Differs || f.Expected == nil || f.Found == nil {
				continue
			}
			of := &survey.Resource{Ward: r.Ward, Address: r.Address, Type: r.FullType(), Verdict: survey.Differs}
			plan, err := a.v.session.TakeOverTexts(a.v.eval, a.v.options, []settle.Difference{{Resource: of, Path: f.Path,
				Expected: f.Expected.V, Found: f.Found.V}}, a.p.body)
			if err != nil || len(plan.Files) == 0 {
				continue
			}
			edit := protocol.WorkspaceEdit{Changes: map[string][]protocol.TextEdit{}}
			for _, file := range value.Keys(plan.Files) {
				edit.Changes[a.p.uri(file)] = textEdits(a.p.lines(file), plan.Files[file])
			}
			a.out = append(a.out, protocol.CodeAction{Title: fmt.Sprintf("Take over %s = %s, which is live", f.Path,
				value.Plain(f.Found.V)), Kind: ptr(quickFix), Edit: &edit})
		}
	}
}

// allDeclaredAt are the resources that the innermost call around the place declares.
func (h *hovering) allDeclaredAt() []*declare.Resource {
	for _, c := range h.f.Place(h.at).Calls {
		if c.Open == '(' {
			if list := h.v.declaredBy(h.f, c.At); len(list) > 0 {
				return list
			}
		}
	}
	return nil
}

// makeInput takes a literal from outside from now on, with what it is as its default.
func (a *acting) makeInput() {
	if a.v.ward(a.f.Name) == "" {
		return
	}
	var stmt syntax.Stmt
	for _, s := range a.f.Tree.Stmts {
		if a.f.SpanOf(s).Holds(a.span.From) {
			stmt = s
		}
	}
	if stmt == nil {
		return
	}
	if _, isLoad := stmt.(*syntax.LoadStmt); isLoad {
		return
	}
	name, of, lit := "", "", syntax.Expr(nil)
	syntax.Walk(stmt, func(n syntax.Node) bool {
		c, ok := n.(*syntax.CallExpr)
		if !ok {
			return true
		}
		switch code.Callee(c) {
		case "input", "publish", "published", "care", "load", "secret", "kit", "rule":
			return false
		}
		for _, arg := range c.Args {
			b, ok := arg.(*syntax.BinaryExpr)
			if !ok || b.Op != syntax.EQ || !a.f.SpanOf(b.Y).Holds(a.span.From) {
				continue
			}
			id, isName := b.X.(*syntax.Ident)
			if _, isLiteral := b.Y.(*syntax.Literal); isLiteral && isName || isName && isBool(b.Y) {
				name, lit = id.Name, b.Y
				of, _ = code.TextOf(c.Args[0])
			}
		}
		return true
	})
	if lit == nil {
		return
	}
	free := a.freeName(strings.Trim(strings.ToLower(name), "_"), of)
	kind := "kind.text"
	if isBool(lit) {
		kind = "kind.bool"
	}
	if l, ok := lit.(*syntax.Literal); ok {
		switch l.Token {
		case syntax.INT:
			kind = "kind.int"
		case syntax.FLOAT:
			kind = "kind.number"
		}
	}
	at := a.f.SpanOf(stmt).From
	text := fmt.Sprintf("%s = input(%s, %s, default = %s)\n\n", free, declare.Literal(free), kind, a.f.Text(a.f.SpanOf(lit)))
	a.add(fmt.Sprintf("Make %s an input", a.f.Text(a.f.SpanOf(lit))), refactor+".extract", fileEdits{a.f.Name: {
		{Span: code.Span{From: at, To: at}, Text: text}, {Span: a.f.SpanOf(lit), Text: free}}})
}

// freeName is a name that means nothing in the file yet: the given one, or one with that of its resource before it.
func (a *acting) freeName(name, of string) string {
	taken := a.f.Names(len(a.f.Body))
	isFree := func(name string) bool {
		return !slices.Contains(taken, name) && a.v.predeclared(a.f.Name)[name] == nil && declare.Identifier(name) == name &&
			inputName().MatchString(name)
	}
	if own := strings.ToLower(declare.Identifier(of)) + "_" + name; !isFree(name) && isFree(own) {
		return own
	}
	free := name
	for n := 2; !isFree(free); n++ {
		free = fmt.Sprintf("%s_%d", name, n)
	}
	return free
}

var inputName = form.Of(`^[a-z][a-z0-9_]*$`)

func isBool(e syntax.Expr) bool {
	id, ok := e.(*syntax.Ident)
	return ok && (id.Name == "True" || id.Name == "False")
}

// makeLoop turns calls one after the other, which differ in literals only, into a loop.
func (a *acting) makeLoop() {
	stmts := a.f.Tree.Stmts
	var run []*syntax.CallExpr
	var from, to int
	for i := 0; i < len(stmts); i++ {
		c := loopable(stmts[i])
		if c == nil {
			continue
		}
		j := i
		calls := []*syntax.CallExpr{c}
		for j+1 < len(stmts) {
			next := loopable(stmts[j+1])
			if next == nil || !a.alike(c, next) {
				break
			}
			calls, j = append(calls, next), j+1
		}
		span := code.Span{From: a.f.SpanOf(stmts[i]).From, To: a.f.SpanOf(stmts[j]).To}
		if len(calls) > 1 && span.From <= a.span.To && a.span.From <= span.To {
			run, from, to = calls, span.From, span.To
		}
		i = j
	}
	if run == nil || strings.Contains(a.f.Text(code.Span{From: from, To: to}), "#") { // comments would be lost
		return
	}
	taken := a.f.Names(len(a.f.Body))
	var names, columns []string
	varied := map[int]string{}
	for i, arg := range run[0].Args {
		same := true
		for _, c := range run {
			same = same && a.f.Text(a.f.SpanOf(c.Args[i])) == a.f.Text(a.f.SpanOf(run[0].Args[i]))
		}
		if same {
			continue
		}
		name := "name"
		if b, ok := arg.(*syntax.BinaryExpr); ok {
			name = b.X.(*syntax.Ident).Name
		}
		for base, n := name, 2; slices.Contains(taken, name) || slices.Contains(names, name); n++ {
			name = fmt.Sprintf("%s_%d", base, n)
		}
		varied[i] = name
		names = append(names, name)
	}
	if len(names) == 0 {
		return
	}
	for _, c := range run {
		var row []string
		for i, arg := range c.Args {
			if varied[i] != "" {
				row = append(row, a.f.Text(a.f.SpanOf(valueOf(arg))))
			}
		}
		text := strings.Join(row, ", ")
		if len(row) > 1 {
			text = "(" + text + ")"
		}
		columns = append(columns, text)
	}
	var args []string
	for i, arg := range run[0].Args {
		b, named := arg.(*syntax.BinaryExpr)
		text := a.f.Text(a.f.SpanOf(arg))
		if varied[i] != "" {
			text = varied[i]
			if named {
				text = b.X.(*syntax.Ident).Name + " = " + varied[i]
			}
		}
		args = append(args, text)
	}
	body := fmt.Sprintf("for %s in [%s]:\n    %s(%s)", strings.Join(names, ", "), strings.Join(columns, ", "), code.Callee(run[0]),
		strings.Join(args, ", "))
	if len(names) > 1 {
		body = fmt.Sprintf("for %s in [\n    %s,\n]:\n    %s(%s)", strings.Join(names, ", "), strings.Join(columns, ",\n    "),
			code.Callee(run[0]), strings.Join(args, ", "))
	}
	a.add(fmt.Sprintf("Turn %d calls into a loop", len(run)), refactor+".rewrite", fileEdits{a.f.Name: {{Span: code.Span{From: from, To: to}, Text: body}}})
}

// loopable is the call that a statement is, and nothing else; nil for any other.
func loopable(s syntax.Stmt) *syntax.CallExpr {
	e, ok := s.(*syntax.ExprStmt)
	if !ok {
		return nil
	}
	c, ok := e.X.(*syntax.CallExpr)
	if !ok || !strings.Contains(code.Callee(c), ".") || len(c.Args) == 0 {
		return nil
	}
	return c
}

// alike reports whether two calls have the same arguments, but for literals.
func (a *acting) alike(x, y *syntax.CallExpr) bool {
	if code.Callee(x) != code.Callee(y) || len(x.Args) != len(y.Args) {
		return false
	}
	for i := range x.Args {
		b, named := x.Args[i].(*syntax.BinaryExpr)
		c, named2 := y.Args[i].(*syntax.BinaryExpr)
		named, named2 = named && b.Op == syntax.EQ, named2 && c.Op == syntax.EQ
		if named != named2 || named && b.X.(*syntax.Ident).Name != c.X.(*syntax.Ident).Name {
			return false
		}
		_, lit1 := valueOf(x.Args[i]).(*syntax.Literal)
		_, lit2 := valueOf(y.Args[i]).(*syntax.Literal)
		if a.f.Text(a.f.SpanOf(x.Args[i])) != a.f.Text(a.f.SpanOf(y.Args[i])) && (!lit1 || !lit2) {
			return false
		}
	}
	return true
}

// valueOf is the value of an argument.
func valueOf(arg syntax.Expr) syntax.Expr {
	if b, ok := arg.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
		return b.Y
	}
	return arg
}
