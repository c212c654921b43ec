package schema

import (
	"fmt"
	"strings"

	"kasbah/core/value"
)

// Limits says in words which values an attribute takes besides its kind; "" for all.
func (a *Attribute) Limits() string {
	var out []string
	if len(a.OneOf) > 0 {
		var names []string
		for _, v := range a.OneOf {
			names = append(names, value.Plain(v))
		}
		out = append(out, "one of "+strings.Join(names, ", "))
	}
	switch {
	case a.Min != nil && a.Max != nil:
		out = append(out, fmt.Sprintf("%s to %s", value.Plain(*a.Min), value.Plain(*a.Max)))
	case a.Min != nil:
		out = append(out, "at least "+value.Plain(*a.Min))
	case a.Max != nil:
		out = append(out, "at most "+value.Plain(*a.Max))
	}
	unit := map[Kind]string{Text: "characters", List: "items", MapOf: "keys"}[a.Kind]
	if unit == "" {
		unit = "characters"
	}
	if a.MinLength != nil && (a.Kind != Text || *a.MinLength > 1) {
		out = append(out, fmt.Sprintf("at least %d %s", *a.MinLength, unit))
	}
	if a.MaxLength != nil {
		out = append(out, fmt.Sprintf("at most %d %s", *a.MaxLength, unit))
	}
	if a.Pattern != "" {
		out = append(out, "matches "+a.Pattern)
	}
	return strings.Join(out, "; ")
}
