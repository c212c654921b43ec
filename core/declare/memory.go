package declare

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

	"go.starlark.net/syntax"

	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Memory keeps what wards declared for the next evaluation. A ward whose files, kits and inputs are as they were, and
// which reads the same of others, is not evaluated again: the language has no clock, no network and no chance. Its
// methods are called from several goroutines, each for another ward.
type Memory interface {
	// Recall is what was remembered of a ward last; nil for nothing. It is known to be whole, and to be written by
	// this very program.
	Recall(ward string) *Remembered
	// Remember keeps what a ward declared, which is made by a function that may be called later and beside others. It
	// makes nil of what cannot be kept.
	Remember(ward string, is func() *Remembered)
}

// fewest is how many resources a ward must have to be remembered: fewer are evaluated in no time.
const fewest = 200

// Remembered is what a ward declared, and what that was made from. Resources are in columns, which are quick to read;
// their inputs stay encoded until they are asked for.
type Remembered struct {
	Basis  string            // see Options.Basis, of which it is a part
	Files  map[string]string // as Ward.Files
	Asked  []string
	Used   []int // by their places in Options.Inputs
	Reads  []Read
	Values [][]byte // of these, as value.Encode writes them

	Published []kept[Published]
	Taken     []kept[Taken]
	Problems  problem.List

	Full      string // the addresses with their ward, behind each other
	FullEnds  []int32
	NameSizes []int32
	Made      string // names by the pattern, behind each other
	MadeEnds  []int32
	Types     []string // with their drivers
	Type      []int32  // of each resource, in Types
	Prints    []byte   // fingerprints
	Sites     []site
	Site      []int32
	Cares     [][]byte // as JSON
	Care      []int32
	Instances []Instance
	Around    [][]int32 // lists of instances
	Within    []int32   // of each resource, in Around
	NeedEnds  []int32
	Need      []int32 // a resource of the ward, or -1 - i for Words[i]
	Why       []int32 // in Words
	Words     []string
	Former    map[int32][]string
	Moving    []bool
	Price     []float64
	Priced    []bool
	Inputs    []byte // of all, as value.Encode writes them
	InputEnds []int32
}

// kept is something with a value, which is kept as value.Encode writes it.
type kept[T any] struct {
	Of    T
	Value []byte
}

// site is where a resource was declared.
type site struct {
	Position problem.Position
	Via      []string
	Calls    []siteCall // innermost first
}

type siteCall struct {
	File      string
	Line, Col int32
	Opens     bool
}

// later is what is known of a resource that is remembered. Its inputs are decoded when they are asked for.
type later struct {
	once   sync.Once
	inputs []byte
	at     *site
	price  float64
	priced bool
}

// decode is the inputs of a resource. Their bytes were written by this program and are whole.
func (l *later) decode(full string) value.Map {
	v, err := value.Decode(l.inputs)
	m, ok := v.(map[string]any)
	if err != nil || !ok {
		panic(fmt.Sprintf("what is remembered of %s cannot be read: %v", full, err))
	}
	return m
}

// remember is what to keep of a ward; nil where it cannot be kept: it rests on a secret, on a thing that is looked up,
// or something is wrong.
func (ev *evaluator) remember() *Remembered {
	w, basis := ev.out, ev.s.basis()
	if basis == "" || len(w.Resources) < fewest || len(w.Secrets) > 0 || ev.problems.Wrong() > 0 {
		return nil
	}
	m := &Remembered{Basis: basis, Files: w.Files, Asked: ev.asked, Reads: w.Reads, Problems: ev.problems,
		Former: map[int32][]string{}}
	for i := range ev.used {
		m.Used = append(m.Used, i)
	}
	looksUp := func(v any) (is bool) {
		value.Refs(v, func(r value.Ref) { is = is || value.IsFound(r.Address) })
		return is
	}
	for _, v := range ev.values {
		if looksUp(v) {
			return nil
		}
		m.Values = append(m.Values, value.Encode(v))
	}
	for _, name := range value.Keys(w.Published) {
		p := *w.Published[name]
		if p.Secret || looksUp(p.Value) {
			return nil
		}
		body := value.Encode(p.Value)
		p.Value = nil
		m.Published = append(m.Published, kept[Published]{p, body})
	}
	for _, name := range value.Keys(w.Taken) {
		t := *w.Taken[name]
		if t.Secret {
			return nil
		}
		body := value.Encode(t.Value)
		t.Value = nil
		m.Taken = append(m.Taken, kept[Taken]{t, body})
	}
	if !m.columns(w.Resources) {
		return nil
	}
	return m
}

// table numbers what occurs more than once.
type table[K comparable] map[K]int32

func (t table[K]) of(key K, add func()) int32 {
	n, ok := t[key]
	if !ok {
		n = int32(len(t))
		t[key] = n
		add()
	}
	return n
}

