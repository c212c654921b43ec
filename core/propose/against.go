package propose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/value"
)

// AgainstFormat is the format of Against.
const AgainstFormat = "kasbah.against/1"

// Against says what a proposal would do that another one, which was reviewed, would not, and the other way round.
// Where things are declared, when and by whom it was proposed, what it costs and how long it takes are no
// difference.
type Against struct {
	Format      string       `json:"format"`
	Old         string       `json:"old"` // ids
	New         string       `json:"new"`
	Differences []Difference `json:"differences"`
}

// Difference is one of them.
type Difference struct {
	Ward    string    `json:"ward,omitempty"`
	Address string    `json:"address,omitempty"` // "" for the ward as a whole
	Path    string    `json:"path,omitempty"`    // of the attribute; "" for the action as a whole
	What    string    `json:"what"`              // what differs: action, will_be, live, order, …
	Old     value.Any `json:"old"`
	New     value.Any `json:"new"`
	Secret  bool      `json:"secret,omitempty"` // the values are not shown
}

// NewAgainst compares two proposals.
func NewAgainst(old, is *Proposal) *Against {
	d := &Against{Format: AgainstFormat, Old: old.ID, New: is.ID, Differences: []Difference{}}
	d.texts("", "", "estate and environment", old.Estate+" "+old.Env, is.Estate+" "+is.Env)
	d.wards(old, is)
	was := map[string]*Action{}
	for _, a := range old.Actions {
		was[a.Full()] = a
	}
	for _, a := range is.Actions {
		d.actions(was[a.Full()], a)
		delete(was, a.Full())
	}
	for _, a := range old.Actions { // in order
		if was[a.Full()] != nil {
			d.actions(a, nil)
		}
	}
	d.lists("loses data", old.Data, is.Data)
	d.lists("touches security", old.Security, is.Security)
	d.lists("is blocked", blocked(old), blocked(is))
	d.lists("unfinished call", unfinished(old), unfinished(is))
	return d
}

func (d *Against) add(x Difference) { d.Differences = append(d.Differences, x) }

// texts adds what two texts differ in.
func (d *Against) texts(ward, address, what, old, is string) {
	if old != is {
		d.add(Difference{Ward: ward, Address: address, What: what, Old: text(old), New: text(is)})
	}
}

// text is a value; none for "".
func text(s string) value.Any {
	if s == "" {
		return value.Any{}
	}
	return value.Any{V: s}
}

func (d *Against) values(at Difference, old, is any) {
	if !value.Equal(old, is) {
		at.Old, at.New = value.Any{V: old}, value.Any{V: is}
		d.add(at)
	}
}

// lists adds what is in one list alone.
func (d *Against) lists(what string, old, is []string) {
	for _, x := range old {
		if !slices.Contains(is, x) {
			d.add(Difference{What: what, Old: text(x)})
		}
	}
	for _, x := range is {
		if !slices.Contains(old, x) {
			d.add(Difference{What: what, New: text(x)})
		}
	}
}

// wards compares what is published, and who must sign.
func (d *Against) wards(old, is *Proposal) {
	of := func(p *Proposal, ward string) (at WardAt, there bool) {
		i := slices.IndexFunc(p.Wards, func(w WardAt) bool { return w.Ward == ward })
		if i < 0 {
			return WardAt{Ward: ward}, false
		}
		return p.Wards[i], true
	}
	var names []string
	for _, w := range append(slices.Clone(old.Wards), is.Wards...) {
		names = append(names, w.Ward)
	}
	slices.Sort(names)
	for _, ward := range slices.Compact(names) {
		a, inOld := of(old, ward)
		b, inNew := of(is, ward)
		if inOld != inNew {
			d.add(Difference{Ward: ward, What: "ward", Old: value.Any{V: inOld}, New: value.Any{V: inNew}})
			continue
		}
		all := append(value.Keys(a.Published), value.Keys(b.Published)...)
		slices.Sort(all)
		for _, name := range slices.Compact(all) {
			d.values(Difference{Ward: ward, Path: name, What: "published"}, a.Published[name].V, b.Published[name].V)
		}
		d.texts(ward, "", "who must sign", policy(a), policy(b))
	}
}

