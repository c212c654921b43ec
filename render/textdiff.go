package render

import (
	"fmt"
	"strings"

	"github.com/pmezard/go-difflib/difflib"
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
	var out []string
	for _, group := range difflib.NewMatcher(x, y).GetGroupedOpCodes(1) {
		for _, op := range group {
			switch op.Tag {
			case 'e':
				for _, line := range x[op.I1:op.I2] {
					out = append(out, "same  "+line)
				}
			default:
				for _, line := range x[op.I1:op.I2] {
					out = append(out, "was   "+line)
				}
				for _, line := range y[op.J1:op.J2] {
					out = append(out, "now   "+line)
				}
			}
		}
	}
	if n := len(out) - diffLines; n > 1 {
		out = append(out[:diffLines], fmt.Sprintf("and %d lines more", n))
	}
	return out
}
