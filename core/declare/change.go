package declare

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"go.starlark.net/syntax"

	"kasbah/core/problem"
	"kasbah/core/value"
)

// Change is one replacement in the estate's sources by which a declaration says something else:
// of some bytes of a file, or of an input in kasbah.toml.
type Change struct {
	File     string // below the estate's folder
	From, To int    // the bytes that are replaced
	Text     string
	Key      string // of an argument or entry that is added; "" otherwise

	Input *InputValue // set instead of the rest where an input gets another value
}

// Same reports whether two changes of a file do the same.
func (c Change) Same(o Change) bool {
	return c.File == o.File && c.From == o.From && c.To == o.To && c.Text == o.Text
}

// InputValue is the value of an input for an environment.
type InputValue struct {
	Ward    string // whose input it is
	Name    string
	Value   any
	Given   string // where kasbah.toml gives it, as `env.trial.inputs`; "" where it is not given there
	Default []Change
}

// DecidedError names the line that decides a value which no change of a single value covers.
type DecidedError struct {
	Position problem.Position
	What     string // the text of the expression there
	Wanted   any    // the value that it would have to give
	Because  string
}

// Error is one sentence.
func (e *DecidedError) Error() string {
	s := fmt.Sprintf("%s decides it: %s", e.Position.Short(), e.What)
	if e.Because != "" {
		s += " (" + e.Because + ")"
	}
	if e.Wanted == nil {
		return s
	}
	return s + ", which would have to give " + value.Plain(e.Wanted)
}

// Changer finds what to change in the sources of what is declared. It keeps what it has parsed.
type Changer struct {
	d       *Declared
	folders map[string]string // of the estate's kits, by name
	whole   map[*index]*index // indexes of whole expressions
	files   map[string]*parsed
}

// NewChanger finds changes in what was declared with some options.
func NewChanger(d *Declared, o Options) *Changer {
	c := &Changer{d: d, folders: map[string]string{}, whole: map[*index]*index{}, files: map[string]*parsed{}}
	for name, k := range o.Kits {
		c.folders[name] = k.Folder
	}
	return c
}

// parsed is a file with its calls, by their opening parentheses, and where its lines begin.
type parsed struct {
	tree  *syntax.File
	calls map[place]*syntax.CallExpr
	lines []int
}

// changer finds what to change so that a value of one resource becomes another one.
type changer struct {
	*Changer
	*why
	out []Change
}

func (c *Changer) of(r *Resource) *changer {
	ix := c.whole[r.index]
	if ix == nil {
		ix = r.index.pristine()
		c.whole[r.index] = ix
	}
	return &changer{Changer: c, why: &why{d: c.d, r: r, index: ix, seen: map[string]bool{}}}
}

// parsed is a file of the sources; nil for one that cannot be parsed.
func (c *changer) parsed(file string) *parsed {
	if p, ok := c.files[file]; ok {
		return p
	}
	body := c.index.bodies[file]
	tree, err := fileOptions.Parse(file, body, 0)
	if err != nil {
		c.files[file] = nil
		return nil
	}
	p := &parsed{tree: tree, calls: map[place]*syntax.CallExpr{}, lines: []int{0}}
	for i, b := range body {
		if b == '\n' {
			p.lines = append(p.lines, i+1)
		}
	}
	syntax.Walk(tree, func(n syntax.Node) bool {
		if e, ok := n.(*syntax.CallExpr); ok {
			p.calls[at(e.Lparen)] = e
		}
		return true
	})
	c.files[file] = p
	return p
}

// SetAttribute is what to change so that an attribute of a resource has another value; nil
// takes it out. Nothing is changed that other code computes: that is a *DecidedError.
func (all *Changer) SetAttribute(r *Resource, name string, v any) ([]Change, error) {
	c := all.of(r)
	code := name
	if s, ok := r.star[code]; ok {
		code = s
	}
	was, declared := r.Inputs()[name]
	at, found := c.find(0, code)
	switch {
	case !declared && v == nil:
		return nil, nil
	case !found && declared:
		pos, _ := r.At(name)
		return nil, &DecidedError{Position: pos, What: "it is given through **", Wanted: v}
	case !found:
		return c.add(c.index.calls[at0(r)], code, code+" = "+Literal(v), v)
	case v == nil:
		return c.removeArgument(c.index.calls[at0(r)], code)
	}
	if !utf8.Valid(value.Encode(v)) {
		pos, _ := r.At(name)
		return nil, &DecidedError{Position: pos, What: c.text(at), Because: "what is live holds bytes that are not UTF-8"}
	}
	if value.IsSecret(was) || value.IsSecret(v) {
		pos, _ := r.At(name)
		return nil, &DecidedError{Position: pos, What: c.text(at), Because: "secrets are never written"}
	}
	err := c.become(at, was, v)
	return c.out, err
}

