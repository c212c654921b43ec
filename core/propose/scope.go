package propose

import (
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// Scopes are what carrying the proposal out locks, by ward: what it writes and,
// of its wards and of others, what that rests on. A ward of which nothing is
// locked is not among them.
func (p *Proposal) Scopes() map[string]ledger.Scope {
	writes, reads, whole := map[string][]string{}, map[string][]string{}, map[string]bool{}
	changing := map[string]bool{}
	write := func(full string) {
		ward, address := value.SplitWard(full)
		writes[ward] = append(writes[ward], address)
		changing[full] = true
	}
	read := func(full string) {
		if ward, address := value.SplitWard(full); ward != "" && !value.IsFound(full) {
			reads[ward] = append(reads[ward], address)
		}
	}
	for _, a := range p.Actions {
		if a.Plan == nil {
			continue
		}
		write(a.Full())
		if a.Was != "" {
			write(a.Was)
		}
		if !a.Leaves() { // what goes rests on nothing
			for _, n := range a.Needs {
				read(n)
			}
			for _, u := range a.Plan.Uses {
				read(u.Address)
			}
		}
	}
	for _, u := range p.Unfinished {
		write(value.InWard(u.Ward, u.Address))
	}
	for _, w := range p.Wards {
		publishes := w.Republish
		for _, v := range w.Published {
			value.Refs(v.V, func(r value.Ref) { publishes = publishes || changing[r.Address] })
		}
		if publishes {
			writes[w.Ward] = append(writes[w.Ward], ledger.PublishedValues)
			for _, v := range w.Published { // they are read again when the run ends
				value.Refs(v.V, func(r value.Ref) { read(r.Address) })
			}
		}
		whole[w.Ward] = w.Approval != nil || p.Raze && len(p.Actions) > 0
	}
	out := map[string]ledger.Scope{}
	for _, lists := range []map[string][]string{writes, reads} {
		for ward := range lists {
			out[ward] = ledger.NewScope(writes[ward], reads[ward])
		}
	}
	for ward, is := range whole {
		if is {
			out[ward] = ledger.Whole
		}
	}
	return out
}
