// Package redact takes secrets out of what others say: clouds and drivers repeat what they
// were given, whole, in part or in another form.
package redact

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"sync"
)

// shortSecret is as short as a text may be that is looked for:
// shorter ones are in every word.
const shortSecret = 4

// partOfSecret is how much of a longer secret must be in a text in one piece to count
// as a part of it. Clouds cut what they repeat short, or break it over lines.
const partOfSecret = 6

const inItsPlace = "(secret)"

// Redactor knows secrets, and takes them out of texts. It may be used by many at once. The
// zero value knows none.
type Redactor struct {
	mu    sync.Mutex
	known map[string]bool
	whole []string        // texts that are taken out where they stand whole
	parts map[string]bool // pieces of partOfSecret bytes that secrets hold
}

// Add makes a secret known, in the forms in which an answer may repeat it. One that is too
// short to be told from other words is left.
func (r *Redactor) Add(secret string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(secret) < shortSecret || r.known[secret] {
		return
	}
	if r.known == nil {
		r.known, r.parts = map[string]bool{}, map[string]bool{}
	}
	r.known[secret] = true
	quoted, _ := json.Marshal(secret) // a text always has a form
	for _, f := range []string{
		secret, strings.Trim(string(quoted), `"`), url.QueryEscape(secret), url.PathEscape(secret),
		hex.EncodeToString([]byte(secret)),
		base64.RawStdEncoding.EncodeToString([]byte(secret)), base64.RawURLEncoding.EncodeToString([]byte(secret)),
	} {
		if len(f) < partOfSecret && !slices.Contains(r.whole, f) {
			r.whole = append(r.whole, f)
		}
		for i := 0; i+partOfSecret <= len(f); i++ {
			r.parts[f[i:i+partOfSecret]] = true
		}
	}
}

// Text is a text with (secret) in place of every piece of a secret in it.
func (r *Redactor) Text(s string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.known) == 0 {
		return s
	}
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
