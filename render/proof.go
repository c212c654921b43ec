package render

import (
	"kasbah/core/driver"
)

// ProofCheck writes one part of the suite and what became of it.
func (o *Out) ProofCheck(c driver.ProofCheck) {
	colour := map[string]Colour{"passed": green, "failed": vermilion}[c.Outcome]
	if colour == "" {
		colour = Grey
	}
	o.Printf("%s  %-9s  %s\n", o.Paint(colour, c.Outcome+"       "[:7-len(c.Outcome)]), c.Name, c.Says)
	if c.Error != "" {
		o.Printf("         %s\n", Wrap(Clean(c.Error), o.Width-9, "         "))
	}
}
