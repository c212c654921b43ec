// Package nearest finds the known name closest to a mistyped one.
package nearest

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
)

// To is the candidate closest to name by edit distance, or "" when none is close enough to be
// meant: a third of its letters may differ, two in a short one, but never more than half. Two
// letters that changed places are one slip in the shortest, too. Of several that are as close, it is
// the first by the alphabet.
func To(name string, candidates []string) string {
	name = strings.ToLower(name)
	letters := utf8.RuneCountInString(name)
	limit := min(max(2, letters/3), letters/2)
	best, at := "", max(limit, 2)+1
	for _, c := range candidates {
		low := strings.ToLower(c)
		d := levenshtein.ComputeDistance(name, low)
		if near := d <= limit || sorted(name) == sorted(low); near && (d < at || d == at && c < best) {
			best, at = c, d
		}
	}
	return best
}

// sorted are the letters of a word in their order.
func sorted(word string) string {
	letters := []rune(word)
	slices.Sort(letters)
	return string(letters)
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
