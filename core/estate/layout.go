package estate

import (
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"kasbah/core/problem"
)

// layout knows where each key of a TOML text is, so that mistakes name their place and one
// value can be replaced while everything else stays byte for byte.
type layout struct {
	file    string
	body    string
	entries map[string]entry // by dotted key; the first one where a table is written in parts
	order   []string         // the same keys, in the text's order
	tables  map[string]int   // how many tables each array has, by its name
}

// entry is where a key and its value are, as offsets of bytes. A table that has a header of its
// own has no value.
type entry struct {
	key        int
	value, end int
	text       string // of a value that is a text
	last       int    // end of the last element of a list; 0 for none
}

// newLayout reads a text. Of one that is not TOML it knows what comes before the mistake.
func newLayout(file, body string) *layout {
	l := &layout{file: file, body: body, entries: map[string]entry{}, tables: map[string]int{}}
	p := unstable.Parser{}
	p.Reset([]byte(body))
	section := ""
	for p.NextExpression() {
		switch n := p.Expression(); n.Kind {
		case unstable.Table, unstable.ArrayTable:
			key, at := dotted(n.Key())
			if section = key; n.Kind == unstable.ArrayTable {
				section = nth(key, l.tables[key])
				l.tables[key]++
			}
			l.set(section, entry{key: l.lineStart(at)})
		case unstable.KeyValue:
			l.keyValue(section, n)
		}
	}
	return l
}

// nth names a table of an array: step, step#1, step#2.
func nth(array string, i int) string {
	if i == 0 {
		return array
	}
	return fmt.Sprintf("%s#%d", array, i)
}

// plainKey is a key without the numbers of tables.
func plainKey(key string) string {
	parts := strings.Split(key, ".")
	for i, part := range parts {
		parts[i], _, _ = strings.Cut(part, "#")
	}
	return strings.Join(parts, ".")
}

// keyValue notes a key, and those of an inline table below it.
func (l *layout) keyValue(section string, n *unstable.Node) {
	key, at := dotted(n.Key())
	full := join(section, key)
	start, end := int(n.Raw.Offset), int(n.Raw.Offset+n.Raw.Length)
	e := entry{key: at, value: start + strings.IndexByte(l.body[start:end], '=') + 1, end: end}
	for _, part := range keyParts(n.Key()) { // a quoted key may hold the sign
		e.value = max(e.value, part+strings.IndexByte(l.body[part:end], '=')+1)
	}
	for e.value < end && (l.body[e.value] == ' ' || l.body[e.value] == '\t') {
		e.value++
	}
	v := n.Value()
	switch v.Kind {
	case unstable.String:
		e.text = string(v.Data)
	case unstable.Array:
		for it := v.Children(); it.Next(); {
			if r := it.Node().Raw; r.Length > 0 {
				e.last = int(r.Offset + r.Length)
			}
		}
	}
	l.set(full, e)
	if v.Kind == unstable.InlineTable {
		for it := v.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				l.keyValue(full, it.Node())
			}
		}
	}
}

func (l *layout) set(key string, e entry) {
	if _, ok := l.entries[key]; !ok {
		l.entries[key] = e
		l.order = append(l.order, key)
	}
}

// dotted is a key's parts joined by dots, and where the first one is.
func dotted(it unstable.Iterator) (key string, at int) {
	at = -1
	for it.Next() {
		if at < 0 {
			at = int(it.Node().Raw.Offset)
		}
		key = join(key, string(it.Node().Data))
	}
	return key, max(at, 0)
}

// keyParts are the ends of a key's parts.
func keyParts(it unstable.Iterator) (ends []int) {
	for it.Next() {
		ends = append(ends, int(it.Node().Raw.Offset+it.Node().Raw.Length))
	}
	return ends
}

// lineStart is the first place of a line that holds text.
func (l *layout) lineStart(at int) int {
	start := strings.LastIndexByte(l.body[:at], '\n') + 1
	return start + len(l.body[start:]) - len(strings.TrimLeft(l.body[start:], " \t"))
}

// place is an offset as a position.
func (l *layout) place(at int) problem.Position {
	before := l.body[:at]
	return problem.Position{File: l.file, Line: 1 + strings.Count(before, "\n"),
		Column: at - strings.LastIndexByte(before, '\n')}
}

// position is where a dotted key is; else the first key below it, or the nearest one above it.
func (l *layout) position(key string) problem.Position {
	if _, ok := l.entries[key]; !ok {
		if e, ok := l.find(func(k string, _ entry) bool { return strings.HasPrefix(k, key+".") }); ok {
			return l.place(e.key)
		}
	}
	for {
		if e, ok := l.entries[key]; ok {
			return l.place(e.key)
		}
		dot := strings.LastIndexByte(key, '.')
		if dot < 0 {
			return problem.Position{File: l.file, Line: 1, Column: 1}
		}
		key = key[:dot]
	}
}

// replaced is the text with another value for a key.
func (l *layout) replaced(e entry, value string) string {
	return l.body[:e.value] + value + l.body[e.end:]
}

// appended is the text with one more element in a list, laid out as its last one is.
func (l *layout) appended(e entry, element string) string {
	if e.last == 0 {
		return l.replaced(e, "["+element+"]")
	}
	between := ", "
	if line := strings.LastIndexByte(l.body[:e.last], '\n') + 1; line > e.value {
		between = ",\n" + l.body[line:l.lineStart(e.last)]
	}
	return l.body[:e.last] + between + element + l.body[e.last:]
}

// after is the text with another line behind that of a key, indented as that.
func (l *layout) after(e entry, line string) string {
	start := strings.LastIndexByte(l.body[:e.key], '\n') + 1
	end := len(l.body)
	if i := strings.IndexByte(l.body[e.end:], '\n'); i >= 0 {
		end = e.end + i
	}
	return l.body[:end] + "\n" + l.body[start:e.key] + line + l.body[end:]
}

// find is the first key that fits.
func (l *layout) find(fits func(key string, e entry) bool) (entry, bool) {
	i := slices.IndexFunc(l.order, func(key string) bool { return fits(key, l.entries[key]) })
	if i < 0 {
		return entry{}, false
	}
	return l.entries[l.order[i]], true
}

// KeyPositions finds where the keys of a TOML text are: the dotted key, or the nearest one
// above it.
func KeyPositions(file, body string) func(key string) problem.Position {
	return newLayout(file, body).position
}

// KeyPlace is a key in the text of kasbah.toml, with offsets of bytes.
type KeyPlace struct {
	Key        string // with its section
	From       int    // where it begins
	Value, End int    // of its value; both 0 for a section
}

// KeyPlaces are the keys of a text, in its order. Of one that is not TOML, those before the mistake.
func KeyPlaces(body string) []KeyPlace {
	l := newLayout(File, body)
	var out []KeyPlace
	for _, key := range l.order {
		e := l.entries[key]
		p := KeyPlace{Key: plainKey(key), From: e.key, Value: e.value, End: e.end}
		for p.Value < p.End && (body[p.Value] == ' ' || body[p.Value] == '\t') {
			p.Value++
		}
		out = append(out, p)
	}
	return out
}