// columns takes the resources in. It reports whether each of them can be kept.
func (m *Remembered) columns(list []*Resource) bool {
	types, words, cares, sites := table[string]{}, table[string]{}, table[string]{}, table[string]{}
	instances, around := table[*Instance]{}, table[string]{}
	word := func(s string) int32 { return words.of(s, func() { m.Words = append(m.Words, s) }) }
	at := make(map[string]int32, len(list))
	for i, r := range list {
		at[r.Full()] = int32(i)
	}
	var full, made strings.Builder
	for i, r := range list {
		if r.beyond {
			return false
		}
		full.WriteString(r.Full())
		made.WriteString(r.MadeName)
		m.FullEnds, m.MadeEnds = append(m.FullEnds, int32(full.Len())), append(m.MadeEnds, int32(made.Len()))
		m.NameSizes = append(m.NameSizes, int32(len(r.Name)))
		m.Type = append(m.Type, types.of(r.FullType(), func() { m.Types = append(m.Types, r.FullType()) }))
		print := r.Fingerprint()
		m.Prints = append(m.Prints, print[:]...)
		if i > 0 && slices.Equal(r.trace, list[i-1].trace) { // as in a loop
			m.Site = append(m.Site, m.Site[i-1])
		} else {
			m.Site = append(m.Site, sites.of(r.trace.key(), func() { m.Sites = append(m.Sites, newSite(r)) }))
		}
		care, err := json.Marshal(r.Care)
		if err != nil {
			return false
		}
		m.Care = append(m.Care, cares.of(string(care), func() { m.Cares = append(m.Cares, care) }))
		var within []int32
		key := "" // of no instance
		for _, in := range r.Within {
			n := instances.of(in, func() { m.Instances = append(m.Instances, *in) })
			within, key = append(within, n), key+fmt.Sprint(n)+" "
		}
		m.Within = append(m.Within, around.of(key, func() { m.Around = append(m.Around, within) }))
		for _, n := range r.Needs {
			k, ours := at[n.Address]
			if !ours {
				k = -1 - word(n.Address)
			}
			m.Need, m.Why = append(m.Need, k), append(m.Why, word(n.Why))
		}
		m.NeedEnds = append(m.NeedEnds, int32(len(m.Need)))
		if len(r.Former) > 0 {
			m.Former[int32(i)] = r.Former
		}
		price, priced := r.Price()
		m.Price, m.Priced, m.Moving = append(m.Price, price), append(m.Priced, priced), append(m.Moving, r.moving)
		if i == 100 { // by now it is known about how much they take
			m.Inputs = slices.Grow(m.Inputs, len(m.Inputs)*(len(list)/100+1))
		}
		m.Inputs = value.Append(m.Inputs, map[string]any(r.Inputs()))
		m.InputEnds = append(m.InputEnds, int32(len(m.Inputs)))
	}
	m.Full, m.Made = full.String(), made.String()
	return true
}

// key identifies a trace.
func (tr trace) key() string {
	var b strings.Builder
	for _, f := range tr {
		fmt.Fprintf(&b, "%s:%d:%d:%t\n", f.Filename(), f.Line, f.Col, f.opens)
	}
	return b.String()
}

func newSite(r *Resource) site {
	var out site
	out.Position, out.Via = r.Position()
	for _, f := range r.trace {
		out.Calls = append(out.Calls, siteCall{f.Filename(), f.Line, f.Col, f.opens})
	}
	return out
}

// recall is the evaluation of a ward as it is remembered; nil where it is to be evaluated.
func (s *evaluation) recall(ctx context.Context, ward string) *evaluator {
	if s.o.Memory == nil {
		return nil
	}
	m := s.o.Memory.Recall(ward)
	if m == nil || m.Basis != s.basis() {
		return nil
	}
	if same, err := s.o.unmovedWard(s.root, ward, m.Files); err != nil || !same {
		return nil // the evaluation says what cannot be read
	}
	for i, read := range m.Reads {
		v, err := s.offered(ctx, ward, read)
		if err != nil || string(value.Encode(v)) != string(m.Values[i]) {
			return nil
		}
	}
	ev, err := m.evaluated(s, ward)
	if err != nil {
		return nil
	}
	return ev
}

// mostLikelyMoved are the wards, those first that most likely have to be evaluated: what was touched last.
func (s *evaluation) mostLikelyMoved() []string {
	if s.o.Memory == nil {
		return s.o.Wards
	}
	touched := map[string]int64{}
	for _, ward := range s.o.Wards {
		files, err := starFiles(s.o, s.root, ward)
		if err != nil {
			continue // the evaluation says so
		}
		for _, name := range files {
			if info, err := s.root.Stat(name); err == nil {
				touched[ward] = max(touched[ward], info.ModTime().UnixNano())
			}
		}
	}
	out := slices.Clone(s.o.Wards)
	slices.SortStableFunc(out, func(a, b string) int { return cmp.Compare(touched[b], touched[a]) })
	return out
}

