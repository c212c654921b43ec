package propose

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"kasbah/core/approval"
	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/graph"
	"kasbah/core/ledger"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/steps"
	"kasbah/core/value"
)

// Options is what a proposal is made from.
type Options struct {
	Estate, Env string
	Currency    string // of costs; "" where it is not said
	Maker
	Choice
	Declared *declare.Declared          // nil for razing
	Graph    *graph.Graph               // of what is declared, when it is known already
	States   map[string]*ledger.State   // by ward
	Catalogs map[string]*schema.Catalog // by driver
	Live     Live                       // nil when offline
	Secrets
	Adopt    Adoption
	Approval map[string]*approval.Policy // by ward, as the files have it; nil where no one must sign
	Elsewhere
	Rules    *rules.Set      // that judge the proposal; nil for none
	Found    []rules.Finding // of rules and steps, about what is declared
	Readings []Reading       // of other estates
	Steps    []steps.Ran     // that ran on what is declared
	Warnings []string        // what else there is to be said, each a sentence
}

// Maker is who makes a proposal, and with what.
type Maker struct {
	By, Program string
	ByKey       string // public key of who proposes, which will sign it; "" for none
	Run         string // that holds the locks already; "" for none
}

// Choice is what of an estate is proposed.
type Choice struct {
	Wards []string
	Only  []string // patterns of addresses; all when empty
	Swap  []string // patterns of addresses that are swapped though nothing differs
}

// Secrets are those that declarations ask for.
type Secrets struct {
	Sealed bool                              // the ledgers are, so that secrets may be recorded
	Secret func(name string) (string, error) // fetches one, to see whether it has changed; nil when none can be had
}

// Elsewhere answers for what is not in the proposed wards.
type Elsewhere struct {
	Others  []string                                 // the estate's wards that are not proposed
	Outside func(ward string) (*ledger.State, error) // what the ledger of such a ward says
	// RenamedAway are the addresses of the proposed wards that other wards say they
	// have taken over, each with its address there. It is asked only when
	// something would be dropped; it may be nil.
	RenamedAway func() (map[string]string, error)
	// Find looks things up by the type with its driver; nil when offline.
	Find func(typ string, match value.Map) ([]driver.Live, error)
	// Vetters are the drivers that can tell what is wrong before it is sent; none
	// when offline.
	Vetters map[string]driver.Vetter
}

type proposer struct {
	o        Options
	p        *Proposal
	g        *graph.Graph              // of everything declared or recorded: first what is declared, in its order
	declared []*declare.Resource       // by node; there are fewer of them than nodes when something is only recorded
	actions  []*Action                 // by node; nil for what was not decided yet, or is left out
	recorded *records                  // with unfinished calls taken as done
	dangling map[string]bool           // full addresses with an unfinished call
	stored   []*ledger.Stored          // by node: what is recorded of what is declared; nil for nothing
	alike    []bool                    // by node: declared as it was when it was enacted
	since    []int64                   // by node: the entry in which what stays as it is changed last; -1 for what changes
	was      map[string]string         // full address -> the former one under which it is recorded
	selected map[string]bool           // by -only; nil for all
	found    map[string]*Found         // by full address
	asked    map[string]bool           // to be swapped though nothing differs, by full address
	adopting map[string]*ledger.Record // by full address, as it is live
	managed  map[string]string         // `TYPE ID` -> full address, of everything the estate records
	problems []error

	moving      moving
	movingTypes map[string]bool // by type with its driver: whether outputs of it move
}

