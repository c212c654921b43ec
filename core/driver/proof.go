package driver

// Proof is the JSON form of a run of the drivers' conformance suite.
type Proof struct {
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
