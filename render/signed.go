package render

import (
	"fmt"
	"strings"

	"kasbah/core/propose"
)

// Signed is how many signatures a ward has of those it wants, and whose.
func Signed(s propose.Signed) string {
	text := fmt.Sprintf("%s: %d of %s", s.Ward, len(s.By), Count(s.Wanted, "signature"))
	if len(s.By) > 0 {
		text += " (" + strings.Join(s.By, ", ") + ")"
	}
	return text
}
