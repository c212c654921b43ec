package session

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"kasbah/core/adopt"
	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// Adopting says which things a run brings under management, and nothing else.
type Adopting struct {
	Things  map[string]string // ids by the full address that takes each
	AndEdit bool              // what can be edited may differ

	seen   propose.Live // the things, where they were read just now
	beside bool         // everything else is proposed as well
}

// adoption is what a proposal adopts: what it is asked to, or what kasbah.toml says. The things are
// read, and added to what is live.
func (s *Session) adoption(ctx context.Context, r Request, d *declare.Declared, states map[string]*ledger.State,
	live propose.Live) (out propose.Adoption, err error) {
	out = propose.Adoption{Things: map[string]propose.Taken{}}
	if d == nil || r.Restore > 0 {
		return out, nil
	}
	if r.Adopt != nil {
		out.Alone, out.AndEdit = !r.Adopt.beside, r.Adopt.AndEdit
		for full, id := range r.Adopt.Things {
			out.Things[full] = propose.Taken{ID: id}
		}
	} else {
		for _, x := range s.Estate.Adoptions(s.Env) {
			out.Things[x.Full] = propose.Taken{ID: x.ID, From: x.Position}
		}
	}
	var found propose.Live
	if r.Adopt != nil && r.Adopt.seen != nil {
		found = r.Adopt.seen
	} else {
		ids := out.Ids(d, states)
		if len(ids) == 0 || live == nil {
			return out, nil
		}
		if found, err = propose.ReadLive(ctx, s.Drivers, s.Catalogs, nil, ids); err != nil {
			return out, err
		}
	}
	for typ, things := range found {
		if live[typ] == nil {
			live[typ] = things
			continue
		}
		for id, thing := range things {
			if _, there := live[typ][id]; !there {
				live[typ][id] = thing
			}
		}
	}
	out.Recorded, out.Other = s.thingsElsewhere(ctx, false), s.typeOfThing(ctx)
	return out, nil
}

// typeOfThing finds the type of a thing by its id among the types of a driver but one.
func (s *Session) typeOfThing(ctx context.Context) func(but, id string) string {
	return func(but, id string) string {
		drv, not := propose.SplitType(but)
		for _, name := range s.Catalogs[drv].Names() {
			if name == not || s.Catalogs[drv].Types[name].Unshown {
				continue
			}
			if l, err := s.Drivers[drv].Read(ctx, name, id); err == nil && l.ID == id {
				return drv + "." + name
			}
		}
		return ""
	}
}

// ReadIDs reads a file that says which things addresses adopt: CSV with two columns, address and id,
// with or without a line of titles, or JSON, an object or a list of {"address", "id"}. It returns
// ADDRESS=ID.
func ReadIDs(file string) ([]string, error) {
	body, err := disk.Read(file, maxIDs)
	if err != nil {
		return nil, err
	}
	out, err := readIDs(body)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", filepath.Base(file), err)
	}
	return out, nil
}

// maxIDs is how large such a file may be, in bytes.
const maxIDs = 64 << 20

func readIDs(body []byte) ([]string, error) {
	text := strings.TrimSpace(strings.TrimPrefix(string(body), "\ufeff"))
	if strings.HasPrefix(text, "{") || strings.HasPrefix(text, "[") {
		return idsInJSON([]byte(text))
	}
	in := csv.NewReader(strings.NewReader(text))
	in.FieldsPerRecord, in.TrimLeadingSpace, in.Comment = 2, true, '#'
	var out []string
	for {
		line, err := in.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w; each line has an address, a comma and an id", err)
		}
		if at, _ := in.FieldPos(0); at == 1 && strings.EqualFold(line[0], "address") && strings.EqualFold(line[1], "id") {
			continue
		}
		out = append(out, strings.TrimSpace(line[0])+"="+strings.TrimSpace(line[1]))
	}
}

func idsInJSON(body []byte) ([]string, error) {
	var object map[string]string
	var out []string
	if body[0] == '{' {
		if err := json.Unmarshal(body, &object); err != nil {
			return nil, err
		}
		for _, address := range value.Keys(object) {
			out = append(out, address+"="+object[address])
		}
		return out, nil
	}
	var list []struct{ Address, ID string }
	if err := json.Unmarshal(body, &list); err != nil {
		return nil, err
	}
	for i, x := range list {
		if x.Address == "" || x.ID == "" {
			return nil, fmt.Errorf("item %d has no address, or no id", i)
		}
		out = append(out, x.Address+"="+x.ID)
	}
	return out, nil
}

// Adoptable is what the session's wards declare, with what is recorded.
type Adoptable struct {
	s      *Session
	e      *Evaluation
	states map[string]*ledger.State
	chosen map[string]string // by a person: the thing of a likely pair, by full address
}

// Adoptable evaluates, and reads the ledgers.
func (s *Session) Adoptable(ctx context.Context) (*Adoptable, error) {
	e, err := s.EvaluateRight(ctx, s.Others())
	if err != nil {
		return nil, err
	}
	states, err := s.States(ctx)
	return &Adoptable{s, e, states, map[string]string{}}, err
}

