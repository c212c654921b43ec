package code

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// healed is the text with the statements that cannot be parsed blanked out.
func (f *File) healed() []byte {
	out := bytes.Clone(f.Body)
	if bytes.HasPrefix(out, []byte("\ufeff")) {
		copy(out, "   ")
	}
	for _, c := range f.chunks() {
		if _, err := options.Parse(f.Name, out[c.From:c.To], 0); err != nil {
			f.healChunk(out, c)
		}
	}
	return out
}

// healChunk blanks out a statement that cannot be parsed. Of a function or loop whose head is right, it is
// only those statements of the body that cannot be.
func (f *File) healChunk(out []byte, c Span) {
	first, _ := f.Line(c.From)
	last, _ := f.Line(max(c.From, c.To-1))
	head := first
	for head <= last && !strings.HasSuffix(strings.TrimSpace(string(out[f.lines[head]:f.LineStart(head+1)])), ":") {
		head++
	}
	indent := ""
	if head < last {
		indent = f.Indent(head + 1)
	}
	if indent == "" {
		blank(out, c)
		return
	}
	opening := out[c.From:f.LineStart(head+1)]
	healed := false
	for n := head + 1; n <= last; {
		end := n + 1 // of a statement of the body
		for end <= last && !f.beginsAt(end, indent) {
			end++
		}
		part := Span{f.lines[n], min(c.To, f.LineStart(end))}
		alone := append(bytes.Clone(opening), out[part.From:part.To]...)
		if _, err := options.Parse(f.Name, alone, 0); err != nil {
			blank(out, part)
			if at := part.From + len(indent); at+len("pass") < part.To && bytes.IndexByte(out[at:at+len("pass")], '\n') < 0 {
				copy(out[at:], "pass")
			}
			healed = true
		}
		n = end
	}
	if _, err := options.Parse(f.Name, out[c.From:c.To], 0); err != nil || !healed {
		blank(out, c)
	}
}

// beginsAt reports whether a statement of a body with some indentation seems to begin on a line.
func (f *File) beginsAt(line int, indent string) bool {
	rest := strings.TrimPrefix(string(f.Body[f.lines[line]:f.LineStart(line+1)]), indent)
	return f.Indent(line) == indent && len(rest) > 0 && (isWord(rest[0]) || rest[0] >= utf8.RuneSelf) &&
		!strings.HasPrefix(rest, "else") && !strings.HasPrefix(rest, "elif")
}

func blank(out []byte, s Span) {
	for i := s.From; i < s.To; i++ {
		if out[i] != '\n' {
			out[i] = ' '
		}
	}
}

// chunks are the statements at the top as they look: each begins with a word at the start of a line.
func (f *File) chunks() []Span {
	var out []Span
	from := 0
	for i := 1; i < len(f.lines); i++ {
		if f.begins(i) {
			out = append(out, Span{from, f.lines[i]})
			from = f.lines[i]
		}
	}
	return append(out, Span{from, len(f.Body)})
}

// begins reports whether a statement at the top seems to begin on a line, counted from 0.
func (f *File) begins(line int) bool {
	rest := f.Body[f.lines[line]:]
	if len(rest) == 0 || !isWord(rest[0]) && rest[0] < utf8.RuneSelf {
		return false
	}
	return !bytes.HasPrefix(rest, []byte("else")) && !bytes.HasPrefix(rest, []byte("elif"))
}
