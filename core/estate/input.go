package estate

import (
	"fmt"
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/form"
	"kasbah/core/problem"
	"kasbah/core/value"
)

var bareKey = form.Of(`^[A-Za-z0-9_-]+$`)

// quoted is a text as TOML's basic strings are written.
func quoted(s string) string {
	return strings.ReplaceAll(string(value.AppendText(nil, s)), "\x7f", `\u007f`)
}

// keyText is a key as TOML takes it back.
func keyText(k string) string {
	if bareKey().MatchString(k) {
		return k
	}
	return quoted(k)
}

// WithInput gives an input another value in the text of a kasbah.toml and leaves everything else
// as it is: in a section such as env.trial.inputs, where it is given or is to be given.
func WithInput(body, section, name string, v any) (string, error) {
	l := newLayout(File, body)
	wrong := func() error {
		return problem.At(l.position(join(section, name)), "the input %s cannot be changed safely; write %s = %s under "+
			"[%s] by hand", name, keyText(name), Encode(v), section)
	}
	was, there := at(body, section, name)
	after, ok := body, true
	switch e, header := l.entries[section]; {
	case there:
		after, ok = l.become(join(section, name), was, v)
	case header && e.end == 0: // it has a header of its own
		at := len(l.body)
		if i := strings.IndexByte(l.body[e.key:], '\n'); i >= 0 {
			at = e.key + i + 1
		}
		line := keyText(name) + " = " + Encode(v) + "\n"
		if at == len(l.body) && !strings.HasSuffix(l.body, "\n") {
			line = "\n" + line
		}
		after = l.body[:at] + line + l.body[at:]
	case header:
		ok = false
	default:
		after = strings.TrimRight(l.body, "\n") + fmt.Sprintf("\n\n[%s]\n%s = %s\n", section, keyText(name), Encode(v))
	}
	if is, there := at(after, section, name); !ok || !there || !value.Equal(is, v) {
		return "", wrong()
	}
	return after, nil
}

// become is the text in which the value of a key is another one. Of a map only what differs is
// touched.
func (l *layout) become(key string, was, is any) (string, bool) {
	a, ok1 := was.(map[string]any)
	b, ok2 := is.(map[string]any)
	if ok1 && ok2 && len(a) == len(b) {
		body, changed := l.body, true
		for _, k := range value.Keys(b) {
			if _, there := a[k]; !there {
				changed = false
				break
			}
			if value.Equal(a[k], b[k]) {
				continue
			}
			next, ok := newLayout(l.file, body).become(join(key, k), a[k], b[k])
			if !ok {
				changed = false
				break
			}
			body = next
		}
		if changed {
			return body, true
		}
	}
	e, ok := l.entries[key]
	if !ok || e.end == 0 {
		return "", false
	}
	return l.replaced(e, Encode(is)), true
}

// at is the value of a key in a section of a TOML text.
func at(body, section, name string) (any, bool) {
	var raw map[string]any
	if err := toml.Unmarshal([]byte(body), &raw); err != nil {
		return nil, false
	}
	for _, part := range strings.Split(section, ".") {
		next, ok := raw[part].(map[string]any)
		if !ok {
			return nil, false
		}
		raw = next
	}
	v, ok := raw[name]
	if !ok {
		return nil, false
	}
	is, err := value.Normal(v)
	return is, err == nil
}
