package medina

import (
	"cmp"
	"database/sql"
	"errors"
	"slices"
	"strings"

	"kasbah/core/value"
)

// trial is what a rehearsal holds: in memory what its calls have changed, over the tables as
// they are at one moment. It holds to what the tables do, which TestTrial compares.
type trial struct {
	tables   *tables
	counters map[string]int64
	things   map[string]*thing // that were read or changed; nil for one that is gone
	fresh    map[string]bool   // that are not in the tables
	erased   map[string]*thing // that are in the tables
	hidden   map[string]value.Map
	refs     map[string][]reference     // of things whose references are not those of the tables
	users    map[string]map[string]bool // the things in refs, by what they refer to
	claims   map[claim]string           // who holds them; "" for no one
	hosts    map[string]*hosts          // by subnet
	ranges   map[string][]ranged        // by parent, in the order of their beginnings
	counts   map[[2]string]int64        // by type and zone
	undo     []func()                   // takes back what the call at hand has changed, the last first
}

type claim struct{ typ, is string }

type ranged struct {
	id string
	lo int64
}

// hosts are the numbers that are taken in a subnet.
type hosts struct {
	by      map[int64]string
	of      map[string]int64
	highest int64 // 1 where none is taken
}

func (h *hosts) take(n int64, id string) {
	h.by[n], h.of[id], h.highest = id, n, max(h.highest, n)
}

func (h *hosts) give(n int64, id string) {
	delete(h.by, n)
	delete(h.of, id)
	for h.highest > 1 && h.by[h.highest] == "" {
		h.highest--
	}
}

func newTrial(t *tables) *trial {
	return &trial{
		tables: t, counters: map[string]int64{}, things: map[string]*thing{}, fresh: map[string]bool{},
		erased: map[string]*thing{}, hidden: map[string]value.Map{},
		refs: map[string][]reference{}, users: map[string]map[string]bool{}, claims: map[claim]string{},
		hosts: map[string]*hosts{}, ranges: map[string][]ranged{}, counts: map[[2]string]int64{},
	}
}

// carry has a call carried out. Of one that is refused nothing stays.
func (l *trial) carry(do func() (answer, error)) (answer, error) {
	l.undo = l.undo[:0]
	a, err := do()
	var no *refusal
	if errors.As(err, &no) {
		for _, back := range slices.Backward(l.undo) {
			back()
		}
	}
	return a, err
}

// put sets an entry of a map, and notes how to take that back.
func put[K comparable, V any](l *trial, m map[K]V, k K, v V) {
	was, there := m[k]
	l.undo = append(l.undo, func() {
		if there {
			m[k] = was
		} else {
			delete(m, k)
		}
	})
	m[k] = v
}

// atOnceRead is how many are asked for with one statement.
const atOnceRead = 500

