package propose

import (
	"fmt"
	"slices"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// action decides what becomes of one resource. What it needs was decided
// before. same says that it stays as it is.
func (w *proposer) action(full string, d *declare.Resource, same bool) (*Action, error) {
	ward, address := value.SplitWard(full)
	a := &Action{Ward: ward, Address: address, Was: w.was[full], Changes: []Change{}, Needs: []string{}}
	if d != nil {
		a.Type = d.FullType()
		a.Position, a.Via = d.Position()
		a.Needs = d.NeedAddresses()
		a.Kit = kitOf(d)
		if same {
			a.Kind = Same
			a.Cost = w.costOfSame(full, d, d.Type)
			return a, nil
		}
	}
	r, err := w.recorded.get(full)
	if err != nil {
		return nil, err
	}
	typ, err := w.typeOf(d, r)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", address, err)
	}
	if d == nil {
		a.Kit = r.Kit
		a.Type = r.Type
		a.Needs = append(a.Needs, r.Needs...)
	}
	drv, _ := SplitType(a.Type)
	a.Plan = &Plan{Kit: a.Kit, DriverVersion: w.o.Catalogs[drv].Version, HoldsData: typ.HoldsData,
		Exclusive: typ.UniqueName || typ.DropFirst}
	var seen *Seen
	adopted := w.adopting[full] != nil && d != nil
	if adopted {
		w.assume(d, r)
	}
	if r != nil {
		seen = w.look(full, r, typ)
		a.Plan.Seen = seen
	}
	switch {
	case d == nil:
		w.drop(a, r, seen)
	case r == nil:
		w.create(a, d, typ, "")
	default:
		w.change(a, d, r, seen, typ)
	}
	if adopted && a.Plan.Inputs != nil {
		w.adopts(a, d)
	} else if d != nil && r != nil && w.o.Adopt.Alone && !w.o.Adopt.AndEdit && a.Kind != Same {
		w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Position: a.Position,
			Because: "it is adopted already, and differs: kasbah enact carries that out, or -and-edit"})
	}
	if d != nil {
		a.Plan.Care = d.Care.Care
		a.Plan.Declared = d.Fingerprint().String()
	}
	if d != nil && a.Kind != Same && a.Kind != Adopt {
		w.awaits(a, d)
		if r != nil {
			w.moved(a, d, r.Declared)
		}
	}
	if a.Was != "" && a.Kind == Same {
		a.Kind = Rename
	}
	w.copyFirst(a, typ, seen)
	a.Undo = undoOf(a)
	a.Cost = cost(typ, a.Kind, seen, value.Map(a.Plan.Inputs))
	w.completePlan(a, d, r, w.dangling[full])
	w.forbid(a, typ, r != nil && r.Care.Guard, d != nil && d.Care.Guard)
	return a, nil
}

// completePlan notes where inputs are declared, and whether the record alone changes.
func (w *proposer) completePlan(a *Action, d *declare.Resource, r *ledger.Record, dangling bool) {
	if a.Kind == Same {
		if d != nil && (a.Plan.Declared != r.Declared || outdated(r, value.Map(a.Plan.Inputs), d.Care.Leave)) &&
			!dangling {
			a.Plan.RecordOnly = true
		} else {
			a.Plan = nil
		}
	} else if d != nil && a.Kind != Adopt { // which makes no call
		a.Plan.Positions = make(map[string]problem.Position, len(d.Inputs()))
		for name := range d.Inputs() {
			a.Plan.Positions[name], _ = d.At(name)
		}
	}
}

// forbid notes what forbids an action on a thing that is guarded as it is recorded, or as it is
// declared.
func (w *proposer) forbid(a *Action, typ *schema.Type, wasGuarded, isGuarded bool) {
	if why := keepsName(a, typ); why != "" {
		w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Because: why, Position: a.Position})
	}
	if wasGuarded && (a.Kind == Drop || a.Kind == Swap) || a.Kind == Swap && isGuarded {
		w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Because: guarded(a.Kind),
			Position: a.Position})
	}
}

// keepsName says why a swap is not possible that needs what its cloud keeps taken for some
// time; "" for one that is.
func keepsName(a *Action, typ *schema.Type) string {
	if typ.NameStays == 0 || a.Kind != Swap || !a.Remakes() || a.Plan.Seen.ID == "" {
		return ""
	}
	names := staysItself(a, typ)
	if names == nil {
		return ""
	}
	how := "for good"
	if typ.NameStays > 0 {
		how = "for " + schema.Span(typ.NameStays)
	}
	which := strings.Join(names, " and ")
	return fmt.Sprintf("it would be swapped, and its cloud keeps the %s of %s taken %s once it is gone; give the new "+
		"one another %s", which, schema.WithArticle(typ.Name), how, which)
}

// staysItself are the attributes that identify a thing together, where a swap leaves them as
// they are; nil where it does not.
func staysItself(a *Action, typ *schema.Type) []string {
	names := typ.Identify
	if id := typ.Attribute(typ.ID); len(names) == 0 && id != nil && !id.Output {
		names = []string{typ.ID}
	}
	if len(names) == 0 {
		names = []string{"name"}
	}
	for _, name := range names {
		if is, given := a.Plan.Inputs[name]; !given || ValuesDiffer(is, a.Plan.Seen.Live[name]) {
			return nil
		}
	}
	return names
}