// Propose makes the proposal. It writes nothing, and reads nothing but
// through Outside and Find.
func Propose(ctx context.Context, o Options) (*Proposal, error) {
	w := &proposer{o: o, dangling: map[string]bool{}, was: map[string]string{}, movingTypes: map[string]bool{},
		found: map[string]*Found{}, adopting: map[string]*ledger.Record{}}
	w.recorded = &records{states: map[string]*ledger.State{}, instead: map[string]*ledger.Record{}}
	w.p = &Proposal{
		Currency: o.Currency,
		Actions:  []*Action{},
		Forecast: Forecast{Chain: []string{}},
		Head: Head{Format: Format, ID: ulid.Make().String(), Estate: o.Estate, Env: o.Env,
			Made: time.Now().UTC().Truncate(time.Second), By: o.By, ByKey: o.ByKey, Program: o.Program,
			Offline: o.Live == nil, Raze: o.Declared == nil},
		Findings: Findings{Warnings: []string{}, Rules: []rules.Finding{}, Data: []string{}, Security: []string{},
			Blocked: []Block{}, Left: []LeftAlone{}, Unfinished: []Unfinished{}, NotAssured: []string{}},
	}
	w.p.Readings = o.Readings
	w.p.Rules = append(w.p.Rules, o.Found...)
	w.p.Steps = append(w.p.Steps, o.Steps...)
	w.p.Warnings = append(w.p.Warnings, o.Warnings...)
	if err := w.gather(); err != nil {
		return nil, err
	}
	w.match()
	w.connect()
	if err := w.selectOnly(w.g); err != nil {
		return nil, err
	}
	if err := w.askSwaps(w.g); err != nil {
		return nil, err
	}
	order, cycle := w.g.Order()
	if cycle != nil {
		return nil, fmt.Errorf("the graph has a cycle: %s", strings.Join(cycle, " needs "))
	}
	w.since = make([]int64, w.g.Len())
	w.actions = make([]*Action, w.g.Len())
	for _, n := range w.last(order) {
		if err := w.decide(n); err != nil {
			w.problems = append(w.problems, err)
		}
		if !w.moving.users[n] {
			w.stir(w.actions[n])
		}
	}
	w.lookForAll()
	if err := errors.Join(w.problems...); err != nil {
		return nil, err
	}
	if err := w.vet(ctx); err != nil {
		return nil, err
	}
	if err := w.finish(ctx); err != nil {
		return nil, err
	}
	return w.p, errors.Join(w.problems...)
}

// decide decides what becomes of a node.
func (w *proposer) decide(n int32) error {
	full := w.g.Name(n)
	w.since[n] = -1
	if w.selected != nil && !w.selected[full] {
		if !w.o.Adopt.Alone {
			w.p.LeftOut++
		}
		return nil
	}
	var d *declare.Resource
	if int(n) < len(w.declared) {
		d = w.declared[n]
	}
	st := w.storedOf(n)
	same := w.unchanged(n, full, st)
	if same && w.moving.users[n] && slices.ContainsFunc(w.movingRefs(d),
		func(ref value.Ref) bool { return w.mayMove(ref) || w.hasMoved(ref) }) {
		same = false
	}
	a, err := w.action(full, d, same)
	if err != nil {
		return err
	}
	w.actions[n] = a
	if st != nil && a.Kind == Same && !w.dangling[full] && a.Was == "" {
		if still, err := w.asRecordedButMoved(d, st); err != nil {
			return err
		} else if still {
			w.since[n] = st.Seq
		}
	}
	return nil
}

// decided is what was decided about a resource; nil when nothing was yet.
func (w *proposer) decided(full string) *Action {
	if n, ok := w.g.Node(full); ok {
		return w.actions[n]
	}
	return nil
}