// ahead reads at once what calls are about to read one by one: the things that they change,
// and who holds what they claim.
func (l *trial) ahead(kinds map[string]*kind, calls []any) error {
	ids, claims := map[string]bool{}, map[string]map[string]bool{}
	for _, c := range calls {
		call, _ := c.(map[string]any)
		typ, _ := call["type"].(string)
		k := kinds[typ]
		if k == nil {
			continue
		}
		if id, ok := call["id"].(string); ok {
			ids[id] = true
		}
		body, _ := call["body"].(map[string]any)
		for _, r := range k.references(body) {
			ids[r.target] = true
		}
		if is := k.claims(body); is != "" && call["do"] == "create" {
			if claims[typ] == nil {
				claims[typ] = map[string]bool{}
			}
			claims[typ][is] = true
		}
	}
	for part := range slices.Chunk(value.Keys(ids), atOnceRead) {
		marks, args := many(part)
		for _, id := range part {
			l.things[id] = nil
		}
		err := l.tables.each(`select id, `+thingColumns+` from things where id in (`+marks+`)`,
			func(rows *sql.Rows) error {
				var id string
				is, err := scanned(rows.Scan, &id)
				l.things[id] = is
				return err
			}, args...)
		if err != nil {
			return err
		}
	}
	for typ, all := range claims {
		for part := range slices.Chunk(value.Keys(all), atOnceRead) {
			marks, args := many(part)
			for _, is := range part {
				l.claims[claim{typ, is}] = ""
			}
			err := l.tables.each(`select claim, thing from claims where type = ? and claim in (`+marks+`)`,
				func(rows *sql.Rows) error {
					var is, id string
					err := rows.Scan(&is, &id)
					l.claims[claim{typ, is}] = id
					return err
				}, append([]any{typ}, args...)...)
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// many are marks for values of a statement.
func many(list []string) (marks string, args []any) {
	for _, s := range list {
		args = append(args, s)
	}
	return strings.TrimSuffix(strings.Repeat("?,", len(list)), ","), args
}

func (l *trial) next(counter string) (int64, error) {
	n, known := l.counters[counter]
	if !known {
		err := l.tables.row(`select n from counters where name = ?`, counter).Scan(&n)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return 0, err
		}
	}
	put(l, l.counters, counter, n+1)
	return n + 1, nil
}

func (l *trial) thing(id string) (*thing, error) {
	if is, known := l.things[id]; known {
		return is, nil
	}
	is, err := l.tables.thing(id)
	if err == nil {
		l.things[id] = is
	}
	return is, err
}

func (l *trial) insert(id string, is *thing, _ string) error {
	put(l, l.things, id, is)
	put(l, l.fresh, id, true)
	if n, known := l.counts[[2]string{is.typ, is.zone}]; known {
		put(l, l.counts, [2]string{is.typ, is.zone}, n+1)
	}
	if is.parent == "" {
		return nil
	}
	in, err := l.within(is.parent)
	if err != nil {
		return err
	}
	i, _ := slices.BinarySearchFunc(in, is.lo, func(r ranged, lo int64) int { return cmp.Compare(r.lo, lo) })
	put(l, l.ranges, is.parent, slices.Insert(slices.Clip(in), i, ranged{id, is.lo}))
	return nil
}

func (l *trial) change(body value.Map) error {
	id, _ := body["id"].(string)
	was, err := l.thing(id)
	if err != nil || was == nil {
		return err
	}
	is := *was
	is.body = body
	put(l, l.things, id, &is)
	return nil
}

func (l *trial) erase(id, held string) error {
	was, err := l.thing(id)
	if err != nil || was == nil {
		return err
	}
	if was.parent != "" {
		in, err := l.within(was.parent)
		if err != nil {
			return err
		}
		put(l, l.ranges, was.parent, slices.DeleteFunc(slices.Clone(in), func(r ranged) bool { return r.id == id }))
	}
	if n, known := l.counts[[2]string{was.typ, was.zone}]; known {
		put(l, l.counts, [2]string{was.typ, was.zone}, n-1)
	}
	if !l.fresh[id] {
		put(l, l.erased, id, was)
	}
	l.letGo(id)
	if held != "" {
		put(l, l.claims, claim{was.typ, held}, "")
	}
	put(l, l.hidden, id, nil)
	put(l, l.things, id, nil)
	return nil
}

func (l *trial) keep(id string, secrets value.Map) error {
	put(l, l.hidden, id, secrets)
	return nil
}

func (l *trial) secrets(id string) (value.Map, error) {
	if is, known := l.hidden[id]; known || l.fresh[id] {
		return is, nil
	}
	return l.tables.secrets(id)
}

func (l *trial) refers(id string, to []reference) (*reference, error) {
	l.letGo(id)
	for _, r := range to {
		is, err := l.thing(r.target)
		if err != nil {
			return nil, err
		}
		if is == nil || is.typ != r.typ {
			return &r, nil
		}
		if l.users[r.target] == nil {
			l.users[r.target] = map[string]bool{}
		}
		put(l, l.users[r.target], id, true)
	}
	put(l, l.refs, id, to)
	return nil, nil
}

// letGo takes away what a thing refers to.
func (l *trial) letGo(id string) {
	for _, r := range l.refs[id] {
		put(l, l.users[r.target], id, false)
	}
	put(l, l.refs, id, nil)
}

func (l *trial) user(of string) (first string, err error) {
	for id, is := range l.users[of] {
		if is && (first == "" || id < first) {
			first = id
		}
	}
	if l.fresh[of] {
		return first, nil
	}
	err = l.tables.each(`select thing from refs where target = ?`, func(rows *sql.Rows) error {
		var id string
		err := rows.Scan(&id)
		if _, changed := l.refs[id]; !changed && (first == "" || id < first) {
			first = id
		}
		return err
	}, of)
	return first, err
}

func (l *trial) claimed(typ, id, was, is string) (holder string, err error) {
	if was != "" {
		put(l, l.claims, claim{typ, was}, "")
	}
	if is == "" {
		return "", nil
	}
	holder, known := l.claims[claim{typ, is}]
	if !known {
		if holder, err = l.tables.holder(typ, is); err != nil {
			return "", err
		}
	}
	if holder != "" {
		return holder, nil
	}
	put(l, l.claims, claim{typ, is}, id)
	return "", nil
}

// within are the ranges in a parent.
func (l *trial) within(parent string) ([]ranged, error) {
	in, known := l.ranges[parent]
	if known || l.fresh[parent] {
		return in, nil
	}
	err := l.tables.each(`select id, lo from things where parent = ? order by lo`, func(rows *sql.Rows) error {
		var r ranged
		err := rows.Scan(&r.id, &r.lo)
		in = append(in, r)
		return err
	}, parent)
	if err == nil {
		l.ranges[parent] = in
	}
	return in, err
}

func (l *trial) lastBelow(parent string, hi int64) (string, error) {
	in, err := l.within(parent)
	if err != nil {
		return "", err
	}
	i, found := slices.BinarySearchFunc(in, hi, func(r ranged, hi int64) int { return cmp.Compare(r.lo, hi) })
	switch {
	case found:
		return in[i].id, nil
	case i == 0:
		return "", nil
	}
	return in[i-1].id, nil
}

// takenIn are the numbers that are taken in a subnet.
func (l *trial) takenIn(subnet string) (*hosts, error) {
	h := l.hosts[subnet]
	if h != nil {
		return h, nil
	}
	h = &hosts{by: map[int64]string{}, of: map[string]int64{}, highest: 1}
	if l.fresh[subnet] {
		l.hosts[subnet] = h
		return h, nil
	}
	err := l.tables.each(`select n, thing from hosts where subnet = ?`, func(rows *sql.Rows) error {
		var n int64
		var id string
		err := rows.Scan(&n, &id)
		h.take(n, id)
		return err
	}, subnet)
	if err == nil {
		l.hosts[subnet] = h
	}
	return h, err
}

func (l *trial) takeHost(subnet, id string, last int64) (int64, error) {
	h, err := l.takenIn(subnet)
	if err != nil {
		return 0, err
	}
	n := h.highest + 1
	if n > last {
		for n = 2; n <= last && h.by[n] != ""; n++ {
		}
	}
	if n > last {
		return 0, nil
	}
	h.take(n, id)
	l.undo = append(l.undo, func() { h.give(n, id) })
	return n, nil
}

func (l *trial) giveHost(subnet, id string) error {
	h, err := l.takenIn(subnet)
	if err != nil {
		return err
	}
	n, taken := h.of[id]
	if !taken {
		return nil
	}
	h.give(n, id)
	l.undo = append(l.undo, func() { h.take(n, id) })
	return nil
}

func (l *trial) count(typ, zone string) (int64, error) {
	at := [2]string{typ, zone}
	if n, known := l.counts[at]; known {
		return n, nil
	}
	n, err := l.tables.count(typ, zone)
	if err != nil {
		return 0, err
	}
	for id := range l.fresh {
		if is := l.things[id]; is != nil && is.typ == typ && is.zone == zone {
			n++
		}
	}
	for _, was := range l.erased {
		if was.typ == typ && was.zone == zone {
			n--
		}
	}
	l.counts[at] = n
	return n, nil
}
