package propose

import (
	"errors"
	"fmt"
)

// Check holds a proposal that came from a file against what Propose makes:
// every action complete and counted. It guards against files that were cut
// or edited by mistake.
func (p *Proposal) Check() error {
	var counts Counts
	wards := map[string]bool{}
	for _, w := range p.Wards {
		wards[w.Ward] = true
	}
	seen := make(map[string]bool, len(p.Actions))
	for i, a := range p.Actions {
		if a == nil || !wards[a.Ward] || a.Address == "" || seen[a.Full()] {
			return fmt.Errorf("the proposal's action %d is incomplete, or listed twice", i+1)
		}
		seen[a.Full()] = true
		counts.add(a.Kind)
		if a.Kind == Same {
			if a.Plan != nil && a.Plan.Seen == nil {
				return fmt.Errorf("%s: the proposal does not say what was recorded", a.Address)
			}
			continue
		}
		switch {
		case a.Plan == nil:
			return fmt.Errorf("%s: the proposal does not say how to carry it out", a.Address)
		case a.Kind != New && a.Kind != Edit && a.Kind != Swap && a.Kind != Drop && a.Kind != Release &&
			a.Kind != Rename && a.Kind != Adopt:
			return fmt.Errorf("%s: this version of kasbah cannot carry out %q", a.Address, a.Kind)
		case a.Kind != New && a.Plan.Seen == nil:
			return fmt.Errorf("%s: the proposal does not say what was recorded", a.Address)
		case a.Kind == Adopt && (a.Adopts == "" || a.Adopts != a.Plan.Seen.ID):
			return fmt.Errorf("%s: the proposal does not say what it adopts", a.Address)
		case a.Kind == Rename && a.Was == "":
			return fmt.Errorf("%s: the proposal does not say what it was called", a.Address)
		case a.Kind == Swap && a.Plan.Order != "create-first" && a.Plan.Order != "drop-first":
			return fmt.Errorf("%s: the proposal does not say in which order to swap", a.Address)
		}
	}
	if counts != p.Counts {
		return errors.New("the proposal's counts do not add up: it was altered or cut")
	}
	return nil
}
