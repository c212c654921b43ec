package render

import (
	"fmt"
	"strings"

	"kasbah/core/propose"
)

// signedWords is how many signatures a ward has of those it wants, and whose.
func signedWords(s propose.Signed) string {
	text := fmt.Sprintf("%s: %d of %s", s.Ward, len(s.By), Count(s.Wanted, "signature"))
	if len(s.By) > 0 {
		text += " (" + strings.Join(s.By, ", ") + ")"
	}
	return text
}

// signedLines are a line for each ward that asks for signatures.
func signedLines(all []propose.Signed) []string {
	var out []string
	for _, s := range all {
		out = append(out, "Signed for "+signedWords(s)+".")
	}
	return out
}

// Signing writes what a signature came to.
func (o *Out) Signing(d *propose.Signing) {
	if d.Added {
		o.Printf("Signed with %s.\n", d.Key)
	} else {
		o.Printf("It was signed with %s before.\n", d.Key)
	}
	if len(d.Wards) == 0 {
		o.Printf("No ward asks for a signature; kasbah enact %s carries it out.\n", d.File)
		return
	}
	for _, w := range d.Wards {
		line := signedWords(w)
		if w.Why != "" {
			line += "; this one does not count: " + w.Why
		}
		o.Printf("%s\n", Wrap(line+".", o.Width-2, "  "))
	}
	if d.Ready() {
		o.Printf("Carry it out with: kasbah enact %s\n", d.File)
	}
}