// LeaveAttribute is what to change so that others own a path of a resource: care(leave = …).
func (all *Changer) LeaveAttribute(r *Resource, path value.Path) ([]Change, error) {
	c := all.of(r)
	text := Literal(path.String())
	care, found := c.find(0, "care")
	if !found {
		return c.add(c.index.calls[at0(r)], "care", "care = care(leave = ["+text+"])", path.String())
	}
	for range 10 {
		s, isName := care.expr.(*syntax.Ident)
		if !isName {
			break
		}
		next, err := c.follow(care, s)
		if err != nil {
			return nil, err
		}
		care = next
	}
	call, ok := care.expr.(*syntax.CallExpr)
	if id, isName := callee(call); !ok || !isName || id != "care" {
		return nil, c.decided(care, path.String(), "it is not written as care(…)")
	}
	for _, a := range call.Args {
		b, ok := a.(*syntax.BinaryExpr)
		if !ok || b.Op != syntax.EQ || b.X.(*syntax.Ident).Name != "leave" {
			continue
		}
		list, ok := b.Y.(*syntax.ListExpr)
		if !ok {
			return nil, c.decided(spot{b.Y, care.file, care.site, care.depth}, path.String(), "it is not a list")
		}
		return c.out, c.insert(care.file, list.List, list.Lbrack, list.Rbrack, "", text)
	}
	return c.out, c.insert(care.file, call.Args, call.Lparen, call.Rparen, "leave", "leave = ["+text+"]")
}

// RemoveResource returns the changes that remove a resource's declaration.
// One that a loop, a function or a kit declares, or that other code names, is a *DecidedError.
func (all *Changer) RemoveResource(r *Resource) ([]Change, error) {
	c := all.of(r)
	pos, _ := r.Position()
	decided := func(because string) error {
		return &DecidedError{Position: pos, What: "its declaration", Because: because, Wanted: nil}
	}
	if len(r.trace) != 1 {
		return nil, decided("a function or a kit declares it: take it out there")
	}
	paren := at(r.trace[0].Position)
	body, p := c.index.bodies[paren.file], c.parsed(paren.file)
	if p == nil {
		return nil, decided("its file cannot be parsed")
	}
	f := p.tree
	for i, s := range f.Stmts {
		var call syntax.Expr
		name := ""
		switch s := s.(type) {
		case *syntax.ExprStmt:
			call = s.X
		case *syntax.AssignStmt:
			if id, ok := s.LHS.(*syntax.Ident); ok {
				call, name = s.RHS, id.Name
			}
		}
		e, ok := call.(*syntax.CallExpr)
		if !ok || at(e.Lparen) != paren {
			continue
		}
		if name != "" && c.named(f, i, paren.file, name) {
			return nil, decided("other code names it " + name)
		}
		from, to := s.Span()
		start, end := wholeLines(body, c.byteOf(from), c.byteOf(to))
		return []Change{{File: c.onDisk(paren.file), From: start, To: end}}, nil
	}
	return nil, decided("it is declared inside another expression or a loop: take it out there")
}

// named reports whether code besides the statement number i of a file uses a name of it.
func (c *changer) named(f *syntax.File, i int, file, name string) bool {
	used := false
	for j, s := range f.Stmts {
		if i == j {
			continue
		}
		syntax.Walk(s, func(n syntax.Node) bool {
			if id, ok := n.(*syntax.Ident); ok && id.Name == name {
				used = true
			}
			return !used
		})
	}
	for _, loads := range c.index.loads {
		for _, l := range loads {
			used = used || l.file == file && l.name == name
		}
	}
	return used
}

// at0 is the call that declares a resource.
func at0(r *Resource) place { return at(r.trace[0].Position) }

// onDisk is a file of the index as it is called below the estate's folder; "" for one that is
// not in the estate.
func (c *changer) onDisk(file string) string {
	rest, ok := strings.CutPrefix(file, kitPrefix)
	if !ok {
		return file
	}
	name, path, _ := strings.Cut(rest, "/")
	if c.folders[name] == "" {
		return ""
	}
	return c.folders[name] + "/" + path
}

func (c *changer) decided(s spot, wanted any, because string) error {
	return &DecidedError{Position: position(syntax.Start(s.expr)), What: c.text(s), Wanted: wanted, Because: because}
}

