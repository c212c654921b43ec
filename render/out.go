// Package render turns results into what people and programs read. It
// computes nothing and decides nothing.
package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/muesli/termenv"
)

// Out is where text goes: how wide it may be and which colours it has.
type Out struct {
	W       io.Writer
	Width   int // columns
	profile termenv.Profile
}

// NewOut writes text of some width; profile termenv.Ascii means no colours.
func NewOut(w io.Writer, width int, profile termenv.Profile) *Out {
	return &Out{W: w, Width: width, profile: profile}
}

// Colour is a colour of the Okabe-Ito palette, which people with any kind of
// colour vision tell apart.
type Colour string

const (
	Blue      Colour = "#0072B2"
	orange    Colour = "#E69F00"
	purple    Colour = "#CC79A7"
	vermilion Colour = "#D55E00"
	green     Colour = "#009E73"
	Grey      Colour = "#808080"
)

// actionColours colours the action words.
var actionColours = map[string]Colour{"new": Blue, "edit": orange, "swap": purple, "drop": vermilion, "adopt": green}

// Action colours an action's word.
func (o *Out) Action(word, text string) string {
	c, ok := actionColours[word]
	if !ok {
		c = Grey
	}
	return o.Paint(c, text)
}

// Paint colours a text.
func (o *Out) Paint(c Colour, s string) string {
	return control(termenv.String(s).Foreground(o.profile.Color(string(c))).String())
}

// Bold makes a text bold, where colours are on.
func (o *Out) Bold(s string) string {
	if o.profile == termenv.Ascii {
		return s
	}
	return control(termenv.String(s).Bold().String())
}

// Printf writes formatted text. Failures to write show at the end of the
// command, when standard output is closed.
func (o *Out) Printf(format string, args ...any) { fmt.Fprintf(o.W, format, args...) }

// Clean makes one line of a text from outside, in which no character hides or changes how
// others are shown.
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return ' '
		}
		if hidden(r) {
			return '\ufffd'
		}
		return r
	}, s)
}

// pad fills a text up to some columns.
func pad(s string, columns int) string {
	if w := runewidth.StringWidth(s); w < columns {
		return s + strings.Repeat(" ", columns-w)
	}
	return s
}

// Fit cuts a text to some columns, the cut marked.
func Fit(s string, columns int) string {
	if columns < 1 {
		columns = 1
	}
	return runewidth.Truncate(s, columns, "…")
}

func width(s string) int { return runewidth.StringWidth(s) }

// Wrap breaks a text at spaces so that no line takes more than columns; lines
// after the first begin with indent, which does not count. A command in backquotes
// stays on one line, so that it can be copied, where it has room on one.
func Wrap(s string, columns int, indent string) string {
	var b strings.Builder
	at := 0
	for i, word := range pieces(s, columns) {
		w := width(word)
		switch {
		case i == 0:
		case at+1+w > columns:
			b.WriteString("\n" + indent)
			at = 0
		default:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += w
	}
	return b.String()
}

// pieces are the words of a text, and what is in backquotes as one of them.
func pieces(s string, columns int) []string {
	var out []string
	open := false
	for _, word := range strings.Fields(s) {
		if last := len(out) - 1; open && width(out[last])+1+width(word) <= columns {
			out[last] += " " + word
		} else {
			out = append(out, word)
		}
		open = open != (strings.Count(word, "`")%2 == 1)
	}
	return out
}

// Table writes rows of cells as aligned columns. The last column is cut to
// the width. Cells must not be coloured.
func (o *Out) Table(rows [][]string, paint func(row, column int, cell string) string) {
	o.table(rows, paint, cut)
}

// cut makes the last cell of a row as short as its room.
func cut(cell string, room, _ int) string { return Fit(cell, room) }

// Sheet is Table with the last column wrapped instead of cut.
func (o *Out) Sheet(rows [][]string) {
	o.table(rows, nil, func(cell string, room, at int) string { return Wrap(cell, room, strings.Repeat(" ", at)) })
}

func (o *Out) table(rows [][]string, paint func(row, column int, cell string) string, last lastCell) {
	var widths []int
	for _, r := range rows {
		widths = widest(widths, r)
	}
	for n, r := range rows {
		var painted func(column int, cell string) string
		if paint != nil {
			painted = func(column int, cell string) string { return paint(n, column, cell) }
		}
		o.row(r, widths, painted, last)
	}
}

// widest are the widths of columns once there is room for a row more.
func widest(widths []int, row []string) []int {
	for i, c := range row {
		if i == len(widths) {
			widths = append(widths, 0)
		}
		widths[i] = max(widths[i], width(c))
	}
	return widths
}

// lastCell fits the last cell of a row, which begins at a column, into its room.
type lastCell func(cell string, room, at int) string

func (o *Out) row(cells []string, widths []int, paint func(column int, cell string) string, last lastCell) {
	left := o.Width
	var line strings.Builder
	for i, c := range cells {
		cell := c
		if i < len(cells)-1 {
			cell = pad(c, widths[i]) + "  "
		} else {
			cell = last(c, max(12, left), o.Width-left)
		}
		left -= width(cell)
		if paint != nil {
			cell = paint(i, cell)
		}
		line.WriteString(cell)
	}
	o.Printf("%s\n", strings.TrimRight(line.String(), " "))
}

// Count writes a number with its noun: `1 resource`, `3 resources`.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// asText is what draw writes, without colours and as wide as a page.
func asText(draw func(*Out)) []byte {
	var b bytes.Buffer
	draw(NewOut(&b, 100, termenv.Ascii))
	return Visible(b.Bytes())
}

// asJSON is a document as JSON, on several lines.
func asJSON(doc any) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	err := enc.Encode(doc)
	return Escaped(b.Bytes()), err
}

// File writes the text of a file under its name.
func (o *Out) File(name, text string) {
	o.Printf("%s\n\n", o.Paint(Grey, name))
	for _, line := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		o.Printf("    %s\n", line)
	}
}
