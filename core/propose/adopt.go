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

// Adoption is what a proposal brings under management: things that exist and that no ledger
// records.
type Adoption struct {
	Things  map[string]Taken // by the full address that takes each
	Alone   bool             // nothing else is proposed
	AndEdit bool             // what can be edited may differ
	// Recorded are the things that other environments record, as `TYPE ID`, each with where.
	Recorded map[string]string
	// Other is the type, with its driver, of a thing that the type does not have; "" where it does
	// not exist at all. It may be nil.
	Other func(typ, id string) string
}

// Taken is a thing that is adopted.
type Taken struct {
	ID   string
	From problem.Position // the line that says so; none where it was typed
}

// Ids are the ids of the things by the type that takes each, with its driver, as far as they are
// not recorded under their addresses yet.
func (a Adoption) Ids(d *declare.Declared, states map[string]*ledger.State) map[string][]string {
	out := map[string][]string{}
	for _, full := range value.Keys(a.Things) {
		ward, address := value.SplitWard(full)
		if r := d.Resource(full); r != nil && states[ward] != nil && states[ward].Records[address] == nil {
			out[r.FullType()] = append(out[r.FullType()], a.Things[full].ID)
		}
	}
	return out
}

// adopt takes what is adopted as recorded, as it is live. What cannot be adopted blocks the proposal.
func (w *proposer) adopt() {
	takes := make(map[string]string, len(w.o.Adopt.Things)) // `TYPE ID` -> the address that takes it
	w.adopting = make(map[string]*ledger.Record, len(w.o.Adopt.Things))
	declared := 0
	for _, d := range w.declared {
		full := d.Full()
		taken, adopts := w.o.Adopt.Things[full]
		if !adopts {
			continue
		}
		declared++
		if w.recorded.states[d.Ward] == nil || w.recorded.has(full) {
			continue // what is recorded stays as it is: the line was enacted before
		}
		thing := d.FullType() + " " + taken.ID
		l, there := w.o.Live[d.FullType()][taken.ID]
		because := ""
		switch at := w.manages(d.FullType(), taken.ID); {
		case w.o.Live == nil:
			because = fmt.Sprintf("whether it can adopt %s is not known without a look at what is live", taken.ID)
		case takes[thing] != "":
			because = fmt.Sprintf("it is to adopt %s, and so is %s: one of them only", taken.ID, takes[thing])
		case at != "":
			because = fmt.Sprintf("%s is recorded already, as %s", taken.ID, at)
		case w.o.Adopt.Recorded[thing] != "":
			because = fmt.Sprintf("%s is recorded already, as %s", taken.ID, w.o.Adopt.Recorded[thing])
		case d.Type.Unshown:
			because = fmt.Sprintf("its cloud shows no %s, so nothing could be compared", d.Type.Name)
		case !there:
			because = w.notThere(d, taken.ID)
		}
		if because != "" {
			w.p.Blocked = append(w.p.Blocked, Block{Ward: d.Ward, Address: d.Address, Because: because,
				Position: positionOf(d)})
			continue
		}
		takes[thing] = full
		live, err := l.Attributes()
		if err != nil {
			w.problems = append(w.problems, err)
			continue
		}
		r := &ledger.Record{Address: d.Address, Type: d.FullType(), ID: taken.ID, Tag: l.Tag, Inputs: value.Attributes{}}
		if name, ok := live["name"]; ok && d.MadeName != "" {
			r.Inputs["name"] = name // the cloud's from now on, as if it had been made by the pattern
		}
		r.Take(d.Type, full, live)
		w.adopting[full] = r
		w.recorded.set(full, r)
	}
	if declared < len(w.o.Adopt.Things) {
		w.adoptNothing()
	}
}

// adoptNothing warns of what is to be adopted and is not declared.
func (w *proposer) adoptNothing() {
	for _, full := range value.Keys(w.o.Adopt.Things) {
		ward, _ := value.SplitWard(full)
		if w.recorded.states[ward] != nil && w.o.Declared.Resource(full) == nil {
			taken := w.o.Adopt.Things[full]
			w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("%s is to adopt %s, and is not declared (%s)", full, taken.ID,
				taken.From.Short()))
		}
	}
}