// become changes the source of an expression that gives was, so that it gives is.
func (c *changer) become(s spot, was, is any) error {
	if value.Equal(was, is) {
		return nil
	}
	for {
		p, ok := s.expr.(*syntax.ParenExpr)
		if !ok {
			break
		}
		s.expr = p.X
	}
	switch e := s.expr.(type) {
	case *syntax.Ident:
		if e.Name == "True" || e.Name == "False" || e.Name == "None" {
			return c.replace(s, is)
		}
		next, err := c.follow(s, e)
		if given, ok := err.(*givenInput); ok {
			return c.input(s, given, is)
		}
		if left, ok := err.(*leftOut); ok {
			return c.explicit(left, is)
		}
		if err != nil {
			return c.wants(err, is)
		}
		return c.become(next, was, is)
	case *syntax.DictExpr:
		a, ok1 := was.(map[string]any)
		b, ok2 := is.(map[string]any)
		if ok1 && ok2 {
			return c.becomeMap(s, a, b)
		}
	case *syntax.ListExpr:
		a, ok1 := was.([]any)
		b, ok2 := is.([]any)
		if ok1 && ok2 && len(a) == len(e.List) {
			return c.becomeList(s, e, a, b)
		}
	case *syntax.IndexExpr:
		if l, isText := e.Y.(*syntax.Literal); isText {
			if key, isText := l.Value.(string); isText {
				return c.becomeBelow(s, e.X, key, was, is)
			}
		}
	case *syntax.BinaryExpr:
		a, ok1 := was.(map[string]any)
		b, ok2 := is.(map[string]any)
		if e.Op == syntax.PIPE && ok1 && ok2 {
			return c.becomeMap(s, a, b)
		}
	case *syntax.CallExpr:
		name, ok := callee(e)
		if input := inputCall(e); input != "" {
			return c.input(s, &givenInput{input, e, s.file}, is)
		}
		a, ok1 := was.(map[string]any)
		b, ok2 := is.(map[string]any)
		if ok && name == "dict" && ok1 && ok2 {
			return c.becomeMap(s, a, b)
		}
	}
	if written(s.expr) {
		return c.replace(s, is)
	}
	return c.decided(s, is, "")
}

// written reports whether a value is written out in an expression: literals, and lists and maps
// of them, and nothing that is computed.
func written(e syntax.Expr) bool {
	only := true
	syntax.Walk(e, func(n syntax.Node) bool {
		switch n := n.(type) {
		case nil, *syntax.Literal, *syntax.ListExpr, *syntax.DictExpr, *syntax.DictEntry, *syntax.ParenExpr:
		case *syntax.UnaryExpr:
			only = only && n.Op == syntax.MINUS
		case *syntax.Ident:
			only = only && (n.Name == "True" || n.Name == "False" || n.Name == "None")
		default:
			only = false
		}
		return only
	})
	return only
}

// becomeBelow changes what base[key] gives: in a map that is written out, or in an input.
func (c *changer) becomeBelow(s spot, base syntax.Expr, key string, was, is any) error {
	at := spot{base, s.file, s.site, s.depth}
	for range 10 { // a chain of names
		id, isName := at.expr.(*syntax.Ident)
		if !isName {
			break
		}
		next, err := c.follow(at, id)
		if err != nil {
			return c.decided(s, is, "")
		}
		at = next
	}
	if entries, _, _, ok := entriesOf(at.expr); ok {
		for _, e := range entries {
			if name, v, known := entryOf(e); known && name == key {
				return c.become(spot{v, at.file, at.site, at.depth}, was, is)
			}
		}
	}
	if g := inputCall(at.expr); g != "" {
		for _, ward := range c.why.d.Wards {
			t := ward.Taken[g]
			if t == nil || ward.Name != c.r.Ward {
				continue
			}
			if whole, ok := (value.Path{value.Key(key)}).Set(t.Value, is); ok {
				return c.input(s, &givenInput{g, at.expr.(*syntax.CallExpr), at.file}, whole)
			}
		}
	}
	return c.decided(s, is, "")
}

// inputCall is the name of the input that a call takes; "" for any other expression.
func inputCall(e syntax.Expr) string {
	call, ok := e.(*syntax.CallExpr)
	if name, is := callee(call); !ok || !is || name != "input" || len(call.Args) == 0 {
		return ""
	}
	if l, ok := call.Args[0].(*syntax.Literal); ok {
		text, _ := l.Value.(string)
		return text
	}
	return ""
}

// wants completes a DecidedError with the value that is wanted.
func (c *changer) wants(err error, is any) error {
	if d, ok := err.(*DecidedError); ok {
		d.Wanted = is
	}
	return err
}

