package enact

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"slices"
	"strings"
)

// shortSecret is as short as a text may be that is looked for in errors:
// shorter ones are in every word.
const shortSecret = 4

// partOfSecret is how much of a longer secret must stand in a text in one piece to count
// as a part of it. Clouds cut what they repeat short, or break it over lines.
const partOfSecret = 6

const inItsPlace = "(secret)"

// redactor takes secrets out of texts.
type redactor struct {
	whole []string        // texts that are taken out where they stand whole
	parts map[string]bool // pieces of partOfSecret bytes that secrets hold
}

// newRedactor is one for some secrets, in the forms in which an answer may repeat them.
func newRedactor(secrets []string) *redactor {
	r := &redactor{parts: map[string]bool{}}
	for _, s := range secrets {
		quoted, _ := json.Marshal(s) // a text always has a form
		forms := []string{
			s, strings.Trim(string(quoted), `"`), url.QueryEscape(s), url.PathEscape(s), hex.EncodeToString([]byte(s)),
			base64.RawStdEncoding.EncodeToString([]byte(s)), base64.RawURLEncoding.EncodeToString([]byte(s)),
		}
		for _, f := range forms {
			if len(f) < partOfSecret && !slices.Contains(r.whole, f) {
				r.whole = append(r.whole, f)
			}
			for i := 0; i+partOfSecret <= len(f); i++ {
				r.parts[f[i:i+partOfSecret]] = true
			}
		}
	}
	return r
}

// text is a text with (secret) in place of every piece of a secret in it.
func (r *redactor) text(s string) string {
	hidden := make([]bool, len(s))
	mark := func(at, n int) {
		for i := at; i < at+n; i++ {
			hidden[i] = true
		}
	}
	for i := 0; i+partOfSecret <= len(s); i++ {
		if r.parts[s[i:i+partOfSecret]] {
			mark(i, partOfSecret)
		}
	}
	for _, w := range r.whole {
		for at := 0; ; {
			i := strings.Index(s[at:], w)
			if i < 0 {
				break
			}
			mark(at+i, len(w))
			at += i + len(w)
		}
	}
	if !slices.Contains(hidden, true) {
		return s
	}
	var b strings.Builder
	for i := range len(s) {
		switch {
		case !hidden[i]:
			b.WriteByte(s[i])
		case i == 0 || !hidden[i-1]:
			b.WriteString(inItsPlace)
		}
	}
	return b.String()
}
