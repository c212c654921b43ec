package propose

import (
	"kasbah/core/rules"
	"kasbah/core/steps"
)

// Heard notes steps that ran and what they found. What blocks forbids the proposal as a whole.
func (p *Proposal) Heard(ran []steps.Ran, found []rules.Finding) {
	p.Steps, p.Rules = append(p.Steps, ran...), append(p.Rules, found...)
	for i := range found {
		if f := &found[i]; f.Blocks() {
			p.Blocked = append(p.Blocked, Block{Ward: f.Ward, Address: f.Address, Because: f.Sentence(), Position: f.Position,
				Rule: rules.StepPrefix + f.Rule})
		}
	}
}