// policy identifies a change of who must sign; "" for none.
func policy(w WardAt) string {
	if w.Approval == nil {
		return ""
	}
	return w.Approval.Was.Digest() + " to " + cmp.Or(w.Approval.WillBe.Digest(), "none")
}

// actions compares what is done with one resource; one of them may be nil.
func (d *Against) actions(old, is *Action) {
	at := cmp.Or(is, old)
	kinds := [2]string{}
	for i, a := range []*Action{old, is} {
		if a != nil {
			kinds[i] = string(a.Kind)
		}
	}
	if kinds[0] != kinds[1] {
		if cmp.Or(kinds[0], "same") == "same" && cmp.Or(kinds[1], "same") == "same" {
			return // nothing is done either way
		}
		d.add(Difference{Ward: at.Ward, Address: at.Address, What: "action", Old: text(kinds[0]), New: text(kinds[1])})
		likewise := func(k string) bool { return k == string(Edit) || k == string(Swap) }
		if !likewise(kinds[0]) || !likewise(kinds[1]) {
			return // the rest follows from it
		}
	}
	if old.Kind == Same && is.Kind == Same {
		return
	}
	d.texts(at.Ward, at.Address, "former address", old.Was, is.Was)
	d.texts(at.Ward, at.Address, "adopted thing", old.Adopts, is.Adopts)
	d.changes(old, is)
	if old.Plan == nil || is.Plan == nil {
		return
	}
	d.texts(at.Ward, at.Address, "order", old.Plan.Order, is.Plan.Order)
	d.texts(at.Ward, at.Address, "thing", idOf(old), idOf(is))
	d.values(Difference{Ward: at.Ward, Address: at.Address, What: "keeps a copy"}, old.Plan.CopyFirst, is.Plan.CopyFirst)
	d.texts(at.Ward, at.Address, "care", fmt.Sprintf("%+v", old.Plan.Care), fmt.Sprintf("%+v", is.Plan.Care))
	d.texts(at.Ward, at.Address, "needs", strings.Join(old.Needs, ", "), strings.Join(is.Needs, ", "))
	for _, name := range bothKeys(old.Plan.Inputs, is.Plan.Inputs) { // what no change shows, such as a hand edit that is left
		if !slices.ContainsFunc(slices.Concat(old.Changes, is.Changes),
			func(c Change) bool { return firstKey(c.Path) == name }) {
			d.values(Difference{Ward: at.Ward, Address: at.Address, Path: name, What: "will_be"}, old.Plan.Inputs[name],
				is.Plan.Inputs[name])
		}
	}
}

// firstKey is the attribute that a path begins with.
func firstKey(path string) string {
	p, err := value.ParsePath(path)
	if err != nil || len(p) == 0 {
		return path
	}
	return p[0].Key
}

func idOf(a *Action) string {
	if a.Plan.Seen == nil {
		return ""
	}
	return a.Plan.Seen.ID
}

// changes compares what attributes will be, and what they are live now.
func (d *Against) changes(old, is *Action) {
	by := map[string][2]*Change{}
	for i, a := range []*Action{old, is} {
		for j := range a.Changes {
			c := by[a.Changes[j].Path]
			c[i] = &a.Changes[j]
			by[a.Changes[j].Path] = c
		}
	}
	none := &Change{}
	for _, path := range value.Keys(by) {
		a, b := cmp.Or(by[path][0], none), cmp.Or(by[path][1], none)
		at := Difference{Ward: is.Ward, Address: is.Address, Path: path, Secret: a.Secret || b.Secret}
		at.What = "will_be"
		d.values(at, a.WillBe.V, b.WillBe.V)
		at.What = "live"
		d.values(at, a.Was.V, b.Was.V)
	}
}

func bothKeys(a, b value.Attributes) []string {
	all := append(value.Keys(a), value.Keys(b)...)
	slices.Sort(all)
	return slices.Compact(all)
}

func blocked(p *Proposal) (out []string) {
	for _, b := range p.Blocked {
		out = append(out, strings.TrimPrefix(value.InWard(b.Ward, b.Address)+": "+b.Because, ":: "))
	}
	return out
}

func unfinished(p *Proposal) (out []string) {
	for _, u := range p.Unfinished {
		out = append(out, fmt.Sprintf("%s of %s", u.Call, value.InWard(u.Ward, u.Address)))
	}
	return out
}