// Named reads pairs ADDRESS=ID, and those of a file; "" for none. An address that is not declared is
// a *problem.UsageError, and one that is recorded as another thing is refused.
func (x *Adoptable) Named(pairs []string, file string) (map[string]string, error) {
	if file != "" {
		more, err := ReadIDs(file)
		if err != nil {
			return nil, err
		}
		pairs = append(pairs, more...)
	}
	out := map[string]string{}
	refused := &enact.Refused{}
	for _, pair := range pairs {
		at := strings.LastIndexByte(pair, '=')
		if at < 1 || at == len(pair)-1 {
			return nil, problem.Usage("%q must be ADDRESS=ID", pair)
		}
		address, id := pair[:at], pair[at+1:]
		d, err := x.declared(address)
		if err != nil {
			return nil, err
		}
		if other, twice := out[d.Full()]; twice && other != id {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s is to adopt %s and %s: one of them only", d.Full(),
				other, id))
		}
		if st := x.states[d.Ward].Records[d.Address]; st != nil && st.ID != id {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s is recorded already, as %s, and cannot adopt %s",
				d.Full(), st.ID, id))
		}
		out[d.Full()] = id
	}
	if len(refused.Reasons) > 0 {
		return nil, refused
	}
	return out, nil
}

// declared is a resource by its address, with its ward or without.
func (x *Adoptable) declared(address string) (*declare.Resource, error) {
	if d := x.e.Declared.Resource(address); d != nil {
		return d, nil
	}
	var hits, known []string
	for _, w := range x.s.Wards {
		if x.e.Declared.Resource(value.InWard(w, address)) != nil {
			hits = append(hits, value.InWard(w, address))
		}
	}
	switch len(hits) {
	case 1:
		return x.e.Declared.Resource(hits[0]), nil
	case 0:
		for _, d := range x.e.Declared.Resources {
			known = append(known, d.Address)
		}
		_, short := value.SplitWard(address)
		return nil, &problem.UsageError{Message: address + " is not declared; declare it first",
			Hint: nearest.Hint(short, known)}
	}
	return nil, &problem.UsageError{Message: address + " is the address of several resources",
		Hint: "say which: " + strings.Join(hits, ", ")}
}

// Find pairs what is declared and not recorded with things that no ledger records. ask says whether a
// likely pair is one; nil leaves those out. What identifies more once it is known is found, too.
func (x *Adoptable) Find(ctx context.Context, r AdoptRequest, ask func(adopt.Pair) (bool, error)) (*adopt.Pairs, error) {
	look, err := x.look(ctx, r.Args)
	if err != nil {
		return nil, err
	}
	look.AndEdit, look.TakeOver = r.AndEdit, r.TakeOver
	for {
		pairs := adopt.Find(look)
		if ask == nil || len(pairs.Likely) == 0 {
			return pairs, nil
		}
		p := pairs.Likely[0]
		yes, err := ask(p)
		if err != nil {
			return nil, err
		}
		if yes {
			x.chosen[p.Full()] = p.ID
		} else {
			look.Refused[p.Full()+" "+p.ID] = true
		}
	}
}

// look looks for things that what is declared and not recorded may adopt, of the addresses that
// some patterns choose; all for none.
func (x *Adoptable) look(ctx context.Context, patterns []string) (adopt.Look, error) {
	s := x.s
	order, cycle := x.e.Graph.Order()
	if cycle != nil {
		return adopt.Look{}, fmt.Errorf("the graph has a cycle: %s", strings.Join(cycle, " needs "))
	}
	chosen := propose.NewPatterns(patterns)
	l := adopt.Look{Live: map[string][]driver.Live{}, Unread: map[string]error{}, Chosen: x.chosen,
		Refused: map[string]bool{}, Env: s.Env}
	for _, n := range order {
		d := x.e.Declared.Resource(x.e.Graph.Name(n))
		if d == nil || x.states[d.Ward] == nil || x.states[d.Ward].Records[d.Address] != nil {
			continue
		}
		if len(patterns) == 0 || chosen.Match(d.Ward, d.Address) {
			l.Declared = append(l.Declared, d)
			l.Live[d.FullType()] = nil
		}
	}
	if none := chosen.Search(func(yield func(string, string) bool) {
		for _, d := range x.e.Declared.Resources {
			if !yield(d.Ward, d.Address) {
				return
			}
		}
	}, func(string, string) {}); none != "" {
		return l, problem.Usage("%s matches nothing that is declared", none)
	}
	recorded := s.thingsElsewhere(ctx, false)
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(4)
	for _, typ := range value.Keys(l.Live) {
		drv, name := propose.SplitType(typ)
		if s.Catalogs[drv].Types[name].Unshown {
			continue
		}
		g.Go(func() error {
			var list []driver.Live
			var failed error
			for thing, err := range s.Drivers[drv].List(ctx, name) {
				if err != nil {
					failed = err
					break
				}
				if recorded[typ+" "+thing.ID] == "" {
					list = append(list, thing)
				}
			}
			slices.SortFunc(list, func(a, b driver.Live) int { return strings.Compare(a.ID, b.ID) })
			mu.Lock()
			defer mu.Unlock()
			if l.Live[typ] = list; failed != nil {
				l.Unread[typ] = failed
			}
			return nil
		})
	}
	_ = g.Wait() // what cannot be read is told for each type
	l.Known = func(ref value.Ref) (any, error) {
		ward, address := value.SplitWard(ref.Address)
		if x.states[ward] == nil || x.states[ward].Records[address] == nil {
			return nil, value.ErrUnknown
		}
		r, err := x.states[ward].Records[address].Record()
		if err != nil {
			return nil, err
		}
		if v, ok := r.At(ref.Path); ok && !value.IsSecret(v) && !ref.Secret {
			return v, nil
		}
		return nil, value.ErrUnknown
	}
	return l, ctx.Err()
}
