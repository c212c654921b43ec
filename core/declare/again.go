package declare

import (
	"context"

	"kasbah/core/problem"
)

// Again is Evaluate with the options of an evaluation that had Options.Again, but for the texts of
// files: a ward whose files, and those of the wards that it reads, are as they were is taken over
// from d. Inputs, kits and catalogues must be the same; see Basis.
func (d *Declared) Again(ctx context.Context, o Options) (*Declared, problem.List) {
	moved := map[string]bool{}
	for _, name := range o.Wards {
		t := d.turns[name]
		// one with mistakes may lack a file that is there now
		if t == nil || t.err != nil || t.ev.problems.Wrong() > 0 {
			moved[name] = true
			continue
		}
		same, err := o.Unmoved(name, t.ev.out.Files)
		moved[name] = err != nil || !same // the evaluation says what cannot be read
	}
	for more := true; more; {
		more = false
		for _, name := range o.Wards {
			if moved[name] {
				continue
			}
			for _, read := range d.turns[name].ev.asked {
				if moved[read] {
					moved[name], more = true, true
				}
			}
		}
	}
	known := map[string]*turn{}
	for _, name := range o.Wards {
		if !moved[name] {
			known[name] = d.turns[name]
		}
	}
	return evaluateFrom(ctx, o, known)
}
