package enact

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// manyCalls is how many are not tried unless somebody asks for it: that would take longer
// than the proposal.
const manyCalls = 5000

// RehearseOptions are what a rehearsal needs.
type RehearseOptions struct {
	Clouds        // what moved meanwhile is read from the ledgers
	Each   bool   // ask drivers that need a request for each call, too
	Run    string // the run that holds locks for the proposal; "" for none
}

// Rehearse tries what a proposal would do with the drivers that can, without effect: its
// calls in their order, with references between them. What a cloud would refuse blocks the
// proposal, at its line. In a ward that another run is changing, or has changed since the
// proposal was made, a refusal says nothing about the proposal: it counts as not tried.
func Rehearse(ctx context.Context, p *propose.Proposal, o RehearseOptions) error {
	if len(p.Unfinished) > 0 { // what is there is found out first
		return nil
	}
	steps, err := plan(p)
	if err != nil {
		return err
	}
	byDriver := map[string]*rehearsal{}
	total := 0
	for _, s := range steps {
		if s.half != create && s.half != edit && s.half != letGo && s.half != remove {
			continue
		}
		if s.action.Plan.RecordOnly {
			continue
		}
		total++
		name, _ := propose.SplitType(s.action.Type)
		r, ok := o.Drivers[name].(driver.Rehearser)
		if !ok || o.Catalogs[name] == nil {
			continue
		}
		if can, together := r.Rehearsals(); !can || !together && !o.Each {
			continue
		}
		if byDriver[name] == nil {
			byDriver[name] = &rehearsal{driver: r, catalog: o.Catalogs[name], made: map[string]int{}}
		}
		byDriver[name].add(s)
	}
	if len(byDriver) == 0 {
		return nil
	}
	p.Rehearsed = &propose.Rehearsed{Calls: total}
	if total > manyCalls && !o.Each {
		return nil
	}
	results := map[*step]driver.Tried{}
	for _, name := range value.Keys(byDriver) {
		if err := byDriver[name].try(ctx, results); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			p.Warnings = append(p.Warnings, fmt.Sprintf("%s could not be asked what it would refuse: %v", name, err))
		}
	}
	if refused(results) {
		moved, err := movedWards(ctx, p, o)
		if err != nil {
			return err
		}
		for s, res := range results {
			if res.Err != nil && moved[s.action.Ward] {
				delete(results, s)
			}
		}
		for _, ward := range value.Keys(moved) {
			p.Warnings = append(p.Warnings, fmt.Sprintf(
				"another run is changing %s, or has just changed it: what the clouds refused there now is not counted",
				ward))
		}
	}
	note(p, steps, results)
	return nil
}

func refused(results map[*step]driver.Tried) bool {
	for _, res := range results {
		if res.Tried && res.Err != nil {
			return true
		}
	}
	return false
}

// movedWards are the wards of a proposal that another run holds a lock on, or whose ledgers
// have moved since the proposal was made.
func movedWards(ctx context.Context, p *propose.Proposal, o RehearseOptions) (map[string]bool, error) {
	moved := map[string]bool{}
	for _, at := range p.Wards {
		l := o.Ledgers[at.Ward]
		if l == nil {
			continue
		}
		s, err := l.Load(ctx)
		if err != nil {
			return nil, err
		}
		other := slices.ContainsFunc(s.Holders(), func(h *ledger.OpenRun) bool { return h.Run != o.Run })
		if other || s.Seq != at.Entry {
			moved[at.Ward] = true
		}
	}
	return moved, nil
}

// note puts what clouds would refuse into the proposal. What waits for something that was
// not tried, or of which its cloud sees nothing, may be refused for that alone, and counts
// as not tried.
func note(p *propose.Proposal, steps []*step, results map[*step]driver.Tried) {
	unsure := map[*step]bool{}
	for _, s := range steps {
		res := results[s]
		wanted := s.half == barrier || s.half == rename || s.half == release || s.action.Plan.RecordOnly
		refused := res.Tried && res.Err != nil
		lost := unsure[s] && refused || !wanted && !res.Tried
		if lost || unsure[s] || res.Alone {
			for _, u := range s.after {
				unsure[u] = true
			}
		}
		if lost {
			continue
		}
		if wanted {
			continue
		}
		p.Rehearsed.Tried++
		if !refused {
			continue
		}
		for _, said := range (&executor{}).failed(s.action, res.Err) {
			p.Rehearsed.Refused++
			p.Blocked = append(p.Blocked, propose.Block{
				Ward: said.Ward, Address: said.Address, Position: said.Position,
				Because: "the cloud would refuse it: " + strings.TrimSuffix(said.Message, "."),
			})
		}
	}
}

// rehearsalTime is how long one driver may take.
const rehearsalTime = 2 * time.Minute

