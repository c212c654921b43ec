package propose

import (
	"iter"
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

// Patterns are several patterns of addresses. Those without a star are looked up, so that as many
// of them as there are addresses can be tested.
type Patterns struct {
	list  []string
	exact map[string]int // what stands in list at a place
	tests map[int]func(string) bool
}

// NewPatterns are some patterns.
func NewPatterns(list []string) *Patterns {
	p := &Patterns{list: list, exact: map[string]int{}, tests: map[int]func(string) bool{}}
	for i, pattern := range list {
		if strings.Contains(pattern, "*") {
			p.tests[i] = Pattern(pattern)
		} else {
			p.exact[pattern] = i
		}
	}
	return p
}

// Match reports whether one of the patterns matches an address, with its ward or without.
func (p *Patterns) Match(ward, address string) bool { return p.match(ward, address, nil) }

// match notes in hit, unless it is nil, which of the patterns match.
func (p *Patterns) match(ward, address string, hit []bool) bool {
	full, found := value.InWard(ward, address), false
	for _, name := range [...]string{address, full} {
		if i, ok := p.exact[name]; ok {
			if found = true; hit != nil {
				hit[i] = true
			}
		}
	}
	for i, test := range p.tests {
		if found && hit == nil {
			break
		}
		if test(address) || test(full) {
			if found = true; hit != nil {
				hit[i] = true
			}
		}
	}
	return found
}

// Search calls found for each of some addresses that a pattern matches, and returns the first
// pattern that matches none, or "".
func (p *Patterns) Search(addresses iter.Seq2[string, string], found func(ward, address string)) string {
	hit := make([]bool, len(p.list))
	for ward, address := range addresses {
		if p.match(ward, address, hit) {
			found(ward, address)
		}
	}
	for i, pattern := range p.list {
		if at, exact := p.exact[pattern]; !hit[i] && (!exact || !hit[at]) {
			return pattern
		}
	}
	return ""
}

// Showing tests whether an action is one of some kinds, with an address that matches one of some
// patterns; nil when neither is given.
func Showing(only, kinds []string) func(*Action) bool {
	if len(only) == 0 && len(kinds) == 0 {
		return nil
	}
	patterns := NewPatterns(only)
	return func(a *Action) bool {
		hit := len(only) == 0 || patterns.Match(a.Ward, a.Address)
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
