package propose

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// readsOf lists what a ward reads of others, in byte order, each once.
func readsOf(w *declare.Ward) []string {
	var out []string
	for _, r := range w.Reads {
		out = append(out, r.String())
	}
	sort.Strings(out)
	return slices.Compact(out)
}

// lookOutside answers for what is no resource of the proposed wards: secrets,
// things that are looked up, and resources of other wards as their ledgers
// have them.
func (w *proposer) lookOutside(ref value.Ref) (answer bool, v any, err error) {
	if _, ok := value.SecretName(ref.Address); ok {
		return true, nil, value.ErrUnknown
	}
	if value.IsFound(ref.Address) {
		v, err := w.lookupFound(ref)
		return true, v, err
	}
	ward, short := value.SplitWard(ref.Address)
	if w.o.Outside == nil || slices.Contains(w.o.Wards, ward) {
		return false, nil, nil
	}
	s, err := w.o.Outside(ward)
	if err != nil {
		return true, nil, err
	}
	if st := s.Records[short]; st != nil {
		r, err := st.Record()
		if err != nil {
			return true, nil, err
		}
		v, ok := ref.Path.At(map[string]any(r.Live))
		if r.ID != "" && ok {
			return true, v, nil
		}
	}
	return true, nil, fmt.Errorf("it uses %s of ward %s, whose ledger does not have it: enact %s first, or take both "+
		"wards together", ref, ward, ward)
}

func (w *proposer) lookupFound(ref value.Ref) (any, error) {
	if w.o.Declared == nil || w.o.Declared.Finds[ref.Address] == nil {
		return nil, value.ErrUnknown
	}
	f, err := w.lookFor(w.o.Declared.Finds[ref.Address])
	if err != nil || f.Attributes == nil {
		return nil, value.ErrUnknown // the error is told once, at the look-up
	}
	v, _ := ref.Path.At(map[string]any(f.Attributes))
	return v, nil
}

// lookForAll looks up what no resource asked for yet, and lists all.
func (w *proposer) lookForAll() {
	if w.o.Declared == nil {
		return
	}
	for _, full := range value.Keys(w.o.Declared.Finds) {
		d := w.o.Declared.Finds[full]
		f, err := w.lookFor(d)
		if err != nil {
			p := problem.At(d.Position, "%s.find: %v", d.FullType(), err)
			p.Ward, p.Via = d.Ward, d.Via
			w.problems = append(w.problems, p)
			continue
		}
		w.p.Finds = append(w.p.Finds, *f)
	}
}

// lookFor looks a thing up, once.
func (w *proposer) lookFor(d *declare.Find) (*Found, error) {
	if f := w.found[d.Address]; f != nil {
		return f, nil
	}
	ward, short := value.SplitWard(d.Address)
	f := &Found{Ward: ward, Address: short, Type: d.FullType(), Match: value.Attributes(d.Match), Position: d.Position}
	match, err := value.Resolve(d.Match, w.lookup)
	if err != nil {
		return nil, err
	}
	switch {
	case value.IsPending(match):
		f.From = FromLater
	case w.o.Find == nil:
		f.From = FromNowhere
		if attributes, ok := w.o.States[ward].Found[short]; ok {
			f.From, f.Attributes = FromLastRun, attributes
		}
	default:
		f.From = FromLive
		things, err := w.o.Find(f.Type, match.(value.Map))
		if err != nil {
			return nil, err
		}
		if f.ID, f.Attributes, err = SingleMatch(d.Type, things); err != nil {
			return nil, err
		}
		if at := w.manages(f.Type, f.ID); at != "" {
			return nil, fmt.Errorf("it finds %s, which the estate manages as %s: use its handle, or what its ward "+
				"publishes", f.ID, at)
		}
	}
	w.found[d.Address] = f
	return f, nil
}

