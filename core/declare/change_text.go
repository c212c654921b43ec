package declare

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"go.starlark.net/syntax"

	"kasbah/core/problem"
)

// replace puts a literal in place of an expression.
func (c *changer) replace(s spot, is any) error {
	from, to := s.expr.Span()
	return c.change(s.file, c.byteOf(from), c.byteOf(to), Literal(is))
}

// change notes a change of a file, unless it is not in the estate.
func (c *changer) change(file string, from, to int, text string) error {
	name := c.onDisk(file)
	if name == "" {
		return &DecidedError{Position: problem.Position{File: file}, What: "a kit that is not in the estate"}
	}
	c.out = append(c.out, Change{File: name, From: from, To: to, Text: text})
	return nil
}

// add adds an argument to the call that declares a resource.
func (c *changer) add(site *callSite, name, text string, wanted any) ([]Change, error) {
	pos, _ := c.r.Position()
	call := c.callAt(at0(c.r))
	if site == nil || call == nil {
		return nil, &DecidedError{Position: pos, What: "its declaration", Wanted: wanted}
	}
	return c.out, c.insert(site.file, call.Args, call.Lparen, call.Rparen, name, text)
}

func (c *changer) removeArgument(site *callSite, name string) ([]Change, error) {
	call := c.callAt(at0(c.r))
	if site != nil && call != nil {
		for i, a := range call.Args {
			if key, _, ok := entryOf(a); ok && key == name {
				return c.out, c.removeOf(site.file, call.Args, i)
			}
		}
	}
	pos, _ := c.r.At(name)
	return nil, &DecidedError{Position: pos, What: "it is given through **"}
}

// callAt is the call with an opening parenthesis there; nil for none.
func (c *changer) callAt(p place) *syntax.CallExpr {
	if f := c.parsed(p.file); f != nil {
		return f.calls[p]
	}
	return nil
}

// insert adds items behind those between two brackets, laid out as the last one is.
// key is that of what is added, where it has one.
func (c *changer) insert(file string, items []syntax.Expr, open, closing syntax.Position, key string,
	texts ...string) error {
	body := c.index.bodies[file]
	end := c.byteOf(closing)
	if len(items) == 0 {
		at := c.byteOf(open) + 1
		return c.keyed(file, at, key, strings.Join(texts, ", "))
	}
	first, to := items[len(items)-1].Span()
	last := c.byteOf(to)
	line := bytes.LastIndexByte(body[:end], '\n') + 1
	if line > last && len(bytes.TrimSpace(body[line:end])) == 0 { // the bracket is on a line of its own
		if !hasComma(body[last:end]) {
			if err := c.change(file, last, last, ","); err != nil {
				return err
			}
		}
		begin := c.byteOf(first)
		start := bytes.LastIndexByte(body[:begin], '\n') + 1
		indent := body[start : start+len(body[start:begin])-len(bytes.TrimLeft(body[start:begin], " \t"))]
		var b strings.Builder
		for _, t := range texts {
			b.WriteString(string(indent) + t + ",\n")
		}
		return c.keyed(file, line, key, b.String())
	}
	return c.keyed(file, last, key, ", "+strings.Join(texts, ", "))
}

// keyed notes that a text with a key is added.
func (c *changer) keyed(file string, at int, key, text string) error {
	err := c.change(file, at, at, text)
	if err == nil {
		c.out[len(c.out)-1].Key = key
	}
	return err
}

// hasComma reports whether a comma comes before anything but comments and space.
func hasComma(between []byte) bool {
	for len(between) > 0 {
		switch between[0] {
		case ',':
			return true
		case '#':
			i := bytes.IndexByte(between, '\n')
			if i < 0 {
				return false
			}
			between = between[i:]
			continue
		}
		between = between[1:]
	}
	return false
}

// removeOf takes an item out, with the comma and, where it is alone on its lines, these lines.
func (c *changer) removeOf(file string, items []syntax.Expr, i int) error {
	body := c.index.bodies[file]
	from, to := items[i].Span()
	start, end := c.byteOf(from), c.byteOf(to)
	if a, b, alone := aloneOnLines(body, start, end); alone {
		return c.change(file, a, b, "")
	}
	switch {
	case i+1 < len(items):
		next := c.byteOf(syntax.Start(items[i+1]))
		return c.change(file, start, next, "")
	case i > 0:
		_, before := items[i-1].Span()
		return c.change(file, c.byteOf(before), end, "")
	}
	for end < len(body) && (body[end] == ' ' || body[end] == ',') {
		end++
	}
	return c.change(file, start, end, "")
}

// aloneOnLines are the whole lines of an item, where nothing else but its comma and a comment
// is on them.
func aloneOnLines(body []byte, start, end int) (from, to int, alone bool) {
	from = bytes.LastIndexByte(body[:start], '\n') + 1
	if len(bytes.TrimSpace(body[from:start])) > 0 {
		return 0, 0, false
	}
	to = len(body)
	if i := bytes.IndexByte(body[end:], '\n'); i >= 0 {
		to = end + i + 1
	}
	rest := bytes.TrimSpace(bytes.TrimPrefix(bytes.TrimSpace(body[end:to]), []byte(",")))
	return from, to, len(rest) == 0 || rest[0] == '#'
}

// wholeLines are the lines of a statement, and one empty line before it that would be doubled.
func wholeLines(body []byte, start, end int) (from, to int) {
	from = bytes.LastIndexByte(body[:start], '\n') + 1
	to = len(body)
	if i := bytes.IndexByte(body[end:], '\n'); i >= 0 {
		to = end + i + 1
	}
	if bytes.HasSuffix(body[:from], []byte("\n\n")) && (to == len(body) || body[to] == '\n') {
		from--
	}
	return from, to
}

// byteOf is a position in a file as a place among its bytes: columns count characters.
func (c *changer) byteOf(p syntax.Position) int {
	file := p.Filename()
	body, f := c.index.bodies[file], c.parsed(file)
	if f == nil || int(p.Line) > len(f.lines) {
		return len(body)
	}
	at := f.lines[p.Line-1]
	for n := int32(1); n < p.Col && at < len(body); n++ {
		_, size := utf8.DecodeRune(body[at:])
		at += size
	}
	return at
}

// callee is the name of the function that is called, where it is a plain one.
func callee(e *syntax.CallExpr) (string, bool) {
	if e == nil {
		return "", false
	}
	id, ok := e.Fn.(*syntax.Ident)
	if !ok {
		return "", false
	}
	return id.Name, true
}

func isIdentifier(s string) bool {
	for i, c := range s {
		if c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return s != ""
}
