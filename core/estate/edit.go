package estate

import (
	"slices"
	"strconv"
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/problem"
	"kasbah/core/value"
)

// WithWard adds a ward to the list in the text of a kasbah.toml and leaves everything else as
// it is.
func WithWard(body, ward string) (string, error) {
	l := newLayout(File, body)
	e, ok := l.entries["wards"]
	after := body
	if ok {
		after = l.appended(e, strconv.Quote(ward))
	}
	var is struct{ Wards []string }
	if err := toml.Unmarshal([]byte(after), &is); err != nil || !slices.Contains(is.Wards, ward) {
		return "", problem.At(l.position("wards"), "the list of wards cannot be changed safely; add %q to it by hand",
			ward)
	}
	return after, nil
}

// WithLedgerList changes a list of texts under [ledger] in the text of a kasbah.toml and
// leaves everything else as it is. One that is not there yet is written behind estate_key.
func WithLedgerList(body, key string, list []string) (string, error) {
	var quoted []string
	for _, r := range list {
		quoted = append(quoted, strconv.Quote(r))
	}
	text := "[" + strings.Join(quoted, ", ") + "]"
	if len(list) > 1 {
		text = "[\n  " + strings.Join(quoted, ",\n  ") + ",\n]"
	}
	return withLedger(body, key, text, func(is any) bool { return slices.Equal(texts(is), list) })
}

// WithLedgerText is WithLedgerList for a text.
func WithLedgerText(body, key, text string) (string, error) {
	return withLedger(body, key, strconv.Quote(text), func(is any) bool { return is == text })
}

func withLedger(body, key, text string, holds func(any) bool) (string, error) {
	l := newLayout(File, body)
	after := body
	if e, ok := l.entries["ledger."+key]; ok {
		after = l.replaced(e, text)
	} else if e, ok := l.entries["ledger.estate_key"]; ok {
		after = l.after(e, key+" = "+text)
	}
	var is struct{ Ledger map[string]any }
	if err := toml.Unmarshal([]byte(after), &is); err != nil || !holds(is.Ledger[key]) {
		return "", problem.At(l.position("ledger."+key), "%s under [ledger] cannot be changed safely; write %s = %s "+
			"there by hand",
			key, key, strings.Join(strings.Fields(text), " "))
	}
	return after, nil
}

// WithTag changes the tag of a kit's source in the text of the kasbah.toml that it was read
// from, and leaves everything else as it is.
func WithTag(body string, from KitSource, tag string) (string, error) {
	l := newLayout(File, body)
	e, ok := l.find(func(key string, e entry) bool {
		source, isTag := strings.CutSuffix(key, ".tag")
		return isTag && e.text == from.Tag && l.position(source).Line == from.Position.Line &&
			strings.HasSuffix(source, join("kits", from.Name))
	})
	if !ok {
		return "", problem.At(from.Position, "the tag %q of kit %s is not written here as a text; change it to %q by "+
			"hand",
			from.Tag, from.Name, tag)
	}
	quote := strconv.Quote(tag)
	if l.body[e.value] == '\'' && !strings.Contains(tag, "'") {
		quote = "'" + tag + "'"
	}
	return l.replaced(e, quote), nil
}

// Encode is a setting as TOML, on one line.
func Encode(v any) string {
	switch v := v.(type) {
	case string:
		return quoted(v)
	case []any:
		var all []string
		for _, x := range v {
			all = append(all, Encode(x))
		}
		return "[" + strings.Join(all, ", ") + "]"
	case map[string]any:
		var all []string
		for _, k := range value.Keys(v) {
			all = append(all, keyText(k)+" = "+Encode(v[k]))
		}
		return "{ " + strings.Join(all, ", ") + " }"
	}
	return value.Plain(v)
}
