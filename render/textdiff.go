package render

import (
	"fmt"
	"strings"

	"github.com/aymanbagabas/go-udiff"
)

// diffLines is how many lines of a long text's difference are shown.
const diffLines = 12

// textDiff shows how a long text differs, line by line; nil when one of the
// two is no text, or they are short enough to be shown whole.
func textDiff(was, willBe any) []string {
	a, ok1 := was.(string)
	b, ok2 := willBe.(string)
	if !ok1 || !ok2 || !strings.Contains(strings.TrimSpace(a), "\n") && !strings.Contains(strings.TrimSpace(b), "\n") {
		return nil
	}
	x, y := strings.Split(strings.TrimSuffix(a, "\n"), "\n"), strings.Split(strings.TrimSuffix(b, "\n"), "\n")
	if len(x)+len(y) > 20_000 { // the comparison is quadratic at worst
		return []string{fmt.Sprintf("%s become %s", Count(len(x), "line"), Count(len(y), "line"))}
	}
	before := strings.Join(x, "\n") + "\n"
	diff, err := udiff.ToUnifiedDiff("", "", before, udiff.Lines(before, strings.Join(y, "\n")+"\n"), 1)
	if err != nil { // edits that do not fit their text, which the library made itself
		return []string{fmt.Sprintf("%s become %s", Count(len(x), "line"), Count(len(y), "line"))}
	}
	words := map[udiff.OpKind]string{udiff.Equal: "same  ", udiff.Delete: "was   ", udiff.Insert: "now   "}
	var out []string
	for _, hunk := range diff.Hunks {
		for _, line := range hunk.Lines {
			out = append(out, words[line.Kind]+strings.TrimSuffix(line.Content, "\n"))
		}
	}
	if n := len(out) - diffLines; n > 1 {
		out = append(out[:diffLines], fmt.Sprintf("and %d lines more", n))
	}
	return out
}