// becomeMap changes the entries of a map that is written out, or of those that are joined by |.
func (c *changer) becomeMap(s spot, was, is map[string]any) error {
	var parts []syntax.Expr
	var collect func(e syntax.Expr)
	collect = func(e syntax.Expr) {
		switch x := e.(type) {
		case *syntax.ParenExpr:
			collect(x.X)
			return
		case *syntax.BinaryExpr:
			if x.Op == syntax.PIPE {
				collect(x.X)
				collect(x.Y)
				return
			}
		}
		parts = append(parts, e)
	}
	collect(s.expr)
	keys := map[string]bool{}
	for k := range was {
		keys[k] = true
	}
	for k := range is {
		keys[k] = true
	}
	for _, k := range value.Keys(keys) {
		if _, there := was[k]; there && value.Equal(was[k], is[k]) {
			continue
		}
		if err := c.becomeEntry(s, parts, k, was, is); err != nil {
			return err
		}
	}
	return nil
}

func (c *changer) becomeEntry(s spot, parts []syntax.Expr, key string, was, is map[string]any) error {
	v, stays := is[key]
	for i := len(parts) - 1; i >= 0; i-- {
		part := parts[i]
		entries, open, closing, ok := entriesOf(part)
		if !ok { // it may hold the key, too
			if _, had := was[key]; had && len(parts) > 1 {
				return c.decided(spot{part, s.file, s.site, s.depth}, v, "it may give "+key)
			}
			if len(parts) == 1 {
				return c.decided(s, v, "")
			}
			continue
		}
		for n, e := range entries {
			name, val, known := entryOf(e)
			if !known || name != key {
				continue
			}
			if !stays {
				return c.removeOf(s.file, entries, n)
			}
			return c.become(spot{val, s.file, s.site, s.depth}, was[key], v)
		}
		if _, had := was[key]; !had {
			text := Literal(key) + ": " + Literal(v)
			if _, isCall := part.(*syntax.CallExpr); isCall {
				if !isIdentifier(key) {
					return c.decided(s, v, "it is written as dict(…)")
				}
				text = key + " = " + Literal(v)
			}
			return c.insert(s.file, entries, open, closing, key, text)
		}
	}
	return c.decided(s, v, "")
}

// entriesOf are the entries of a map that is written out, and its brackets.
func entriesOf(e syntax.Expr) (entries []syntax.Expr, open, closing syntax.Position, ok bool) {
	switch e := e.(type) {
	case *syntax.DictExpr:
		return e.List, e.Lbrace, e.Rbrace, true
	case *syntax.CallExpr:
		if name, is := callee(e); is && name == "dict" {
			return e.Args, e.Lparen, e.Rparen, true
		}
	}
	return nil, open, closing, false
}

// entryOf is the key and the value of an entry whose key is written out.
func entryOf(e syntax.Expr) (key string, v syntax.Expr, ok bool) {
	switch e := e.(type) {
	case *syntax.DictEntry:
		if l, isText := e.Key.(*syntax.Literal); isText {
			key, ok = l.Value.(string)
			return key, e.Value, ok
		}
	case *syntax.BinaryExpr:
		if id, isName := e.X.(*syntax.Ident); isName && e.Op == syntax.EQ {
			return id.Name, e.Y, true
		}
	}
	return "", nil, false
}

// becomeList changes the items of a list that is written out: those that stay keep their text.
func (c *changer) becomeList(s spot, e *syntax.ListExpr, was, is []any) error {
	head := 0
	for head < len(was) && head < len(is) && value.Equal(was[head], is[head]) {
		head++
	}
	tail := 0
	for tail < len(was)-head && tail < len(is)-head && value.Equal(was[len(was)-1-tail], is[len(is)-1-tail]) {
		tail++
	}
	before, after := was[head:len(was)-tail], is[head:len(is)-tail]
	same := min(len(before), len(after))
	for i := range same {
		if err := c.become(spot{e.List[head+i], s.file, s.site, s.depth}, before[i], after[i]); err != nil {
			return err
		}
	}
	for i := same; i < len(before); i++ {
		if err := c.removeOf(s.file, e.List, head+i); err != nil {
			return err
		}
	}
	if len(after) == same {
		return nil
	}
	var texts []string
	for _, v := range after[same:] {
		texts = append(texts, Literal(v))
	}
	if tail == 0 {
		return c.insert(s.file, e.List, e.Lbrack, e.Rbrack, "", texts...)
	}
	from := c.byteOf(syntax.Start(e.List[head+same])) // before the first that stays
	return c.change(s.file, from, from, strings.Join(texts, ", ")+", ")
}
