package propose

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kasbah/core/form"
	"kasbah/core/ledger"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// A kept proposal holds what is done and what is shown. What is shown follows from what is
// done and from what is recorded, and whenever the file is reviewed, signed or carried out
// it is made again and held against what the file says: nobody signs one thing and gets
// another.

// Standing is what a kept proposal is held against.
type Standing struct {
	Catalogs map[string]*schema.Catalog
	States   map[string]*ledger.State // as they are now, by ward
	Rules    *rules.Set               // nil for none
	Currency string                   // of costs; "" where it is not said
}

// ShownError says that a kept proposal shows something else than it does.
type ShownError struct{ What string }

// Error says what differs.
func (e *ShownError) Error() string {
	return e.What + ": it would do something else than it shows; propose again"
}

func differs(format string, args ...any) error { return &ShownError{fmt.Sprintf(format, args...)} }

// Stands is a *ShownError unless a kept proposal shows what it does. Which data it loses,
// which security it touches, what it costs and what blocks it is computed, and what the
// file says of it is replaced.
func (p *Proposal) Stands(ctx context.Context, o Standing) error {
	if p.Currency != o.Currency {
		return differs("costs are in %q here, and the file says %q", o.Currency, p.Currency)
	}
	shown := shownAs{o: o, cost: &Cost{}}
	for _, a := range p.Actions {
		if err := shown.action(a); err != nil {
			return err
		}
	}
	switch {
	case !slices.Equal(sortedTexts(p.Data), sortedTexts(shown.data)):
		return differs("the resources whose data would be lost are %s, and the file says %s", few(shown.data),
			few(p.Data))
	case !slices.Equal(sortedTexts(p.Security), sortedTexts(shown.security)):
		return differs("the resources whose security changes are %s, and the file says %s", few(shown.security),
			few(p.Security))
	}
	p.Data, p.Security = append([]string{}, shown.data...), append([]string{}, shown.security...)
	if p.Cost = nil; shown.priced {
		p.Cost = shown.cost
	}
	for _, b := range shown.blocked {
		if !slices.ContainsFunc(p.Blocked, func(x Block) bool { return x.Ward == b.Ward && x.Address == b.Address }) {
			p.Blocked = append(p.Blocked, b)
		}
	}
	if err := p.asksAgain(o); err != nil {
		return err
	}
	return p.ruledAgain(ctx, o)
}

// asksAgain holds the signatures that the file says are needed against the policy in force.
func (p *Proposal) asksAgain(o Standing) error {
	for i := range p.Wards {
		at := &p.Wards[i]
		s := o.States[at.Ward]
		if s == nil || s.Approval == nil {
			continue
		}
		j := slices.IndexFunc(p.Approvals, func(a Approval) bool { return a.Ward == at.Ward })
		because := p.asks(at, s.Approval)
		if j >= 0 && p.Approvals[j].Policy != s.Approval.Digest() {
			continue // who must sign has changed since, and carrying it out is refused for it
		}
		switch {
		case len(because) > 0 && j < 0:
			return differs("%s asks for signatures (%s), and the file asks for none", at.Ward,
				strings.Join(because, ", "))
		case len(because) == 0 && j >= 0:
			return differs("%s asks for no signatures, and the file asks for some", at.Ward)
		case j >= 0 && (!slices.Equal(p.Approvals[j].Because, because) ||
			p.Approvals[j].Signatures != p.wanted(s.Approval) || !maps.Equal(p.Approvals[j].Keys, s.Approval.Keys)):
			return differs("%s asks for %s (%s), and the file says otherwise", at.Ward, count(p.wanted(s.Approval),
				"signature"), strings.Join(because, ", "))
		}
	}
	return nil
}

// ruledAgain lets the rules judge what is done.
func (p *Proposal) ruledAgain(ctx context.Context, o Standing) error {
	if o.Rules == nil || len(o.Rules.Rules) == 0 {
		return nil
	}
	var subjects []*rules.Subject
	for _, a := range p.Actions {
		typ, err := o.typeOf(a)
		if err != nil {
			return err
		}
		s := subjectOf(a, typ)
		if a.Plan == nil || a.Plan.Seen == nil {
			if st := o.stored(a.Full()); st != nil {
				r, err := st.Record()
				if err != nil {
					return err
				}
				s.Was, s.Excuse, s.Guarded = value.Map(r.Live), r.Care.Excuse, r.Care.Guard
				if a.Kind == Same {
					s.Inputs = value.Map(r.Inputs)
				}
			}
		}
		subjects = append(subjects, s)
	}
	c := p.Counts
	report, err := o.Rules.Judge(ctx, rules.Proposed, subjects, value.Map{
		"counts": value.Map{"new": int64(c.New), "edit": int64(c.Edit), "swap": int64(c.Swap), "drop": int64(c.Drop),
			"adopt":   int64(c.Adopt),
			"release": int64(c.Release), "rename": int64(c.Rename), "same": int64(c.Same)},
		"cost": costMap(p.Cost),
	})
	if err != nil {
		return err
	}
	for i := range report.Findings {
		f := &report.Findings[i]
		known := func(b Block) bool { return b.Ward == f.Ward && b.Address == f.Address && b.Rule == f.Rule }
		if f.Blocks() && !slices.ContainsFunc(p.Blocked, known) {
			p.Blocked = append(p.Blocked, Block{Ward: f.Ward, Address: f.Address, Because: f.Sentence(),
				Position: f.Position, Rule: f.Rule})
		}
	}
	return nil
}

