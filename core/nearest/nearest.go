// Package nearest finds the known name closest to a mistyped one.
package nearest

import (
	"fmt"
	"strings"

	"github.com/agnivade/levenshtein"
)

// To is the candidate closest to name by edit distance, or "" when none is
// close enough to be meant.
func To(name string, candidates []string) string {
	best, at := "", max(2, len(name)/3)+1
	for _, c := range candidates {
		if d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(c)); d < at {
			best, at = c, d
		}
	}
	return best
}

// Hint asks whether the nearest candidate was meant; "" when there is none.
func Hint(name string, candidates []string) string {
	if n := To(name, candidates); n != "" {
		return fmt.Sprintf("did you mean %q?", n)
	}
	return ""
}

// HintOr is Hint, and lists the candidates where none is near.
func HintOr(name string, candidates []string) string {
	if hint := Hint(name, candidates); hint != "" || len(candidates) == 0 {
		return hint
	}
	return "there is " + strings.Join(candidates, ", ")
}