// guarded says why a guarded resource stops a proposal, and what to do.
func guarded(k Kind) string {
	if k == Drop {
		return "it is guarded, and would be dropped; keep it declared, or enact its care without guard first"
	}
	return "it is guarded, and would be swapped; leave what is fixed as it is, or enact its care without guard first"
}

func (w *proposer) typeOf(d *declare.Resource, r *ledger.Record) (*schema.Type, error) {
	if d != nil {
		return d.Type, nil
	}
	drv, typ := SplitType(r.Type)
	c := w.o.Catalogs[drv]
	if c == nil {
		return nil, fmt.Errorf("the ledger records it, and kasbah.toml has no driver %q", drv)
	}
	if t := c.Types[typ]; t != nil {
		return t, nil
	}
	return nil, fmt.Errorf("the ledger records it, and driver %s no longer has the type %s", drv, typ)
}

// look is what is recorded and live of a resource.
func (w *proposer) look(full string, r *ledger.Record, typ *schema.Type) *Seen {
	s := &Seen{Version: r.Version, ID: r.ID, Tag: r.Tag, Inputs: r.Inputs, Needs: r.Needs, Leftovers: r.Leftovers,
		Unfinished: w.dangling[full]}
	if w.o.Live == nil {
		s.Live = r.Live
		return s
	}
	if l, ok := w.o.Live[r.Type][r.ID]; ok {
		attributes, err := l.Attributes()
		if err != nil {
			w.problems = append(w.problems, err)
		}
		s.Tag, s.Live = l.Tag, r.Conceal(typ, attributes)
	} else if r.ID != "" {
		s.Gone = true
	}
	for i, left := range s.Leftovers {
		if l, ok := w.o.Live[r.Type][left.ID]; ok {
			s.Leftovers = append([]ledger.Leftover(nil), s.Leftovers...)
			s.Leftovers[i].Tag = l.Tag
		}
	}
	return s
}

func (w *proposer) drop(a *Action, r *ledger.Record, seen *Seen) {
	a.Kind, a.Because = Drop, "no longer declared"
	if w.p.Raze {
		a.Because = ""
	}
	a.Plan.Care = r.Care
	switch {
	case w.movedAway(a, r):
	case seen.Gone:
		a.Because = strings.TrimPrefix(a.Because+", gone from the cloud already", ", ")
	case r.Care.AtDrop == schema.LetGo && r.Whole():
		a.Kind = Release
		a.Because = strings.TrimPrefix(a.Because+", and its care lets it go", ", and ")
		a.Because = strings.TrimPrefix(a.Because, ", ")
	}
}

// copyFirst notes that a copy is kept of what an action removes.
func (w *proposer) copyFirst(a *Action, typ *schema.Type, seen *Seen) {
	removes := a.Kind == Drop || a.Kind == Swap
	if !removes || a.Plan.Care.AtDrop != schema.CopyFirst || seen == nil || seen.Gone || seen.ID == "" &&
		len(seen.Leftovers) == 0 {
		return
	}
	if !typ.Copies {
		if typ.HoldsData {
			w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Position: a.Position,
				Because: "its care asks for a copy first, and its driver can no longer copy a " + typ.Name +
					"; enact its care without at_drop first"})
		}
		return
	}
	a.Plan.CopyFirst = true
	a.Because = strings.TrimPrefix(a.Because+"; a copy is kept", "; ")
}

func (w *proposer) create(a *Action, d *declare.Resource, typ *schema.Type, because string) {
	a.Kind, a.Because = New, because
	inputs, uses, err := w.wanted(d)
	if err != nil {
		w.problems = append(w.problems, fmt.Errorf("%s: %w", a.Address, err))
		return
	}
	a.Plan.Uses = uses
	if d.MadeName != "" {
		inputs = with(inputs, "name", d.MadeName)
	}
	a.Plan.Inputs = inputs
	a.Changes = initial(a.Ward, typ, inputs)
}

func (w *proposer) change(a *Action, d *declare.Resource, r *ledger.Record, seen *Seen, typ *schema.Type) {
	inputs, uses, err := w.wanted(d)
	if err != nil {
		w.problems = append(w.problems, fmt.Errorf("%s: %w", a.Address, err))
		return
	}
	a.Plan.Uses = uses
	whole := r.Whole() || w.dangling[a.Full()] && len(r.Leftovers) == 0
	if seen.Gone && whole {
		w.create(a, d, typ, "gone from the cloud")
		if old, ok := r.Inputs["name"]; ok && d.MadeName != "" {
			a.Plan.Inputs = with(a.Plan.Inputs, "name", old)
			a.Changes = initial(a.Ward, typ, value.Map(a.Plan.Inputs))
		}
		return
	}
	live := value.Map(seen.Live)
	if live == nil {
		live = value.Map(r.Inputs)
	}
	live, recorded := w.renewed(d, r, live)
	changes, full, left := comparison{ward: a.Ward, typ: typ, declared: inputs, recorded: recorded, live: live,
		leave: d.Care.Leave}.compare()
	a.Plan.Inputs = full
	for _, path := range left {
		w.p.Left = append(w.p.Left, LeftAlone{a.Ward, a.Address, path})
	}
	if len(changes) > 0 {
		a.Changes = changes
	}
	fixed := fixedReason(changes)
	switch {
	case !whole:
		a.Kind, a.Because = Swap, "a run ended between its halves"
	case fixed != "":
		a.Kind, a.Because = Swap, fixed
		if chain := w.chainReason(d, changes); chain != "" {
			a.Because += " and " + chain
		}
	case w.asked[a.Full()]:
		a.Kind, a.Because, a.Plan.Asked = Swap, "it was asked for", true
	case len(changes) > 0:
		a.Kind = Edit
		w.letGo(a, d, typ)
	default:
		a.Kind = Same
		return
	}
	if a.Kind == Swap {
		a.Plan.Order = w.order(a, d, typ)
	}
}

