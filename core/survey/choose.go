package survey

import (
	"context"
	"fmt"
	"slices"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// failures are what nothing can be told of, in the order of names.
func failures(o Options) []Failure {
	out := []Failure{}
	for _, w := range value.Keys(o.Failed) {
		out = append(out, Failure{Ward: w, Error: o.Failed[w].Error()})
	}
	for _, d := range value.Keys(o.Broken) {
		out = append(out, Failure{Driver: d, Error: o.Broken[d].Error()})
	}
	return out
}

// matcher tests whether an address is asked for.
func (o Options) matcher() func(ward, address string) bool {
	if len(o.Only) == 0 {
		return func(string, string) bool { return true }
	}
	return propose.NewPatterns(o.Only).Match
}

// MatchesAll reports whether each pattern of -only names a recorded resource: a mistyped one would
// look as if all were in order. The error names the first that does not.
func MatchesAll(states map[string]*ledger.State, patterns []string) error {
	var known []string
	none := propose.NewPatterns(patterns).Search(func(yield func(string, string) bool) {
		for ward, s := range states {
			for address := range s.Records {
				if len(known) < enoughToHint {
					known = append(known, address)
				}
				if !yield(ward, address) {
					return
				}
			}
		}
	}, func(string, string) {})
	if none == "" {
		return nil
	}
	slices.Sort(known)
	return &problem.UsageError{Message: fmt.Sprintf("-only %s matches no recorded resource", none),
		Hint: nearest.Hint(none, known)}
}

// enoughToHint is with how many addresses a mistyped one is compared.
const enoughToHint = 5000

// choose are the states with those records alone that are asked for. A change feed that cannot
// be read is a warning, and all of its driver is surveyed.
func (o Options) choose(ctx context.Context, r *Report) (map[string]*ledger.State, error) {
	if len(o.Only) == 0 && o.Since.IsZero() {
		return o.States, nil
	}
	changed, err := o.changedSince(ctx, r)
	if err != nil {
		return nil, err
	}
	matches := o.matcher()
	out := map[string]*ledger.State{}
	for ward, s := range o.States {
		some := ledger.NewState()
		for address, st := range s.Records {
			if matches(ward, address) && changed(st) {
				some.Records[address] = st
			}
		}
		out[ward] = some
	}
	return out, nil
}

// changedSince tests whether a change feed names a thing since the time that is asked for.
func (o Options) changedSince(ctx context.Context, r *Report) (func(*ledger.Stored) bool, error) {
	if o.Since.IsZero() {
		return func(*ledger.Stored) bool { return true }, nil
	}
	named, all := map[string]bool{}, map[string]bool{} // things as `TYPE ID`; drivers whose feed says nothing
	for _, drv := range value.Keys(o.Drivers) {
		feed, ok := o.Drivers[drv].(driver.Feed)
		if !ok {
			all[drv] = true
			r.Warnings = append(r.Warnings, fmt.Sprintf("%s: its cloud has no change feed, so all of it was surveyed", drv))
			continue
		}
		for e, err := range feed.Changes(ctx, driver.Events{Since: o.Since}) {
			if err != nil {
				all[drv] = true
				r.Warnings = append(r.Warnings, fmt.Sprintf("%s: the change feed could not be read, so all of it was "+
					"surveyed: %v", drv, err))
				break
			}
			if !e.At.Before(o.Since) {
				named[drv+"."+e.Type+" "+e.ID] = true
			}
		}
	}
	return func(st *ledger.Stored) bool {
		drv, _ := propose.SplitType(st.Type)
		return all[drv] || named[st.Type+" "+st.ID]
	}, ctx.Err()
}

// ignoring is an Ignore that may meet the resources of a ward.
type ignoring struct {
	matches func(address string) bool
	path    value.Path
}

func (o Options) ignoredIn(ward string) []ignoring {
	var out []ignoring
	for _, i := range o.Ignore {
		test := propose.Pattern(i.Pattern)
		out = append(out, ignoring{func(a string) bool { return test(a) || test(value.InWard(ward, a)) }, i.Path})
	}
	return out
}

// settle takes out what is ignored, and marks what a person accepts. It returns how many
// differences were taken out.
func (res *Resource) settle(ignore []ignoring, s *ledger.State, today string) (ignored int) {
	if res.Verdict != Differs && res.Verdict != Gone {
		return 0
	}
	for _, i := range ignore {
		if !i.matches(res.Address) {
			continue
		}
		if len(i.path) == 0 && res.Verdict == Gone {
			res.Verdict = Matches
			return ignored + 1
		}
		res.Differences = slices.DeleteFunc(res.Differences, func(d Difference) bool {
			p, err := value.ParsePath(d.Path)
			hit := err == nil && p.HasPrefix(i.path)
			if hit {
				ignored++
			}
			return hit
		})
	}
	if res.Verdict == Gone {
		if res.Accepted = acceptance(s.AcceptedDrift(res.Address, "", nil, today)); res.Accepted != nil {
			res.Verdict = Accepted
		}
		return ignored
	}
	if len(res.Differences) == 0 {
		res.Verdict = Matches
		return ignored
	}
	all := true
	for n := range res.Differences {
		d := &res.Differences[n]
		d.Accepted = acceptance(s.AcceptedDrift(res.Address, d.Path, d.Found.V, today))
		all = all && d.Accepted != nil
	}
	if all {
		res.Verdict = Accepted
	}
	return ignored
}

func acceptance(d *ledger.AcceptedDrift) *Acceptance {
	if d == nil {
		return nil
	}
	return &Acceptance{Until: d.Until, Why: d.Why, Who: d.Who}
}

// locate notes where what drifted is declared.
func (o Options) locate(r *Report) {
	if o.At == nil {
		return
	}
	for _, g := range r.Groups() {
		if o.Located > 0 && len(g.Resources) > o.Located {
			continue
		}
		for _, res := range g.Resources {
			full := value.InWard(res.Ward, res.Address)
			res.Position = o.At(full, "")
			for i := range res.Differences {
				res.Differences[i].Position = o.At(full, res.Differences[i].Path)
			}
		}
	}
}