// manages is the full address under which the estate records a thing, or "".
func (w *proposer) manages(typ, id string) string {
	if w.managed == nil {
		w.managed = map[string]string{}
		add := func(ward string, records value.Map) {
			for k, v := range records {
				w.managed[k] = value.InWard(ward, v.(string))
			}
		}
		for _, ward := range append(append([]string(nil), w.o.Wards...), w.o.Others...) {
			s := w.o.States[ward]
			if s == nil && w.o.Outside != nil {
				var err error
				if s, err = w.o.Outside(ward); err != nil {
					w.problems = append(w.problems, err)
					continue
				}
			}
			if s == nil {
				continue
			}
			ids := value.Map{}
			for a, st := range s.Records {
				ids[st.Type+" "+st.ID] = a
			}
			add(ward, ids)
		}
	}
	return w.managed[typ+" "+id]
}

// consumers forbids dropping what other wards use, and no longer publishing
// what they read, unless they are part of the proposal. It warns of swaps.
func (w *proposer) consumers() error {
	if w.o.Outside == nil {
		return nil
	}
	gone, moved := map[string]*Action{}, map[string]*Action{}
	for _, a := range w.p.Actions {
		switch {
		case a.Leaves():
			gone[a.Full()] = a
		case a.Kind == Swap && a.Remakes():
			moved[a.Full()] = a
		}
	}
	unpublished := map[string]bool{}
	for _, at := range w.p.Wards {
		for name := range w.o.States[at.Ward].Published {
			if _, still := at.Published[name]; !still {
				unpublished[at.Ward+" "+name] = true
			}
		}
	}
	if len(gone)+len(moved)+len(unpublished) == 0 {
		return nil
	}
	w.leftOutUsers(gone, moved)
	for _, ward := range w.o.Others {
		s, err := w.o.Outside(ward)
		if err != nil {
			return err
		}
		if len(s.Records) == 0 && len(s.Reads) == 0 {
			continue
		}
		users := map[*Action][]string{}
		swapped := map[string]bool{}
		for _, a := range s.Addresses() {
			for _, n := range s.Records[a].Needs {
				if b := gone[n]; b != nil {
					users[b] = append(users[b], a)
				}
				if moved[n] != nil {
					swapped[n] = true
				}
			}
		}
		for _, full := range value.Keys(gone) {
			if a := gone[full]; users[a] != nil {
				w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Position: a.Position,
					Because: fmt.Sprintf("ward %s uses it for %s, and is not part of this; take both wards together, "+
						"or change %s first", ward, few(users[a]), ward)})
			}
		}
		for _, read := range s.Reads {
			if unpublished[read] {
				of, name, _ := strings.Cut(read, " ")
				w.p.Blocked = append(w.p.Blocked, Block{Ward: of, Position: problem.Position{File: of},
					Because: fmt.Sprintf("ward %s reads %s, which would no longer be published, and is not part of "+
						"this; take both wards together, or change %s first", ward, name, ward)})
			}
		}
		if len(swapped) > 0 {
			w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("ward %s uses %s, which is swapped; propose %s "+
				"afterwards, or take both wards together", ward, few(value.Keys(swapped)), ward))
		}
	}
	return nil
}

// leftOutUsers forbids taking away what something uses that -only leaves out.
func (w *proposer) leftOutUsers(gone, moved map[string]*Action) {
	if w.selected == nil {
		return
	}
	users, renamed := map[*Action][]string{}, map[string]bool{}
	for full, former := range w.was {
		renamed[former] = w.selected[full]
	}
	for ward, s := range w.recorded.states {
		for address, st := range s.Records {
			if full := value.InWard(ward, address); w.selected[full] || renamed[full] {
				continue
			}
			for _, n := range st.Needs {
				for _, going := range []map[string]*Action{gone, moved} {
					if a := going[n]; a != nil {
						users[a] = append(users[a], value.Ref{Address: value.InWard(ward, address)}.In(a.Ward))
					}
				}
			}
		}
	}
	for _, a := range w.p.Actions {
		if by := users[a]; by != nil {
			sort.Strings(by)
			w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Position: a.Position,
				Because: fmt.Sprintf("%s, and -only leaves out what uses it, %s; take that in as well",
					map[bool]string{true: "it would be swapped", false: "it would go"}[a.Kind == Swap], few(by))})
		}
	}
}

// few names the first three of some addresses.
func few(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	if len(list) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:3], ", "), len(list)-3)
	}
	return joinAnd(list)
}
