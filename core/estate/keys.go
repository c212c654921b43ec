package estate

import (
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/problem"
)

// keyFile finds the line of a key in the text of a TOML file. The decoder
// does not keep positions of keys, so this walks the lines: a section header
// sets where we are, and `a.b = …` is the key a.b below it. Inline tables and
// lists over several lines are found by the line that opens them.
type keyFile struct {
	file  string
	lines map[string]problem.Position
}

func newKeyFile(file, body string) *keyFile {
	f := &keyFile{file: file, lines: map[string]problem.Position{}}
	section := ""
	for i, line := range strings.Split(body, "\n") {
		text := strings.TrimSpace(line)
		column := strings.Index(line, text) + 1
		if strings.HasPrefix(text, "[") {
			if end := strings.IndexByte(text, ']'); end > 0 && !strings.Contains(text[:end], "\"") ||
				strings.HasSuffix(text, "]") {
				header := strings.Trim(strings.SplitN(text, "]", 2)[0], "[ ]")
				section = strings.ReplaceAll(header, " ", "")
				f.set(section, i+1, column)
				continue
			}
		}
		eq := strings.IndexByte(text, '=')
		if eq <= 0 || strings.HasPrefix(text, "#") {
			continue
		}
		key := strings.ReplaceAll(strings.TrimSpace(text[:eq]), " ", "")
		f.set(join(section, strings.Trim(key, `"'`)), i+1, column)
		// the keys of a table on one line
		var inline map[string]any
		if strings.HasPrefix(strings.TrimSpace(text[eq+1:]), "{") && toml.Unmarshal([]byte("k ="+text[eq+1:]),
			&inline) == nil {
			if t, ok := inline["k"].(map[string]any); ok {
				for k := range t {
					at := strings.Index(line, k)
					f.set(join(section, key)+"."+k, i+1, max(at+1, column))
				}
			}
		}
	}
	return f
}

func (f *keyFile) set(key string, line, column int) {
	if _, ok := f.lines[key]; !ok {
		f.lines[key] = problem.Position{File: f.file, Line: line, Column: column}
	}
}

// KeyPositions finds where the keys of a TOML text stand: the dotted key, or the
// nearest one above it.
func KeyPositions(file, body string) func(key string) problem.Position {
	return newKeyFile(file, body).position
}

// position is where a dotted key stands, or the nearest key above it.
func (f *keyFile) position(key string) problem.Position {
	for {
		if p, ok := f.lines[key]; ok {
			return p
		}
		dot := strings.LastIndexByte(key, '.')
		if dot < 0 {
			return problem.Position{File: f.file, Line: 1, Column: 1}
		}
		key = key[:dot]
	}
}
