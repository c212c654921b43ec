package propose

import (
	"regexp"
	"slices"
	"strings"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Pattern turns a pattern of addresses into a test: `*` stands for anything
// but a slash, `**` for anything.
func Pattern(pattern string) func(address string) bool {
	quoted := regexp.QuoteMeta(strings.ToValidUTF8(pattern, "?"))
	quoted = strings.ReplaceAll(quoted, `\*\*`, ".*")
	quoted = strings.ReplaceAll(quoted, `\*`, "[^/]*")
	re := regexp.MustCompile("(?s)^" + quoted + "$") // every piece is quoted
	return re.MatchString
}

// Showing tests whether an action is one of some kinds, with an address that matches one of some
// patterns; nil when neither is given.
func Showing(only, kinds []string) func(*Action) bool {
	if len(only) == 0 && len(kinds) == 0 {
		return nil
	}
	var matches []func(string) bool
	for _, pattern := range only {
		matches = append(matches, Pattern(pattern))
	}
	return func(a *Action) bool {
		hit := len(matches) == 0
		for _, m := range matches {
			hit = hit || m(a.Address) || m(value.InWard(a.Ward, a.Address))
		}
		return hit && (len(kinds) == 0 || slices.Contains(kinds, string(a.Kind)))
	}
}

// ReadKinds reads kinds of actions with commas between them; none for "".
func ReadKinds(list string) ([]string, error) {
	if list == "" {
		return nil, nil
	}
	known := []string{string(New), string(Edit), string(Swap), string(Drop), string(Adopt), string(Release),
		string(Rename)}
	kinds := strings.Split(strings.ReplaceAll(list, " ", ""), ",")
	for _, k := range kinds {
		if !slices.Contains(known, k) {
			return nil, &problem.UsageError{Message: "-action: there is no action " + k, Hint: nearest.Hint(k, known)}
		}
	}
	return kinds, nil
}
