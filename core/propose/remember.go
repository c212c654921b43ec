package propose

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sync/errgroup"

	"kasbah/core/ledger"
	"kasbah/core/problem"
)

// Remembered is a proposal in which nothing changes, kept so that the next one need
// not be computed. A proposal follows from what is declared, recorded and live, and
// from nothing else: while all three are as they were, so is it. Of its actions it
// holds what the records do not tell.
type Remembered struct {
	Basis   string            // what it was made from but for ledgers and files, see declare.Options.Basis
	Heads   map[string]string // ledgers that it rests on, by ward -> SHA-256 of the newest entry
	Offline bool              // it does not rest on what is live
	Tags    map[int]string    // entity tags of what was live, where they were not as recorded, by place
	Remarks problem.List      // about the declarations, that were told beside it
	Rest    []byte            // the proposal without its actions, as JSON
	Places  Places
}

// Places is what the declarations say of each action, by ward and address in byte
// order, as Proposal.Actions is.
type Places struct {
	Files  []string // that File counts in
	File   []int32
	Line   []int32
	Column []int32
	Via    map[int][]string
	Kit    map[int]string
	Cost   []float64 // a month
	Priced []bool    // the cost is known
}

// Remember is what to keep of a proposal; nil where the next one must be made again
// whatever happens: something changes or is to be written, or it rests on what no
// digest tells, such as a thing that is looked up. It was made from o; others are the
// newest entries of other wards' ledgers that it rests on, as in Heads.
func (p *Proposal) Remember(basis string, o Options, others map[string]string) (*Remembered, error) {
	if !p.Idle() || p.Raze || p.LeftOut > 0 ||
		len(p.Warnings)+len(p.Blocked)+len(p.Left)+len(p.NotAssured)+len(p.Finds)+len(p.Approvals) > 0 {
		return nil, nil
	}
	n := len(p.Actions)
	m := &Remembered{Basis: basis, Heads: maps.Clone(others), Offline: o.Live == nil, Tags: map[int]string{},
		Places: Places{
			File: make([]int32, n), Line: make([]int32, n), Column: make([]int32, n), Via: map[int][]string{},
			Kit: map[int]string{}, Cost: make([]float64, n), Priced: make([]bool, n),
		}}
	for ward, s := range o.States {
		m.Heads[ward] = s.Hash
	}
	at, files := &m.Places, map[string]int32{}
	for i, a := range p.Actions {
		st := o.States[a.Ward].Records[a.Address]
		if o.Live != nil {
			switch tag := o.Live[st.Type][st.ID].Tag; tag {
			case "":
				return nil, nil
			case st.Tag:
			default:
				m.Tags[i] = tag
			}
		}
		f, ok := files[a.Position.File]
		if !ok {
			f = int32(len(at.Files))
			files[a.Position.File] = f
			at.Files = append(at.Files, a.Position.File)
		}
		at.File[i], at.Line[i], at.Column[i] = f, int32(a.Position.Line), int32(a.Position.Column)
		if len(a.Via) > 0 {
			at.Via[i] = a.Via
		}
		if a.Kit != "" {
			at.Kit[i] = a.Kit
		}
		if a.Cost != nil {
			at.Cost[i], at.Priced[i] = a.Cost.Was, true
		}
	}
	rest := *p
	rest.Actions = nil
	var err error
	m.Rest, err = json.Marshal(&rest)
	return m, err
}

// Whole is an error for what does not fit together.
func (m *Remembered) Whole() error {
	at := &m.Places
	n := len(at.File)
	if len(at.Line) != n || len(at.Column) != n || len(at.Cost) != n || len(at.Priced) != n {
		return errors.New("its places do not match each other")
	}
	for _, f := range at.File {
		if int(f) >= len(at.Files) || f < 0 {
			return errors.New("a place is in no file")
		}
	}
	return nil
}

// Files are the files that the declarations were read from, by ward, as
// declare.Ward.Files has them.
func (m *Remembered) Files() (map[string]map[string]string, error) {
	var rest struct {
		Wards []struct {
			Ward  string
			Files map[string]string
		}
	}
	if err := json.Unmarshal(m.Rest, &rest); err != nil {
		return nil, err
	}
	out := map[string]map[string]string{}
	for _, w := range rest.Wards {
		out[w.Ward] = w.Files
	}
	return out, nil
}

// Again is the proposal, made again at this time by this person; nil when what is
// recorded or live is not what it rests on. The states are those of its wards, and live
// is nil when offline.
func (m *Remembered) Again(o Options) (*Proposal, error) {
	if m.Offline != (o.Live == nil) {
		return nil, nil
	}
	for _, ward := range o.Wards {
		if s := o.States[ward]; s == nil || s.Hash != m.Heads[ward] {
			return nil, nil
		}
	}
	p := &Proposal{}
	if err := json.Unmarshal(m.Rest, p); err != nil {
		return nil, err
	}
	n := 0
	starts := make([]int, len(o.Wards))
	for i, ward := range o.Wards {
		starts[i] = n
		n += len(o.States[ward].Records)
	}
	if n != len(m.Places.File) || n != p.Counts.Same {
		return nil, fmt.Errorf("it holds %d places for %d resources", len(m.Places.File), n)
	}
	p.Actions = make([]*Action, n)
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	moved := make([]bool, len(o.Wards))
	for i, ward := range o.Wards {
		g.Go(func() error {
			moved[i] = !m.fill(p.Actions, starts[i], ward, o.States[ward], o.Live)
			return nil
		})
	}
	if err := g.Wait(); err != nil || slices.Contains(moved, true) {
		return nil, err
	}
	p.ID, p.Made, p.By, p.ByKey, p.Program = ulid.Make().String(), time.Now().UTC().Truncate(time.Second), o.By,
		o.ByKey, o.Program
	return p, nil
}

// fill makes the actions of a ward, the first of which is the given one. It reports
// whether all that is live is as it was.
func (m *Remembered) fill(actions []*Action, first int, ward string, s *ledger.State, live Live) bool {
	records := make([]*ledger.Stored, 0, len(s.Records))
	for _, st := range s.Records {
		records = append(records, st)
	}
	slices.SortFunc(records, func(a, b *ledger.Stored) int { return strings.Compare(a.Address, b.Address) })
	made, costs, at := make([]Action, len(records)), make([]Cost, len(records)), &m.Places
	for k, st := range records {
		i := first + k
		if live != nil {
			tag, moved := m.Tags[i]
			if !moved {
				tag = st.Tag
			}
			if l, ok := live[st.Type][st.ID]; !ok || tag == "" || l.Tag != tag {
				return false
			}
		}
		a := &made[k]
		*a = Action{
			Ward: ward, Address: st.Address, Type: st.Type, Kind: Same, Needs: st.Needs, Changes: []Change{},
			Via: at.Via[i], Kit: at.Kit[i],
			Position: problem.Position{File: at.Files[at.File[i]], Line: int(at.Line[i]), Column: int(at.Column[i])},
		}
		if at.Priced[i] {
			costs[k] = Cost{Was: at.Cost[i], WillBe: at.Cost[i]}
			a.Cost = &costs[k]
		}
		if a.Needs == nil {
			a.Needs = []string{}
		}
		actions[i] = a
	}
	return true
}
