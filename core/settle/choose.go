package settle

import (
	"slices"
	"strings"

	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// chooser tests differences against patterns.
func chooser(patterns []string) func(Difference) bool {
	if len(patterns) == 0 {
		return func(Difference) bool { return true }
	}
	return func(d Difference) bool {
		for _, p := range patterns {
			if chooses(p, d) {
				return true
			}
		}
		return false
	}
}

// MatchesAll reports whether each of some patterns names a resource of a survey, perhaps with a
// path behind it. The error names the first that does not.
func MatchesAll(r *survey.Report, patterns []string) error {
	for _, p := range patterns {
		if !slices.ContainsFunc(r.Resources, func(res *survey.Resource) bool { return namesResource(p, res) }) {
			return problem.Usage("%s matches no recorded resource", p)
		}
	}
	return nil
}

func namesResource(pattern string, res *survey.Resource) bool {
	d := Difference{Resource: res}
	if chooses(pattern, d) {
		return true
	}
	slash := strings.LastIndexByte(pattern, '/')
	for i := slash + 1; i < len(pattern); i++ {
		if c := pattern[i]; (c == '.' || c == '[') && chooses(pattern[:i], d) {
			return true
		}
	}
	return false
}

// chooses reports whether a pattern of addresses, perhaps with a path behind it, names a
// difference. Addresses may hold dots, so every dot may begin the path.
func chooses(pattern string, d Difference) bool {
	test := propose.Pattern(pattern)
	return test(d.Full()) || test(d.Resource.Address) || withPath(pattern, d)
}

// namesPath reports whether a pattern names a difference by its path.
func namesPath(patterns []string, d Difference) bool {
	return slices.ContainsFunc(patterns, func(p string) bool { return withPath(p, d) })
}

// withPath reports whether a pattern, with a path behind the address, names a difference.
func withPath(pattern string, d Difference) bool {
	names := func(address string) bool {
		test := propose.Pattern(address)
		return test(d.Full()) || test(d.Resource.Address)
	}
	is, err := value.ParsePath(d.Path)
	if err != nil {
		return false
	}
	slash := strings.LastIndexByte(pattern, '/')
	for i := slash + 1; i < len(pattern); i++ {
		if c := pattern[i]; c != '.' && c != '[' {
			continue
		}
		path, err := value.ParsePath(strings.TrimPrefix(pattern[i:], "."))
		if err == nil && names(pattern[:i]) && is.HasPrefix(path) {
			return true
		}
	}
	return false
}
