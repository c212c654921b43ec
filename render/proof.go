package render

// ProofDocument is the JSON form of a run of the drivers' conformance suite.
type ProofDocument struct {
	Format  string       `json:"format"`
	Driver  string       `json:"driver"`
	Type    string       `json:"type"`
	Passed  int          `json:"passed"`
	Failed  int          `json:"failed"`
	Skipped int          `json:"skipped"`
	Checks  []ProofCheck `json:"checks"`
}

// ProofCheck is one part of the suite.
type ProofCheck struct {
	Name    string `json:"name"`
	Says    string `json:"says"`    // what holds when it passes
	Outcome string `json:"outcome"` // passed, failed, skipped
	Error   string `json:"error,omitempty"`
}

// ProofCheck writes one part of the suite and what became of it.
func (o *Out) ProofCheck(c ProofCheck) {
	colour := map[string]Colour{"passed": green, "failed": vermilion}[c.Outcome]
	if colour == "" {
		colour = Grey
	}
	o.Printf("%s  %-9s  %s\n", o.Paint(colour, c.Outcome+"       "[:7-len(c.Outcome)]), c.Name, c.Says)
	if c.Error != "" {
		o.Printf("         %s\n", Wrap(Clean(c.Error), o.Width-9, "         "))
	}
}