func positionOf(d *declare.Resource) problem.Position {
	at, _ := d.Position()
	return at
}

// notThere says that a thing does not exist, or what it is instead.
func (w *proposer) notThere(d *declare.Resource, id string) string {
	if w.o.Adopt.Other != nil {
		if typ := w.o.Adopt.Other(d.FullType(), id); typ != "" {
			return fmt.Sprintf("%s is %s, not %s", id, schema.WithArticle(typ), schema.WithArticle(d.FullType()))
		}
	}
	return fmt.Sprintf("there is no %s %s", d.FullType(), id)
}

// assume takes what the cloud never shows of an adopted thing as declared: it cannot be compared.
func (w *proposer) assume(d *declare.Resource, r *ledger.Record) {
	var unseen []string
	for name, v := range d.Inputs() {
		at := d.Type.Attribute(name)
		if !value.IsSecret(v) && (at == nil || !at.Unshown) {
			continue
		}
		_, shown := r.Live[name]
		switch {
		case value.IsSecret(v):
			r.Inputs[name] = v
			if is, shown := r.Hidden[name]; shown {
				r.Hidden[name] = is
			} else if clear, err := value.Resolve(v, w.reveal); err == nil && !value.IsPending(clear) {
				if r.Hidden == nil {
					r.Hidden = value.Attributes{}
				}
				r.Hidden[name] = clear
			}
		case !shown:
			if known, err := value.Resolve(v, w.lookup); err == nil && !value.IsPending(known) {
				r.Inputs[name] = known
			}
		}
		if !shown {
			unseen = append(unseen, name)
		}
	}
	if unseen != nil {
		slices.Sort(unseen)
		w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("%s: its cloud does not show %s, which is taken to be as declared",
			d.Full(), joinAnd(unseen)))
	}
}

// adopts makes an action that of a thing which is adopted. What differs blocks it, but for what
// may be edited.
func (w *proposer) adopts(a *Action, d *declare.Resource) {
	a.Adopts = a.Plan.Seen.ID
	switch {
	case a.Kind == Same:
		a.Kind = Adopt
		return
	case a.Kind == Edit && w.o.Adopt.AndEdit:
		return
	}
	a.Kind, a.Because, a.Plan.Order, a.Plan.LetGo, a.Plan.Stay = Adopt, "", "", nil, nil
	for _, because := range NotAdopted(d, a.Adopts, a.Changes) {
		w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Position: a.Position, Because: because})
	}
}

// NotAdopted says in sentences what keeps a resource from adopting a thing: changes from how it is
// live to how it is declared.
func NotAdopted(d *declare.Resource, id string, changes []Change) []string {
	var fixed, free, unknown, from []string
	for _, c := range changes {
		path, err := value.ParsePath(c.Path)
		if err != nil {
			continue
		}
		text := fmt.Sprintf("%s is %s live and %s declared", c.Path, value.Plain(c.Was.V), value.Plain(c.WillBe.V))
		if c.Secret {
			text = c.Path + " is another secret live"
		}
		was, ok1 := c.Was.V.(string)
		willBe, ok2 := c.WillBe.V.(string)
		if ok1 && ok2 && strings.EqualFold(was, willBe) {
			text += ", which differs in case alone"
		}
		if at, _ := d.At(path[0].Key); at.Short() != "" {
			text += " (" + at.Short() + ")"
		}
		switch {
		case !c.Secret && value.IsPending(c.WillBe.V):
			unknown = append(unknown, c.Path)
			value.Refs(c.WillBe.V, func(ref value.Ref) { from = append(from, value.Ref{Address: ref.Address}.In(d.Ward)) })
		case c.Fixed:
			fixed = append(fixed, text)
		default:
			free = append(free, text)
		}
	}
	var out []string
	say := func(texts []string, then string) {
		if texts != nil {
			out = append(out, "it would adopt "+id+", and "+joinAnd(texts)+then)
		}
	}
	if slices.Sort(from); len(from) > 0 {
		say(unknown, " cannot be compared before "+joinAnd(slices.Compact(from))+" is recorded: adopt that as well")
	}
	say(fixed, "; what is fixed cannot be edited, and a swap would replace what is to be kept: correct the declaration")
	say(free, "; -and-edit edits it, or correct the declaration")
	return out
}
