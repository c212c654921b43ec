package propose

import (
	"fmt"
	"slices"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// A thing that is called something else in the code and says no renamed_from would be
// dropped and made again. Where a drop and a new one look like that, the proposal says
// so and names the line to add.

// mostPairs bounds how many drops and new ones of one type are held against each other.
// Where there are more, a whole estate is replaced rather than a name.
const mostPairs = 250_000

// mostAlike is how many likely renames are told one by one.
const mostAlike = 5

// likelyRenames warns of drops that have a new one of their type with mostly equal
// inputs.
func (w *proposer) likelyRenames() {
	gone, fresh := map[string][]*Action{}, map[string][]*Action{}
	for _, a := range w.p.Actions {
		switch {
		case a.Kind == Drop && a.Plan.Seen != nil && !a.Plan.Seen.Gone:
			gone[a.Type] = append(gone[a.Type], a)
		case a.Kind == New && a.Plan.Seen == nil:
			fresh[a.Type] = append(fresh[a.Type], a)
		}
	}
	told := 0
	for _, typ := range value.Keys(gone) {
		if len(gone[typ])*len(fresh[typ]) > mostPairs {
			continue
		}
		drv, name := SplitType(typ)
		t := w.o.Catalogs[drv].Types[name]
		for _, drop := range gone[typ] {
			i := w.mostLike(t, drop, fresh[typ])
			if i < 0 {
				continue
			}
			if told++; told <= mostAlike {
				w.p.Warnings = append(w.p.Warnings, likelyRename(drop, fresh[typ][i]))
			}
			fresh[typ] = slices.Delete(fresh[typ], i, i+1)
		}
	}
	if told > mostAlike {
		w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("%d more drops look like one of the new resources under its "+
			"old name", told-mostAlike))
	}
}

func likelyRename(drop, is *Action) string {
	former := value.Ref{Address: drop.Full()}.In(is.Ward)
	return fmt.Sprintf("%s is dropped and %s is new, and they are alike: if they are one thing, add care = "+
		"care(renamed_from = %q) to it at %s, and nothing is made again", former, is.Address, former,
		is.Position.Short())
}

// mostLike is the place of the new resource whose inputs have most in common with those
// of a drop, and at least two thirds of all; -1 when there is none.
func (w *proposer) mostLike(t *schema.Type, drop *Action, fresh []*Action) int {
	best, of := -1, 0.0
	for i, a := range fresh {
		if share := likeness(t, value.Map(drop.Plan.Seen.Inputs), value.Map(a.Plan.Inputs)); share >= 2.0/3 &&
			share > of {
			best, of = i, share
		}
	}
	return best
}

// likeness is the share of inputs that are equal, among those of either that are known
// and not made from the address.
func likeness(t *schema.Type, a, b value.Map) float64 {
	equal, all := 0, 0
	count := func(name string, in, other value.Map) {
		if name == "name" && t.NamedByPattern() || value.IsPending(in[name]) || value.IsPending(other[name]) ||
			value.IsSecret(in[name]) {
			return
		}
		if all++; !ValuesDiffer(in[name], other[name]) {
			equal++
		}
	}
	for name := range a {
		count(name, a, b)
	}
	for name := range b {
		if _, both := a[name]; !both {
			count(name, b, a)
		}
	}
	if all == 0 {
		return 1 // nothing tells them apart
	}
	return float64(equal) / float64(all)
}
