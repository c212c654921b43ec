package estate

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/BurntSushi/toml"

	"kasbah/core/problem"
)

var wardsList = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?m)^(\s*wards\s*=\s*\[[^\]]*?)(,?\s*)\]`) })

// WithWard adds a ward to the list in the text of a kasbah.toml and leaves
// everything else as it stands.
func WithWard(body, ward string) (string, error) {
	after := wardsList().ReplaceAllString(body, "${1}, "+strconv.Quote(ward)+"${2}]")
	var is struct{ Wards []string }
	// a comment at its end, perhaps
	if err := toml.Unmarshal([]byte(after), &is); err != nil || !slices.Contains(is.Wards, ward) {
		return "", problem.At(KeyPositions(File, body)("wards"), "the list of wards cannot be changed safely; add %q "+
			"to it by hand", ward)
	}
	return after, nil
}

// WithLedgerList changes a list of texts under [ledger] in the text of a kasbah.toml and
// leaves everything else as it stands. One that is not there yet is written behind
// estate_key.
func WithLedgerList(body, key string, list []string) (string, error) {
	var quoted []string
	for _, r := range list {
		quoted = append(quoted, strconv.Quote(r))
	}
	text := "[" + strings.Join(quoted, ", ") + "]"
	if len(list) > 1 {
		text = "[\n  " + strings.Join(quoted, ",\n  ") + ",\n]"
	}
	return withLedger(body, key, `\[.*?\]`, text, func(is any) bool { return slices.Equal(texts(is), list) })
}

// WithLedgerText is WithLedgerList for a text.
func WithLedgerText(body, key, text string) (string, error) {
	return withLedger(body, key, `"[^"]*"`, strconv.Quote(text), func(is any) bool { return is == text })
}

func withLedger(body, key, form, text string, holds func(any) bool) (string, error) {
	at := regexp.MustCompile(`(?ms)^(\s*` + key + `\s*=\s*)` + form)
	after := strings.ReplaceAll(text, "$", "$$")
	switch found := at.FindAllStringIndex(body, -1); {
	case len(found) == 1:
		after = at.ReplaceAllString(body, "${1}"+after)
	case len(found) == 0:
		behind := regexp.MustCompile(`(?m)^([ \t]*)estate_key([ \t]*=.*)$`)
		after = behind.ReplaceAllString(body, "${1}estate_key${2}\n${1}"+key+" = "+after)
	}
	var is struct{ Ledger map[string]any }
	if err := toml.Unmarshal([]byte(after), &is); err != nil || !holds(is.Ledger[key]) {
		return "", problem.At(KeyPositions(File, body)("ledger."+key),
			"%s under [ledger] cannot be changed safely; write %s = %s there by hand", key, key,
			strings.Join(strings.Fields(text), " "))
	}
	return after, nil
}

// WithTag changes the tag of a kit's source in the text of the kasbah.toml
// that it was read from, and leaves everything else as it stands.
func WithTag(body string, from KitSource, tag string) (string, error) {
	lines := strings.SplitAfter(body, "\n")
	written := regexp.MustCompile(`(\btag\s*=\s*)(["'])` + regexp.QuoteMeta(from.Tag) + `(["'])`)
	first := max(from.Position.Line-1, 0)
	for i := first; i < len(lines); i++ {
		if i > first && strings.HasPrefix(strings.TrimSpace(lines[i]), "[") {
			break // the next section
		}
		if written.MatchString(lines[i]) {
			lines[i] = written.ReplaceAllString(lines[i], "${1}${2}"+strings.ReplaceAll(tag, "$", "$$")+"${3}")
			return strings.Join(lines, ""), nil
		}
	}
	return "", problem.At(from.Position, "the tag %q of kit %s is not written here as a text; change it to %q by hand",
		from.Tag, from.Name, tag)
}
