package propose

import (
	"kasbah/core/value"
)

// WardNames are the proposal's wards.
func (p *Proposal) WardNames() []string {
	var out []string
	for _, w := range p.Wards {
		out = append(out, w.Ward)
	}
	return out
}

// WardsThatLose are the wards in which data is lost.
func (p *Proposal) WardsThatLose() []string {
	loses := map[string]bool{}
	for _, full := range p.Data {
		ward, _ := value.SplitWard(full)
		loses[ward] = true
	}
	var out []string
	for _, w := range p.Wards {
		if loses[w.Ward] {
			out = append(out, w.Ward)
		}
	}
	return out
}
