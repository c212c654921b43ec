package declare

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"unicode/utf8"

	"kasbah/core/estate"
)

// madeName is the name that the estate's pattern gives. One too long for its
// schema is cut and ends in six characters of its address's hash.
func madeName(e *estate.Estate, env string, r *Resource) string {
	own := ""
	for _, in := range r.Within {
		own += in.Name + "-"
	}
	name := strings.NewReplacer("{estate}", e.Name, "{env}", env, "{ward}", r.Ward, "{name}", own+r.Name).Replace(e.Names)
	attr := r.Type.Attribute("name")
	if attr.MaxLength == nil || utf8.RuneCountInString(name) <= *attr.MaxLength {
		return name
	}
	tail := fmt.Sprintf("%x", sha256.Sum256([]byte(r.Full())))[:6]
	keep := max(0, *attr.MaxLength-len(tail)-1)
	return string([]rune(name)[:keep]) + "-" + tail
}