// outdated reports whether a record says something else than what is declared and
// live: somebody made it so past the record, or a call whose end was not known did.
func outdated(r *ledger.Record, inputs value.Map, leave []value.Path) bool {
	for name, v := range inputs {
		others := slices.ContainsFunc(leave, func(p value.Path) bool { return p[0].Key == name })
		if !others && !value.IsPending(v) && !value.IsPending(r.Inputs[name]) && ValuesDiffer(v, r.Inputs[name]) {
			return true
		}
	}
	return false
}

// letGo deals with an edit of what refers to something that is swapped
// drop-first: the old thing cannot go while it is referred to, and the new
// one is not there yet. A reference that may be left out is taken away first, out of
// a list of them or alone; where it may not, the resource must be swapped as well.
func (w *proposer) letGo(a *Action, d *declare.Resource, typ *schema.Type) {
	for _, n := range d.Needs {
		b := w.decided(n.Address)
		if b == nil || b.Kind != Swap || !b.Remakes() || b.Plan.Order != "drop-first" {
			continue
		}
		attr := typ.Attribute(n.Why)
		if attr == nil || !attr.Leads() {
			continue
		}
		_, short := value.SplitWard(n.Address)
		stay, possible := a.Plan.without(attr, b.Plan.Seen.ID)
		if !possible {
			a.Kind, a.Because, a.Plan.LetGo, a.Plan.Stay = Swap, n.Why+" is required, and "+short+" must go first", nil,
				nil
			return
		}
		if stay != nil {
			if a.Plan.Stay == nil {
				a.Plan.Stay = value.Attributes{}
			}
			a.Plan.Stay[n.Why] = stay
		}
		if !slices.Contains(a.Plan.LetGo, n.Why) {
			a.Plan.LetGo = append(a.Plan.LetGo, n.Why)
		}
		a.Because = "lets go of " + joinAnd(a.Plan.LetGo) + " first"
	}
}

// without is what stays of a reference, or a list of them, once it lets go of a thing:
// nil where nothing does. It is impossible where the cloud wants more.
func (p *Plan) without(attr *schema.Attribute, id string) (stay []any, possible bool) {
	if attr.Refers != "" {
		return nil, !attr.Required
	}
	list, _ := p.Seen.Live[attr.Name].([]any)
	if stayed, ok := p.Stay[attr.Name].([]any); ok {
		list = stayed
	}
	stay = slices.DeleteFunc(slices.Clone(list), func(v any) bool { return v == id })
	fewest := 0
	if attr.MinLength != nil {
		fewest = *attr.MinLength
	}
	switch {
	case len(stay) >= fewest:
		return append([]any{}, stay...), true
	case len(stay) == 0:
		return nil, !attr.Required
	}
	return nil, false
}

// chainReason names the swapped resources that a fixed attribute comes from.
func (w *proposer) chainReason(d *declare.Resource, changes []Change) string {
	var from []string
	seen := map[string]bool{}
	for _, c := range changes {
		if !c.Fixed {
			continue
		}
		value.Refs(c.WillBe.V, func(ref value.Ref) {
			if b := w.decided(ref.Address); b != nil && (b.Kind == Swap || b.Kind == New) && !seen[ref.Address] {
				seen[ref.Address] = true
				_, short := value.SplitWard(ref.Address)
				from = append(from, short+" "+map[Kind]string{Swap: "is swapped", New: "is new"}[b.Kind])
			}
		})
	}
	return strings.Join(from, " and ")
}

// order is how the halves of a swap follow each other: as its care says, or
// its type. What needs a thing that is dropped first must go before it.
func (w *proposer) order(a *Action, d *declare.Resource, typ *schema.Type) string {
	for _, n := range d.Needs {
		if b := w.decided(n.Address); b != nil && b.Kind == Swap && b.Remakes() && b.Plan.Order == "drop-first" {
			return "drop-first"
		}
	}
	if d.Care.Swap != "" {
		return d.Care.Swap
	}
	if id := typ.Attribute(typ.ID); id != nil && !id.Output && staysItself(a, typ) != nil {
		return "drop-first" // two of one id cannot be
	}
	return typ.Order()
}
