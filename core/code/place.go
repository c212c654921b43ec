package code

import (
	"sort"
	"strings"
)

// Place is where a person types: the word there, and what stands around it.
type Place struct {
	Word    Span   // that is typed; inside the quotes of a text
	Typed   string // of the word, before the place
	Text    bool   // the word is a text
	Open    bool   // the text has no end yet
	Comment bool
	Before  string // what stands before the dot that the word follows, such as `medina`; "" without a dot
	Dotted  bool
	Calls   []Call // around the place, innermost first
	Begins  bool   // a statement begins with the word
	After   string // the word or sign before the place
}

// Call is a call around a place.
type Call struct {
	Fn     string // as it is written, `medina.machine`; "" for a list, a map, or parentheses without a name
	Open   byte   // the bracket
	At     int    // the offset of the bracket
	Arg    int    // which argument the place is in, from 0
	Name   string // of that argument, where it is given by name
	Key    string // in a map: the key whose value the place is in
	Value  bool   // behind a name or a key
	Given  []string
	Named  bool // the argument before it has a name: only those with names can follow
	Others int  // arguments without a name
	First  string
	Def    bool // it holds the parameters of a function
}

// Place finds out what stands around an offset. It works on the words alone, so the text may be wrong.
func (f *File) Place(at int) Place {
	p := Place{Word: Span{at, at}, Begins: true}
	n := sort.Search(len(f.tokens), func(i int) bool { return f.tokens[i].From >= at })
	var stack []Call
	var dots []string // per open bracket and at the top: the expression that was read last
	last := ""
	end := n
	if n > 0 {
		t := f.tokens[n-1]
		inside := t.To > at || t.To == at && (t.kind == word || t.kind == number || t.kind == comment || t.kind == text && t.open)
		if inside {
			end = n - 1
			switch t.kind {
			case comment:
				p.Comment = true
				return p
			case word, number:
				p.Word, p.Typed = t.Span, string(f.Body[t.From:at])
			case text:
				in := f.inside(t)
				if at < in.From {
					return p
				}
				p.Text, p.Open, p.Word = true, t.open, in
				p.Typed = string(f.Body[in.From:max(in.From, min(at, in.To))])
				if at > in.To { // between the quotes at the end
					return p
				}
			}
		}
	}
	if end == n && n < len(f.tokens) && f.tokens[n].From == at && (f.tokens[n].kind == word) {
		p.Word = f.tokens[n].Span // the place is at the start of a word
	}
	begins, defines := true, false
	expr := "" // the dotted expression before the place
	for i := 0; i < end; i++ {
		t := f.tokens[i]
		s := string(f.Body[t.From:t.To])
		switch t.kind {
		case comment:
			continue
		case newline:
			if len(stack) == 0 {
				begins, defines, expr, last = true, false, "", ""
			}
			continue
		}
		if t.top && len(stack) > 0 && t.kind == word { // a bracket above was never closed
			stack, dots, expr = nil, nil, ""
		}
		begins = false
		switch {
		case s == "(" || s == "[" || s == "{":
			stack = append(stack, Call{Open: s[0], At: t.From})
			c := &stack[len(stack)-1]
			if s == "(" {
				c.Fn, c.Def = strings.TrimSuffix(expr, "."), defines
			}
			defines = false
			dots = append(dots, expr)
			expr = ""
		case s == ")" || s == "]" || s == "}":
			if len(stack) > 0 {
				from := stack[len(stack)-1].At
				before := dots[len(dots)-1]
				stack, dots = stack[:len(stack)-1], dots[:len(dots)-1]
				expr = ""
				if before != "" {
					expr = before + string(f.Body[from:t.To])
				}
			} else {
				expr = ""
			}
		case s == ",":
			if len(stack) > 0 {
				c := &stack[len(stack)-1]
				c.Arg++
				if c.Name != "" && c.Open != '{' {
					c.Named = true
				}
				c.Name, c.Key, c.Value = "", "", false
			}
			expr = ""
		case s == "=" || s == ":":
			if len(stack) > 0 {
				c := &stack[len(stack)-1]
				if s == "=" && c.Open == '(' && c.Name == "" && last != "" {
					c.Name, c.Value = last, true
					c.Given = append(c.Given, last)
				}
				if s == ":" && c.Open == '{' && c.Key == "" {
					c.Key, c.Value = strings.Trim(last, "\"'"), true
					c.Given = append(c.Given, c.Key)
				}
			}
			expr = ""
		case s == ".":
			if expr != "" {
				expr += "."
			}
		case t.kind == word:
			defines = defines || s == "def"
			if strings.HasSuffix(expr, ".") {
				expr += s
			} else {
				expr = s
			}
		case t.kind == text:
			if len(stack) > 0 {
				if c := &stack[len(stack)-1]; c.Arg == 0 && c.Open == '(' && c.First == "" {
					c.First = s
				}
			}
			expr = s
		default:
			expr = ""
		}
		last = s
	}
	p.Begins, p.After = begins, last
	if strings.HasSuffix(expr, ".") && !p.Text {
		p.Dotted, p.Before = true, strings.TrimSuffix(expr, ".")
	} else if last == "." {
		p.Dotted = true
	}
	if len(stack) > 0 {
		f.ahead(&stack[len(stack)-1], at)
	}
	for i := len(stack) - 1; i >= 0; i-- {
		p.Calls = append(p.Calls, stack[i])
	}
	return p
}