func sortedTexts(list []string) []string {
	out := slices.Clone(list)
	slices.Sort(out)
	return out
}

func (o Standing) typeOf(a *Action) (*schema.Type, error) {
	drv, typ := SplitType(a.Type)
	c := o.Catalogs[drv]
	if c == nil || c.Types[typ] == nil {
		return nil, fmt.Errorf("%s: no driver here has the type %s, so what would be done is not known", a.Address,
			a.Type)
	}
	return c.Types[typ], nil
}

func (o Standing) stored(full string) *ledger.Stored {
	ward, address := value.SplitWard(full)
	if s := o.States[ward]; s != nil {
		return s.Records[address]
	}
	return nil
}

// shownAs gathers what a proposal would show.
type shownAs struct {
	o              Standing
	data, security []string
	blocked        []Block
	cost           *Cost
	priced         bool
}

func (w *shownAs) action(a *Action) error {
	typ, err := w.o.typeOf(a)
	if err != nil {
		return err
	}
	if err := w.recorded(a, typ); err != nil {
		return err
	}
	if a.Plan == nil {
		w.add(a.Cost)
		return nil
	}
	if a.Plan.HoldsData != typ.HoldsData {
		return differs("%s: whether it holds data differs from its type", a.Address)
	}
	changes, err := changesOf(a, typ)
	if err != nil {
		return err
	}
	if err := sameChanges(a, changes); err != nil {
		return err
	}
	switch fits, wants := a.becauseFits(changes); {
	case !fits:
		return differs("%s: the reason for its %s is %q, and the file says %q", a.Address, a.Kind, wants, a.Because)
	case a.Undo != undoOf(a):
		return differs("%s: undoing it would be %q, and the file says %q", a.Address, undoOf(a), a.Undo)
	case a.Kind == Edit && fixedReason(changes) != "":
		return differs("%s: %s, so it cannot be edited", a.Address, fixedReason(changes))
	}
	a.Cost = cost(typ, a.Kind, a.Plan.Seen, value.Map(a.Plan.Inputs))
	w.add(a.Cost)
	if typ.HoldsData && !a.Plan.CopyFirst && (a.Kind == Drop || a.Kind == Swap) && !(a.Plan.Seen != nil &&
		a.Plan.Seen.Gone) {
		w.data = append(w.data, a.Full())
	}
	if slices.ContainsFunc(changes, func(c Change) bool { return c.Security }) {
		w.security = append(w.security, a.Full())
	}
	return nil
}

func (w *shownAs) add(one *Cost) {
	w.cost.Add(one)
	w.priced = w.priced || one != nil
}

// recorded holds what an action has seen of a record against the record, where that is
// still the one it has seen. One that has moved on since is refused when it is carried out.
func (w *shownAs) recorded(a *Action, typ *schema.Type) error {
	at := a.Full()
	if a.Was != "" && w.o.stored(at) == nil {
		at = a.Was
	}
	st := w.o.stored(at)
	if st == nil {
		return nil
	}
	r, err := st.Record()
	if err != nil {
		return err
	}
	if r.Care.Guard && (a.Kind == Drop || a.Kind == Swap) || a.Kind == Swap && a.Plan != nil && a.Plan.Care.Guard {
		w.blocked = append(w.blocked, Block{Ward: a.Ward, Address: a.Address, Because: guarded(a.Kind),
			Position: a.Position})
	}
	if a.Plan == nil || a.Plan.Seen == nil {
		return nil
	}
	s := a.Plan.Seen
	if s.Version != r.Version || s.Unfinished {
		return nil
	}
	if s.ID != r.ID || !value.Equal(map[string]any(s.Inputs), map[string]any(r.Inputs)) || !sameLeftovers(s.Leftovers,
		r.Leftovers) {
		return differs("%s: it is not recorded as the file says", a.Address)
	}
	return nil
}

func sameLeftovers(a, b []ledger.Leftover) bool {
	return slices.EqualFunc(a, b, func(x, y ledger.Leftover) bool { return x.ID == y.ID && x.Type == y.Type })
}

// changesOf are an action's changes, made from what it does and what it has seen.
func changesOf(a *Action, typ *schema.Type) ([]Change, error) {
	s := a.Plan.Seen
	inputs := value.Map(a.Plan.Inputs)
	switch a.Kind {
	case New:
		return initial(a.Ward, typ, inputs), nil
	case Edit, Swap:
	default:
		return nil, nil
	}
	live := value.Map(s.Live)
	if live == nil {
		live = value.Map(s.Inputs)
	}
	c := comparison{ward: a.Ward, typ: typ, declared: inputs, recorded: value.Map(s.Inputs), live: live}
	// made once, and the cloud's from then on
	if typ.NamedByPattern() && !ValuesDiffer(inputs["name"], s.Inputs["name"]) {
		c.declared = maps.Clone(inputs)
		delete(c.declared, "name")
	}
	c.leave = a.Plan.Care.Leave
	changes, _, _ := c.compare()
	return changes, nil
}

