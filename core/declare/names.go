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
// pattern is the estate's, with all filled in but {name}.
func madeName(pattern string, r *Resource) string {
	own := ""
	for _, in := range r.Within {
		own += in.Name + "-"
	}
	name := strings.ReplaceAll(pattern, "{name}", own+r.Name)
	attr := r.Type.Attribute("name")
	if attr.MaxLength == nil || utf8.RuneCountInString(name) <= *attr.MaxLength {
		return name
	}
	tail := fmt.Sprintf("%x", sha256.Sum256([]byte(r.Full())))[:6]
	keep := max(0, *attr.MaxLength-len(tail)-1)
	return string([]rune(name)[:keep]) + "-" + tail
}

// namePattern fills in what is the same for all resources of a ward.
func namePattern(e *estate.Estate, env, ward string) string {
	return strings.NewReplacer("{estate}", e.Name, "{env}", env, "{ward}", ward).Replace(e.Names)
}
