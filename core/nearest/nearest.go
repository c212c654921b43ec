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
// letters that changed places are one slip in the shortest, too, and the first letters of a candidate, three or more,
// are close to it, as is what stands behind a slash or a point of it. What stands before the last slash and is the
// same in both, the type in an address, makes them no closer, even where a candidate has more before it. Of several that are as
// close, it is the one with the same before its last slash, or the first by the alphabet.
func To(name string, candidates []string) string {
	name = strings.ToLower(name)
	head, tail := split(name)
	best, at := "", 0
	for _, c := range candidates {
		low := strings.ToLower(c)
		a, b, more := name, low, 0
		if h, t := split(low); h == head {
			a, b = tail, t
		} else if head != "" && strings.HasSuffix(h, "/"+head) {
			a, b, more = tail, t, 1
		}
		d, near := distance(a, b)
		if d = 2*d + more; near && (best == "" || d < at || d == at && c < best) {
			best, at = c, d
		}
	}
	return best
}

func split(name string) (head, tail string) {
	at := strings.LastIndexByte(name, '/') + 1
	return name[:at], name[at:]
}

// distance is how far a candidate is from a name, and whether that is near.
func distance(name, candidate string) (d int, near bool) {
	letters := utf8.RuneCountInString(name)
	limit := min(max(2, letters/3), letters/2)
	d = levenshtein.ComputeDistance(name, candidate)
	if letters >= 3 && (strings.HasPrefix(candidate, name) || strings.HasSuffix(candidate, "/"+name) ||
		strings.HasSuffix(candidate, "."+name)) {
		d = min(d, limit)
	}
	return d, d <= limit || d <= 2 && sorted(name) == sorted(candidate)
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