// sameChanges holds an action's changes against those that it shows. Whether a secret is
// another one than before nobody can tell from the file, and it is never shown: there it is
// enough that the file names a secret that is sent.
func sameChanges(a *Action, want []Change) error {
	shown := map[string]Change{}
	for _, c := range a.Changes {
		if _, twice := shown[c.Path]; twice {
			return differs("%s: %s is listed twice", a.Address, c.Path)
		}
		shown[c.Path] = c
	}
	for _, w := range want {
		c, there := shown[w.Path]
		delete(shown, w.Path)
		switch {
		case w.Secret && (!there || c.Secret && sameSource(c, w)):
		case !there:
			return differs("%s: %s would be %s, and the file does not show it", a.Address, w.Path, plainOrHidden(w))
		case ValuesDiffer(c.WillBe.V, w.WillBe.V) || c.From != w.From:
			return differs("%s: %s would be %s, and the file shows %s", a.Address, w.Path, plainOrHidden(w),
				plainOrHidden(c))
		case !c.Secret && !w.Secret && ValuesDiffer(c.Was.V, w.Was.V), c.Fixed != w.Fixed, c.Secret != w.Secret,
			c.Security != w.Security, c.ByHand != w.ByHand:
			return differs("%s: %s is not shown as it is", a.Address, w.Path)
		}
	}
	for path, c := range shown {
		p, err := value.ParsePath(path)
		if v, ok := p.At(map[string]any(a.Plan.Inputs)); err == nil && ok && c.Secret && value.IsSecret(v) {
			continue
		}
		return differs("%s: the file shows %s, which would not change", a.Address, path)
	}
	return nil
}

func sameSource(a, b Change) bool { return a.From == b.From }

func plainOrHidden(c Change) string {
	if c.Secret || value.IsSecret(c.WillBe.V) {
		return "(secret)"
	}
	return value.Plain(c.WillBe.V)
}

// Reasons that follow from more than the action itself, by their form.
var (
	chainForm = form.Of(`^ and [^;]+ is (swapped|new)( and [^;]+ is (swapped|new))*$`)
	letForm   = form.Of(`^[a-z0-9_]+ is required, and [^;]+ must go first$`)
	movesForm = form.Of(`^(if [^;]+ moves( and [^;]+ moves)*|[^;]+ of [^;]+ moved[^;]*)$`)
)

// becauseFits reports whether an action's reason is one that follows from what it does, and
// says which would.
func (a *Action) becauseFits(changes []Change) (fits bool, wants string) {
	said, s := a.Because, a.Plan.Seen
	if a.Plan.CopyFirst {
		rest, copied := strings.CutSuffix(said, "; a copy is kept")
		if !copied && said != "a copy is kept" {
			return false, said + "; a copy is kept"
		}
		if said = rest; !copied {
			said = ""
		}
	}
	gone := s != nil && s.Gone
	switch a.Kind {
	case New:
		wants = map[bool]string{true: "gone from the cloud"}[gone]
		return said == wants, wants
	case Drop:
		wants = map[bool]string{true: "no longer declared, gone from the cloud already",
			false: "no longer declared"}[gone]
		return said == wants || said == strings.TrimPrefix(strings.TrimPrefix(wants, "no longer declared"), ", "), wants
	case Release:
		wants = "no longer declared, and its care lets it go"
		return said == wants || said == "its care lets it go" || strings.HasPrefix(said, "it is ") &&
			strings.HasSuffix(said, " now"), wants
	case Swap:
		fixed := fixedReason(changes)
		switch {
		case said == "a run ended between its halves":
			return s.ID == "" || len(s.Leftovers) > 0 || s.Unfinished, fixed
		case fixed != "":
			rest, ok := strings.CutPrefix(said, fixed)
			return ok && (rest == "" || chainForm().MatchString(rest)), fixed
		case a.Plan.Asked:
			return said == "it was asked for", "it was asked for"
		}
		return letForm().MatchString(said), "its type requires it"
	case Edit:
		if len(a.Plan.LetGo) > 0 {
			wants = "lets go of " + joinAnd(a.Plan.LetGo) + " first"
			return said == wants, wants
		}
		return said == "" || movesForm().MatchString(said), ""
	}
	return said == "", ""
}

// proposedBy is an error unless the key that a kept proposal names as its proposer's has
// signed it.
func (p *Proposal) proposedBy(signed func(key string) bool) error {
	if p.ByKey == "" {
		return errors.New("it is not signed by who proposed it")
	}
	if !signed(p.ByKey) {
		return errors.New("the signature of who proposed it is not over this proposal")
	}
	return nil
}
