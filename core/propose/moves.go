package propose

import (
	"fmt"
	"slices"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// Some outputs move with work on other things: a subnet's count of free addresses with
// each machine that comes and goes. Where the schema says so, such an output is not
// known while something that refers to its owner changes. Whoever uses it is decided
// last, and is carried out after all of these.

// moving is what a proposal knows of outputs that move.
type moving struct {
	users map[int32]bool      // nodes that use such an output, and what rests on them
	stirs map[string][]string // full address of an owner -> what refers to it and changes
}

// moves reports whether a reference is to an output that moves.
func (w *proposer) moves(ref value.Ref) bool {
	if len(ref.Path) == 0 {
		return false
	}
	var full string
	if w.o.Declared != nil {
		if d := w.o.Declared.Resource(ref.Address); d != nil {
			full = d.FullType()
		}
	}
	if st := w.recorded.stored(ref.Address); full == "" && st != nil {
		full = st.Type
	}
	drv, typ := SplitType(full)
	c := w.o.Catalogs[drv]
	if c == nil || c.Types[typ] == nil {
		return false
	}
	a := c.Types[typ].Attribute(ref.Path[0].Key)
	return a != nil && a.Moves
}

// movingRefs are the references of a declaration to outputs that move.
func (w *proposer) movingRefs(d *declare.Resource) []value.Ref {
	if !d.UsesMoving() || !slices.ContainsFunc(d.Needs, func(n declare.Need) bool { return w.hasMoving(n.Address) }) {
		return nil
	}
	var out []value.Ref
	value.Refs(d.Inputs(), func(r value.Ref) {
		if w.moves(r) {
			out = append(out, r)
		}
	})
	return out
}

// hasMoving reports whether a resource is of a type with outputs that move.
func (w *proposer) hasMoving(full string) bool {
	d := w.o.Declared.Resource(full)
	return d != nil && w.typeMoves(d)
}

// typeMoves reports whether a declaration's type has outputs that move.
func (w *proposer) typeMoves(d *declare.Resource) bool {
	is, known := w.movingTypes[d.FullType()]
	if !known {
		for _, a := range d.Type.Attributes {
			is = is || a.Moves
		}
		w.movingTypes[d.FullType()] = is
	}
	return is
}

// last puts those who use an output that moves, and what rests on them, behind all
// others. It keeps the order otherwise.
func (w *proposer) last(order []int32) []int32 {
	w.moving = moving{users: map[int32]bool{}, stirs: map[string][]string{}}
	for i, d := range w.declared {
		if len(w.movingRefs(d)) > 0 {
			w.moving.users[int32(i)] = true
		}
	}
	if len(w.moving.users) == 0 {
		return order
	}
	var first, behind []int32
	for _, n := range order { // needs come before their users
		if !w.moving.users[n] && slices.ContainsFunc(w.g.Needs(n), func(m int32) bool { return w.moving.users[m] }) {
			w.moving.users[n] = true
		}
		if w.moving.users[n] {
			behind = append(behind, n)
		} else {
			first = append(first, n)
		}
	}
	return append(first, behind...)
}

// stir notes what an action refers to, before or after it, when it changes.
func (w *proposer) stir(a *Action) {
	if a == nil || a.Kind == Same || a.Kind == Rename || a.Kind == Adopt || a.Kind == Release {
		return
	}
	owners := append([]string{a.Full()}, a.Needs...)
	if a.Plan != nil && a.Plan.Seen != nil {
		owners = append(owners, a.Plan.Seen.Needs...)
	}
	slices.Sort(owners)
	for _, o := range slices.Compact(owners) {
		w.moving.stirs[o] = append(w.moving.stirs[o], a.Full())
	}
}

// mayMove reports whether a reference is to an output that the proposal's own work may
// move.
func (w *proposer) mayMove(ref value.Ref) bool {
	return len(w.moving.stirs[ref.Address]) > 0 && w.moves(ref)
}

// hasMoved reports whether a reference is to an output that moves, of a thing that is not as
// it is recorded.
func (w *proposer) hasMoved(ref value.Ref) bool {
	n, ok := w.g.Node(ref.Address)
	if !ok {
		return true
	}
	st := w.storedOf(n)
	return st == nil || !w.liveAsRecorded(st)
}

// asRecordedButMoved reports whether a thing that stays the same is live as it is recorded,
// but for outputs that move. Who uses one of those looks at it, and for all others that need
// the thing nothing has changed.
func (w *proposer) asRecordedButMoved(d *declare.Resource, st *ledger.Stored) (bool, error) {
	if w.liveAsRecorded(st) {
		return true, nil
	}
	l, there := w.o.Live[st.Type][st.ID]
	if d == nil || !there || !w.typeMoves(d) {
		return false, nil
	}
	r, err := st.Record()
	if err != nil {
		return false, err
	}
	live, err := l.Attributes()
	if err != nil {
		return false, err
	}
	live = r.Conceal(d.Type, live)
	for _, names := range []value.Map{live, value.Map(r.Live)} {
		for name := range names {
			if a := d.Type.Attribute(name); (a == nil || !a.Moves) && ValuesDiffer(r.Live[name], live[name]) {
				return false, nil
			}
		}
	}
	return true, nil
}

// awaits lets an action wait for all that may move what it uses, and says so where
// nothing else is its reason.
func (w *proposer) awaits(a *Action, d *declare.Resource) {
	var words []string
	for _, ref := range w.movingRefs(d) {
		if !w.mayMove(ref) {
			continue
		}
		for _, by := range w.moving.stirs[ref.Address] {
			if by != a.Full() && by != ref.Address {
				a.Plan.After = append(a.Plan.After, by)
			}
		}
		if text := fmt.Sprintf("%s of %s moves", ref.Path,
			value.Ref{Address: ref.Address}.In(a.Ward)); !slices.Contains(words, text) {
			words = append(words, text)
		}
	}
	slices.Sort(a.Plan.After)
	a.Plan.After = slices.Compact(a.Plan.After)
	all := len(words) > 0 && len(a.Changes) > 0
	for _, c := range a.Changes {
		all = all && value.IsPending(c.WillBe.V)
	}
	if a.Kind == Edit && all && a.Because == "" {
		a.Because = "if " + joinAnd(words)
	}
}

// moved says which outputs of others an edit follows, where its own declaration is as
// it was when it was enacted.
func (w *proposer) moved(a *Action, d *declare.Resource, declared string) {
	if a.Kind != Edit || a.Because != "" || !d.Fingerprint().Is(declared) {
		return
	}
	changed := map[string]bool{}
	for _, c := range a.Changes {
		if c.ByHand || value.IsPending(c.WillBe.V) {
			return
		}
		p, err := value.ParsePath(c.Path)
		if err != nil {
			return
		}
		changed[p[0].Key] = true
	}
	var words []string
	for _, name := range value.Keys(changed) {
		value.Refs(d.Inputs()[name], func(ref value.Ref) {
			if text := w.movedFrom(a, ref); text != "" && !slices.Contains(words, text) {
				words = append(words, text)
			}
		})
	}
	a.Because = strings.Join(words, " and ")
}

func (w *proposer) movedFrom(a *Action, ref value.Ref) string {
	r, err := w.recorded.get(ref.Address)
	if err != nil || r == nil || len(ref.Path) == 0 || ref.Secret {
		return ""
	}
	text := fmt.Sprintf("%s of %s moved", ref.Path, value.Ref{Address: ref.Address}.In(a.Ward))
	was, ok := ref.Path.At(map[string]any(r.Live))
	now, err := w.lookup(ref)
	if ok && err == nil && ValuesDiffer(was, now) && !value.IsSecret(was) {
		text += fmt.Sprintf(" from %s to %s", value.Plain(was), value.Plain(now))
	} else if r.Seen >= r.Run && r.Seen != "" { // run ids grow with time
		text += ", seen by run " + r.Seen
	}
	return text
}
