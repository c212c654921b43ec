package schema

import (
	"strings"
)

// WithArticle is a noun with its article: `a machine`, `an object`.
func WithArticle(noun string) string {
	if noun != "" && strings.IndexByte("aeiou", noun[0]) >= 0 {
		return "an " + noun
	}
	return "a " + noun
}
