// Package problem is the one form in which Kasbah reports what is wrong with
// somebody's files, values or cloud: a position, an address, a path, a plain
// sentence and a hint.
package problem

import (
	"errors"
	"fmt"
	"sort"
	"strings"
)

// Position is a place in a file. Line and Column count from 1; 0 is unknown.
// File is relative to the estate.
type Position struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// String is `file:line:column`, without what is unknown.
func (p Position) String() string {
	switch {
	case p.File == "":
		return ""
	case p.Line == 0:
		return p.File
	case p.Column == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Short is `file:line`.
func (p Position) Short() string {
	p.Column = 0
	return p.String()
}

// Level is how much a problem weighs.
type Level string

const (
	Wrong   Level = "error"   // the command cannot go on
	Warning Level = "warning" // worth a look
	Note    Level = "note"    // belongs to another problem, such as a part not checked
)

// Standing is how a house rule stands to what it judged, where it is not
// simply broken.
type Standing string

const (
	Undecided Standing = "undecided"
	Excused   Standing = "excused"
)

// Problem is one thing wrong. It is an error.
type Problem struct {
	Level    Level    `json:"level"`
	Position          // file, line and column
	Ward     string   `json:"ward"`
	Address  string   `json:"address"` // without its ward
	Path     string   `json:"path"`    // of the attribute, below the address
	Message  string   `json:"message"`
	Hint     string   `json:"hint"`
	Via      []string `json:"-"`              // further places on the way, as `by FILE:LINE`
	Rule     string   `json:"rule,omitempty"` // the house rule that says so; "" for everything else
	Standing Standing `json:"-"`              // of a house rule
}

// Error is the problem on one line, without its hint.
func (p *Problem) Error() string {
	var b strings.Builder
	if s := p.Position.String(); s != "" {
		b.WriteString(s + ": ")
	}
	if p.Address != "" {
		b.WriteString(p.Address + ": ")
	}
	b.WriteString(p.Message)
	return b.String()
}

// At makes a problem with a position.
func At(pos Position, format string, args ...any) *Problem {
	return &Problem{Level: Wrong, Position: pos, Message: fmt.Sprintf(format, args...)}
}

// List is several problems reported together. It is an error when it holds
// one that is wrong.
type List []*Problem

// Error is every problem on a line of its own.
func (l List) Error() string {
	lines := make([]string, len(l))
	for i, p := range l {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// Add appends what err holds: problems as they are, other errors as problems
// without a position.
func (l *List) Add(err error) {
	if err == nil {
		return
	}
	var list List
	var one *Problem
	switch {
	case errors.As(err, &list):
		*l = append(*l, list...)
	case errors.As(err, &one):
		*l = append(*l, one)
	default:
		*l = append(*l, &Problem{Level: Wrong, Message: err.Error()})
	}
}

// Err is the list as an error when something in it is wrong, else nil.
func (l List) Err() error {
	if l.Wrong() == 0 {
		return nil
	}
	return l
}

// Wrong counts the problems that stop a command.
func (l List) Wrong() int {
	n := 0
	for _, p := range l {
		if p.Level == Wrong {
			n++
		}
	}
	return n
}

// Sort orders the problems by file, line and column, and drops exact doubles.
func (l *List) Sort() {
	sort.SliceStable(*l, func(i, j int) bool {
		a, b := (*l)[i].Position, (*l)[j].Position
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
	seen := map[string]bool{}
	kept := (*l)[:0]
	for _, p := range *l {
		if key := p.Error(); !seen[key] {
			seen[key] = true
			kept = append(kept, p)
		}
	}
	*l = kept
}