// ahead adds the names of the arguments that follow a place in the call around it.
func (f *File) ahead(c *Call, at int) {
	i := sort.Search(len(f.tokens), func(i int) bool { return f.tokens[i].From >= at })
	depth, last := 0, ""
	for ; i < len(f.tokens); i++ {
		t := f.tokens[i]
		s := string(f.Body[t.From:t.To])
		if t.kind == comment || t.kind == newline {
			continue
		}
		if t.top && t.kind == word {
			return
		}
		switch s {
		case "(", "[", "{":
			depth++
		case ")", "]", "}":
			if depth--; depth < 0 {
				return
			}
		case "=", ":":
			if depth == 0 && last != "" {
				c.Given = append(c.Given, strings.Trim(last, "\"'"))
			}
		}
		last = s
	}
}

// inside is a text without its quotes.
func (f *File) inside(t token) Span {
	s := t.Span
	for s.From < s.To && f.Body[s.From] != '"' && f.Body[s.From] != '\'' {
		s.From++
	}
	n := 1
	if t.long {
		n = 3
	}
	s.From += n
	if !t.open {
		s.To -= n
	}
	return s
}

type tokenKind int

const (
	word tokenKind = iota
	number
	text
	comment
	newline
	sign
)

type token struct {
	Span
	kind tokenKind
	top  bool // it begins a line
	open bool // a text without an end
	long bool // a text in three quotes
}

// scan splits a text into words and signs.
func scan(body []byte) []token {
	var out []token
	for i := 0; i < len(body); {
		b := body[i]
		t := token{Span: Span{i, i + 1}, kind: sign, top: i == 0 || body[i-1] == '\n'}
		switch {
		case b == '\n':
			t.kind = newline
		case b == ' ' || b == '\t' || b == '\r':
			i++
			continue
		case b == '\\' && i+1 < len(body) && body[i+1] == '\n':
			i += 2
			continue
		case b == '#':
			t.kind = comment
			for t.To < len(body) && body[t.To] != '\n' {
				t.To++
			}
		case b == '"' || b == '\'':
			t.readText(body, i)
		case (b == 'r' || b == 'b') && quoteAt(body, i+1):
			t.readText(body, i+1)
		case b == 'r' && i+1 < len(body) && body[i+1] == 'b' && quoteAt(body, i+2):
			t.readText(body, i+2)
		case b >= '0' && b <= '9':
			t.kind = number
			for t.To < len(body) && (isWord(body[t.To]) || body[t.To] == '.') {
				t.To++
			}
		case isWord(b) || b >= 0x80:
			t.kind = word
			for t.To < len(body) && (isWord(body[t.To]) || body[t.To] >= 0x80) {
				t.To++
			}
		default:
			if t.To < len(body) && body[t.To] == '=' && strings.IndexByte("=!<>+-*/%|&^", b) >= 0 {
				t.To++
			}
		}
		out = append(out, t)
		i = t.To
	}
	return out
}

func quoteAt(body []byte, i int) bool { return i < len(body) && (body[i] == '"' || body[i] == '\'') }

// readText reads a text whose first quote is at an offset.
func (t *token) readText(body []byte, at int) {
	t.kind = text
	q := body[at]
	t.long = at+2 < len(body) && body[at+1] == q && body[at+2] == q
	i := at + 1
	if t.long {
		i = at + 3
	}
	for ; i < len(body); i++ {
		switch {
		case body[i] == '\\' && i+1 < len(body):
			i++
		case body[i] == '\n' && !t.long:
			t.To, t.open = i, true
			return
		case body[i] == q && !t.long:
			t.To = i + 1
			return
		case body[i] == q && t.long && i+2 < len(body) && body[i+1] == q && body[i+2] == q:
			t.To = i + 3
			return
		}
	}
	t.To, t.open = len(body), true
}

func isWord(b byte) bool {
	return b == '_' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9'
}