// gather collects the declared resources and the records, taking unfinished
// calls as done.
func (w *proposer) gather() error {
	for _, ward := range w.o.Wards {
		s := w.o.States[ward]
		w.p.Wards = append(w.p.Wards, WardAt{Ward: ward, Entry: s.Seq, Hash: s.Hash})
		for _, h := range s.Holders() {
			if h.Run == w.o.Run {
				continue
			}
			what := "a part of " + ward
			if h.Begin.Scope.Whole {
				what = ward
			}
			w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("%s is locked by %s on %s (%s); what that run still does "+
				"is not in this preview", what, h.Who, h.Host, h.Begin.Command))
		}
		w.recorded.states[ward] = s
		for _, in := range s.Unresolved() {
			full := value.InWard(ward, in.Intent.Address)
			w.p.Unfinished = append(w.p.Unfinished, Unfinished{Ward: ward, Run: in.Run, Address: in.Intent.Address,
				Call: in.Intent.Call})
			w.dangling[full] = true
			w.intend(full, &in.Intent)
		}
	}
	if w.o.Declared == nil {
		return nil
	}
	w.declared = w.o.Declared.Resources
	if err := w.renames(); err != nil {
		return err
	}
	w.adopt()
	for i, at := range w.p.Wards {
		for _, dw := range w.o.Declared.Wards {
			if dw.Name != at.Ward {
				continue
			}
			at.Files = dw.Files
			at.Published = map[string]value.Any{}
			for n, p := range dw.Published {
				at.Published[n] = value.Any{V: p.Value}
			}
			at.Reads = readsOf(dw)
			w.p.Wards[i] = at
		}
	}
	return nil
}

// intend takes an unfinished call as done.
func (w *proposer) intend(full string, in *ledger.Intent) {
	switch in.Call {
	case "create", "update":
		if in.Plan != nil {
			r := *in.Plan
			old, err := w.recorded.get(full)
			if err != nil {
				w.problems = append(w.problems, err)
			}
			if old != nil {
				r.Version = old.Version
				if r.ID == "" {
					r.Live = nil
				}
			}
			w.recorded.set(full, &r)
		}
	case "delete":
		switch {
		case in.Plan == nil:
			w.recorded.set(full, nil)
		default:
			r := *in.Plan
			w.recorded.set(full, &r)
		}
	}
}

// wanted are a declaration's inputs with what is known filled in, and what
// they were filled in from. Where nothing is filled in, they are the declaration's own: whoever
// changes them makes a copy.
func (w *proposer) wanted(d *declare.Resource) (value.Map, []Use, error) {
	if in := d.Inputs(); in != nil && !value.IsPending(in) {
		return in, nil, nil
	}
	var uses []Use
	v, err := value.Resolve(d.Inputs(), func(ref value.Ref) (any, error) {
		v, err := w.lookup(ref)
		if err == nil {
			uses = append(uses, Use{ref.Address, ref.Path.String(), value.Any{V: v}})
		}
		return v, err
	})
	if err != nil {
		return nil, nil, err
	}
	return v.(map[string]any), uses, nil
}

// lookup answers for an attribute of a resource that was decided before, of
// one in another ward, or of a thing that is looked up.
func (w *proposer) lookup(ref value.Ref) (any, error) {
	if answer, v, err := w.lookOutside(ref); answer {
		return v, err
	}
	if ref.Secret || w.mayMove(ref) {
		return nil, value.ErrUnknown
	}
	a := w.decided(ref.Address)
	r, err := w.recorded.get(ref.Address)
	if err != nil {
		return nil, err
	}
	if r != nil && r.ID != "" && w.dangling[ref.Address] && (a == nil || a.Kind == Same || a.Kind == Edit) &&
		w.isID(r, ref.Path) {
		return r.ID, nil // an unfinished edit leaves it as it is
	}
	if r == nil || w.dangling[ref.Address] || a != nil && (a.Leaves() || a.Remakes()) {
		return nil, value.ErrUnknown
	}
	attrs := value.Map(r.Live)
	if w.o.Live != nil {
		l, ok := w.o.Live[r.Type][r.ID]
		if !ok {
			return nil, value.ErrUnknown
		}
		if attrs, err = l.Attributes(); err != nil {
			return nil, err
		}
	}
	if len(ref.Path) > 0 && r.Hidden[ref.Path[0].Key] != nil { // made from a secret
		return nil, value.ErrUnknown
	}
	v, ok := ref.Path.At(attrs)
	if !ok {
		return nil, nil
	}
	return v, nil
}

// isID reports whether a path is that of the attribute that identifies a thing.
func (w *proposer) isID(r *ledger.Record, p value.Path) bool {
	typ, err := w.typeOf(nil, r)
	return err == nil && len(p) == 1 && p[0].Key == typ.ID
}
