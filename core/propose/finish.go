package propose

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sort"
	"strings"

	"golang.org/x/sync/errgroup"

	"kasbah/core/value"
)

// finish counts, sorts and gathers what needs consent.
func (w *proposer) finish(ctx context.Context) error {
	p := w.p
	sum, priced := Cost{}, false
	for _, a := range w.sorted() {
		p.Actions = append(p.Actions, a)
		p.Counts.add(a.Kind)
		sum.Add(a.Cost)
		priced = priced || a.Cost != nil
		if a.Plan == nil {
			continue
		}
		if a.Plan.HoldsData && !a.Plan.CopyFirst && (a.Kind == Drop || a.Kind == Swap) && !(a.Plan.Seen != nil &&
			a.Plan.Seen.Gone) {
			p.Data = append(p.Data, a.Full())
		}
		for _, c := range a.Changes {
			if c.Security {
				p.Security = append(p.Security, a.Full())
				break
			}
		}
	}
	sort.Slice(p.Left, func(i,
		j int) bool {
		return p.Left[i].Address+p.Left[i].Path < p.Left[j].Address+p.Left[j].Path
	})
	for _, u := range p.Unfinished {
		p.Warnings = append(p.Warnings, fmt.Sprintf("%s: the %s of run %s has no result yet and is taken as done; "+
			"the next run finds out first", u.Address, u.Call, u.Run))
	}
	w.lost()
	p.NotAssured = append(p.NotAssured, w.notAssured()...)
	for i := range p.Wards {
		p.Wards[i].Republish = w.republish(&p.Wards[i])
	}
	p.Forecast = w.forecast()
	if priced {
		p.Cost = &sum
	}
	w.likelyRenames()
	w.approvals()
	w.secrets()
	if err := w.consumers(); err != nil {
		return err
	}
	if err := w.renamedAway(); err != nil {
		return err
	}
	return w.judge(ctx)
}

// sinceLoss is how many entries the run has that notes a loss, but for the first.
const sinceLoss = 2

// lost warns where a ledger was lost or restored and no run has come since: what it does not know may
// be there all the same.
func (w *proposer) lost() {
	for _, ward := range w.o.Wards {
		s := w.o.States[ward]
		isNew := func(a *Action) bool { return a.Ward == ward && a.Kind == New }
		if n := len(s.Accepted); n == 0 || s.Seq > s.Accepted[n-1].By+sinceLoss || !slices.ContainsFunc(w.p.Actions, isNew) {
			continue
		}
		w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("the ledger of %s was lost or restored, and what is new here may "+
			"be there already: `kasbah adopt -find` takes it under management again", ward))
	}
}

// republish reports whether what the ward's ledger has of its published
// values, and of what it reads and has looked up, is to be written again.
func (w *proposer) republish(at *WardAt) bool {
	old := w.o.States[at.Ward].Values
	now, offered := value.Map{}, value.Map{}
	for n, v := range at.Published {
		if value.IsPending(v.V) {
			offered[n] = v.V
		}
		if !value.IsSecret(v.V) {
			now[n] = v.V
		}
	}
	stirred := false
	value.Refs(now, func(r value.Ref) { stirred = stirred || w.mayMove(r) })
	if stirred {
		return true
	}
	known, err := value.Resolve(now, w.lookup)
	if err != nil || value.IsPending(known) {
		return false
	}
	if ValuesDiffer(known, map[string]any(old.Published)) || ValuesDiffer(offered, map[string]any(old.Offered)) ||
		!slices.Equal(at.Reads, old.Reads) {
		return true
	}
	count := 0
	for _, f := range w.found {
		if f.Ward == at.Ward && f.From == FromLive {
			count++
			if !value.Equal(map[string]any(f.Attributes), map[string]any(old.Found[f.Address])) {
				return true
			}
		}
	}
	return !w.p.Offline && count != len(old.Found)
}

// sorted are the actions in the order of wards and, in each, of addresses.
func (w *proposer) sorted() []*Action {
	byWard := make(map[string][]*Action, len(w.o.Wards))
	for _, a := range w.actions {
		if a != nil {
			byWard[a.Ward] = append(byWard[a.Ward], a)
		}
	}
	var sorting errgroup.Group
	sorting.SetLimit(runtime.GOMAXPROCS(0))
	for _, of := range byWard {
		sorting.Go(func() error {
			slices.SortFunc(of, func(a, b *Action) int { return strings.Compare(a.Address, b.Address) })
			return nil
		})
	}
	_ = sorting.Wait() // it never fails
	out := make([]*Action, 0, len(w.actions))
	for _, ward := range w.o.Wards {
		out = append(out, byWard[ward]...)
	}
	return out
}

// notAssured lists the types of changing actions for which a kill or a second
// writer is not covered.
func (w *proposer) notAssured() []string {
	lacks, unshown := map[string]string{}, map[string]bool{}
	for _, a := range w.p.Actions {
		if a.Kind == Same || a.Kind == Adopt {
			continue
		}
		drv, typ := SplitType(a.Type)
		t := w.o.Catalogs[drv].Types[typ]
		if t.Unshown {
			unshown[a.Type] = true
		}
		var what []string
		if t.KeyMemory == 0 {
			what = append(what, "idempotency keys")
		}
		if !t.Tags {
			what = append(what, "entity tags")
		}
		if what != nil {
			lacks[a.Type] = strings.Join(what, " and no ")
		}
	}
	var out []string
	for _, t := range value.Keys(lacks) {
		out = append(out, fmt.Sprintf("%s has no %s", t, lacks[t]))
	}
	for _, t := range value.Keys(unshown) {
		out = append(out, fmt.Sprintf("the cloud shows no %s, which is compared with the record alone", t))
	}
	return out
}

// CommonActions counts the changing actions that two proposals have in common.
func CommonActions(a, b *Proposal) int {
	all := map[string]bool{}
	for _, x := range a.Actions {
		all[x.does()] = x.Kind != Same
	}
	n := 0
	for _, x := range b.Actions {
		if all[x.does()] {
			n++
		}
	}
	return n
}

// does is what an action does, as a text.
func (a *Action) does() string {
	s := string(a.Kind) + " " + a.Full()
	for _, c := range a.Changes {
		s += "\n" + c.Path + " " + string(value.Encode(c.WillBe.V))
	}
	return s
}

// OtherActions are the actions of b by which it does something else with a resource than a, in
// b's order, and those of a on resources that b does not know.
func OtherActions(a, b *Proposal) []*Action {
	was := map[string]*Action{}
	for _, x := range a.Actions {
		was[x.Full()] = x
	}
	var out []*Action
	for _, x := range b.Actions {
		if before := was[x.Full()]; before == nil || before.does() != x.does() {
			out = append(out, x)
		}
		delete(was, x.Full())
	}
	for _, x := range a.Actions {
		if was[x.Full()] != nil {
			out = append(out, x)
		}
	}
	return out
}