// rehearsal is what one driver is asked.
type rehearsal struct {
	driver  driver.Rehearser
	catalog *schema.Catalog
	calls   []driver.Call
	steps   []*step
	made    map[string]int // calls that make things, by full address
}

// add makes a step's call of what is known of it. One of which something is not known that
// counts is left out, and with it what rests on it.
func (r *rehearsal) add(s *step) {
	a := s.action
	_, typ := propose.SplitType(a.Type)
	t := r.catalog.Types[typ]
	if t == nil {
		return
	}
	c := driver.Call{Type: typ}
	switch s.half {
	case create:
		c.Do, c.Inputs = "create", value.Map{}
		for name, v := range a.Plan.Inputs {
			known, ok := r.known(v)
			switch at := t.Attribute(name); {
			case ok:
				c.Inputs[name] = known
			case at != nil && at.Required:
				return
			}
		}
	case remove:
		for _, id := range removed(a) {
			r.calls, r.steps = append(r.calls, driver.Call{Do: "delete", Type: typ, ID: id}), append(r.steps, s)
		}
		return
	default:
		if a.Plan.Seen == nil || a.Plan.Seen.ID == "" {
			return
		}
		c.Do, c.ID, c.Change = "update", a.Plan.Seen.ID, driver.Change{From: value.Map{}, To: value.Map{}}
		if !r.change(s, t, &c.Change) {
			return
		}
	}
	if s.half == create {
		r.made[a.Full()] = len(r.calls)
	}
	r.calls, r.steps = append(r.calls, c), append(r.steps, s)
}

// removed are the things that an action deletes: what an earlier swap has left, and the
// thing itself where it goes or another one takes its place.
func removed(a *propose.Action) []string {
	seen := a.Plan.Seen
	if seen == nil {
		return nil
	}
	var out []string
	for _, l := range seen.Leftovers {
		out = append(out, l.ID)
	}
	if seen.ID != "" && (a.Kind == propose.Drop || a.Remakes()) {
		out = append(out, seen.ID)
	}
	return out
}

// change is an edit as far as it is known; false where nothing of it is.
func (r *rehearsal) change(s *step, t *schema.Type, c *driver.Change) bool {
	a := s.action
	if s.half == letGo {
		for _, name := range a.Plan.LetGo {
			c.From[name] = a.Plan.Seen.Live[name]
			if v, ok := a.Plan.Stay[name]; ok {
				known, ok := r.known(v)
				if !ok {
					return false
				}
				c.To[name] = known
			}
		}
		return true
	}
	for _, ch := range a.Changes {
		name := topLevel(ch.Path)
		if _, done := c.To[name]; done {
			continue
		}
		if live, ok := a.Plan.Seen.Live[name]; ok {
			c.From[name] = live
		}
		v, wanted := a.Plan.Inputs[name]
		if !wanted {
			if at := t.Attribute(name); at != nil && at.HasDefault {
				c.To[name] = at.Default
			}
			continue
		}
		known, ok := r.known(v)
		if !ok {
			delete(c.From, name)
			continue
		}
		c.To[name] = known
	}
	return len(c.From)+len(c.To) > 0
}

// known is a value with what earlier calls make in place of what is pending; false where
// something of it is not known, or secret.
func (r *rehearsal) known(v any) (any, bool) {
	switch v := v.(type) {
	case *value.Pending:
		if v.Ref != nil {
			n, ok := r.made[v.Ref.Address]
			if v.Ref.Secret || !ok {
				return nil, false
			}
			return driver.Made{Call: n, Path: v.Ref.Path}, true
		}
		var out driver.Joined
		for _, p := range v.Parts {
			if p.Value == nil {
				out = append(out, p.Text)
				continue
			}
			is, ok := r.known(p.Value)
			if !ok || p.As != value.AsText {
				return nil, false
			}
			out = append(out, is)
		}
		return out, true
	}
	return value.Rebuild(v, r.known)
}

// try asks the driver.
func (r *rehearsal) try(ctx context.Context, into map[*step]driver.Tried) error {
	asked, cancel := context.WithTimeout(ctx, rehearsalTime)
	defer cancel()
	results, err := r.driver.Rehearse(asked, r.calls)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("it gave no answer within %s", rehearsalTime)
	}
	if err != nil {
		return err
	}
	if len(results) != len(r.calls) {
		return fmt.Errorf("it gave %d results for %d calls", len(results), len(r.calls))
	}
	for i, res := range results {
		if r.calls[i].Do == "delete" && errors.Is(res.Err, driver.ErrGone) { // that is what is wanted
			res.Err = nil
		}
		if was, more := into[r.steps[i]]; more { // a step of several calls is as well tried as each of them
			res.Tried, res.Alone = res.Tried && was.Tried, res.Alone || was.Alone
			if was.Err != nil {
				res.Err = was.Err
			}
		}
		into[r.steps[i]] = res
	}
	return nil
}