// evaluated is the evaluation that m was made from.
func (m *Remembered) evaluated(s *evaluation, ward string) (*evaluator, error) {
	ev := bareEvaluator(s, ward)
	ev.asked, ev.problems = m.Asked, m.Problems
	for _, i := range m.Used {
		ev.used[i] = true
	}
	w := ev.out
	w.Files, w.Reads = m.Files, m.Reads
	for _, p := range m.Published {
		v, err := value.Decode(p.Value)
		if err != nil {
			return nil, err
		}
		p.Of.Value = v
		w.Published[p.Of.Name] = &p.Of
	}
	for _, t := range m.Taken {
		v, err := value.Decode(t.Value)
		if err != nil {
			return nil, err
		}
		t.Of.Value = v
		w.Taken[t.Of.Name] = &t.Of
	}
	return ev, m.resources(ev)
}

// resources makes the resources.
func (m *Remembered) resources(ev *evaluator) error {
	n := len(m.FullEnds)
	all, laters := make([]Resource, n), make([]later, n)
	digests, needs, addresses := make([]digest, n), make([]Need, len(m.Need)), make([]string, len(m.Need))
	ev.out.Resources, ev.declared = make([]*Resource, n), make(map[string]*Resource, n)
	types, stars, drivers := make([]*schema.Type, len(m.Types)), make([]map[string]string, len(m.Types)),
		make([]string, len(m.Types))
	for i, full := range m.Types {
		drv, name, _ := strings.Cut(full, ".")
		c := ev.o.Catalogs[drv]
		if c == nil || c.Types[name] == nil {
			return fmt.Errorf("the catalogues lack the type %s", full)
		}
		drivers[i], types[i], stars[i] = drv, c.Types[name], map[string]string{}
		for _, a := range types[i].Attributes {
			if code := Identifier(a.Name); code != a.Name {
				stars[i][a.Name] = code
			}
		}
	}
	cares := make([]Care, len(m.Cares))
	for i, body := range m.Cares {
		if err := json.Unmarshal(body, &cares[i]); err != nil {
			return err
		}
	}
	traces := make([]trace, len(m.Sites))
	files := map[string]*string{}
	for i, s := range m.Sites {
		for _, c := range s.Calls {
			if files[c.File] == nil {
				files[c.File] = &c.File
			}
			traces[i] = append(traces[i], frame{syntax.MakePosition(files[c.File], c.Line, c.Col), c.Opens})
		}
	}
	around := make([][]*Instance, len(m.Around))
	for i, list := range m.Around {
		for _, k := range list {
			around[i] = append(around[i], &m.Instances[k])
		}
	}
	ix := newIndex()
	ix.later = ev.indexer(m.Files)
	prefix := len(ev.out.Name) + 1
	var from, made, inputs int32
	for i := range all {
		r, l := &all[i], &laters[i]
		full := m.Full[from:m.FullEnds[i]]
		*r = Resource{Ward: ev.out.Name, Address: full[prefix:], full: full, Driver: drivers[m.Type[i]],
			Type: types[m.Type[i]], fullType: m.Types[m.Type[i]], Name: full[len(full)-int(m.NameSizes[i]):],
			MadeName: m.Made[made:m.MadeEnds[i]], Within: around[m.Within[i]], Care: cares[m.Care[i]],
			Former: m.Former[int32(i)], star: stars[m.Type[i]], trace: traces[m.Site[i]], index: ix, moving: m.Moving[i],
			digest: &digests[i], later: l}
		l.inputs, l.at, l.price, l.priced = m.Inputs[inputs:m.InputEnds[i]], &m.Sites[m.Site[i]], m.Price[i], m.Priced[i]
		copy(digests[i].print[:], m.Prints[i*len(digests[i].print):])
		from, made, inputs = m.FullEnds[i], m.MadeEnds[i], m.InputEnds[i]
		ev.out.Resources[i], ev.declared[r.Address] = r, r
	}
	var need int32
	for i := range all {
		to := m.NeedEnds[i]
		for k := need; k < to; k++ {
			if at := m.Need[k]; at >= 0 {
				addresses[k] = all[at].full
			} else {
				addresses[k] = m.Words[-1-at]
			}
			needs[k] = Need{addresses[k], m.Words[m.Why[k]]}
		}
		if to > need {
			all[i].Needs = needs[need:to:to]
		}
		digests[i].needs = addresses[need:to:to]
		slices.Sort(digests[i].needs)
		need = to
	}
	return nil
}

// indexer fills an index from files when the place of an attribute is asked for. Where a file is not as it was
// any more, what it declares is at its calls.
func (ev *evaluator) indexer(files map[string]string) func(*index) {
	return func(ix *index) {
		root, err := os.OpenRoot(ev.o.Estate.Dir)
		if err != nil {
			return
		}
		defer root.Close()
		again := bareEvaluator(newEvaluation(ev.o, root), ev.out.Name)
		again.index = ix
		if err := again.predeclare(); err != nil { // no evaluation would have come to its end
			return
		}
		for name, digest := range files {
			src, ok := ev.o.sourceOf(root, name)
			if !ok || !strings.HasSuffix(name, ".star") {
				continue
			}
			if body, err := readFile(src, ev.limits.FileBytes); err == nil && fileDigest(body) == digest {
				_, _ = again.parse(ix, src, body) // it was parsed before
			}
		}
	}
}
