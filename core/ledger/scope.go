package ledger

import (
	"bytes"
	"encoding/json"
	"slices"
)

// Scope is what a run locks: what it writes, and what that rests on. Addresses
// are without their ward, in byte order, and are in one of the two lists.
type Scope struct {
	Whole  bool     `json:"whole"` // everything; the lists are empty then
	Writes []string `json:"writes,omitempty"`
	Reads  []string `json:"reads,omitempty"`
}

// Whole is the scope of a run that locks everything.
var Whole = Scope{Whole: true}

// PublishedValues represents in a scope what a ward leaves besides records: its
// Values. No address is written so.
const PublishedValues = "published"

// maxScope is how many addresses a scope lists. A run over more of them locks
// everything: its lists would be in every checkpoint, and little of a ward
// is left beside it.
const maxScope = 10_000

// NewScope is the scope of a run that writes some addresses and reads others.
func NewScope(writes, reads []string) Scope {
	writes, reads = sorted(writes), sorted(reads)
	reads = slices.DeleteFunc(reads, func(a string) bool { return has(writes, a) })
	if len(writes)+len(reads) > maxScope {
		return Whole
	}
	return Scope{Writes: writes, Reads: reads}
}

func sorted(list []string) []string {
	if list = slices.Clone(list); !slices.IsSorted(list) {
		slices.Sort(list)
	}
	return slices.Compact(list)
}

func has(list []string, address string) bool {
	_, ok := slices.BinarySearch(list, address)
	return ok
}

// Empty reports whether nothing is locked.
func (s Scope) Empty() bool { return !s.Whole && len(s.Writes)+len(s.Reads) == 0 }

// MayWrite reports whether a run with the scope may write an address.
func (s Scope) MayWrite(address string) bool { return s.Whole || has(s.Writes, address) }

// Sees reports whether a run with the scope may note how a thing is live.
func (s Scope) Sees(address string) bool { return s.MayWrite(address) || has(s.Reads, address) }

// Covers reports whether a run that has the scope may do all that another one
// would allow.
func (s Scope) Covers(o Scope) bool {
	if s.Whole {
		return true
	}
	reads := func(a string) bool { return has(s.Writes, a) || has(s.Reads, a) }
	return !o.Whole && !slices.ContainsFunc(o.Writes, func(a string) bool { return !has(s.Writes, a) }) &&
		!slices.ContainsFunc(o.Reads, func(a string) bool { return !reads(a) })
}

// Meets reports whether two runs with these scopes cannot hold their locks at
// once: one writes what the other writes or reads. address is the first such, a
// resource if there is one, or "" where one of them locks everything.
func (s Scope) Meets(o Scope) (address string, meets bool) {
	if s.Whole || o.Whole {
		return "", true
	}
	published := false
	for _, pair := range [][2][]string{{s.Writes, o.Writes}, {s.Writes, o.Reads}, {s.Reads, o.Writes}} {
		if a := common(pair[0], pair[1]); a != "" && (address == "" || a < address) {
			address = a
		}
		published = published || has(pair[0], PublishedValues) && has(pair[1], PublishedValues)
	}
	if address == "" && published {
		address = PublishedValues
	}
	return address, address != ""
}

// common is the first resource that two sorted lists share, or "".
func common(a, b []string) string {
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0] < b[0]:
			a = a[1:]
		case a[0] > b[0]:
			b = b[1:]
		case a[0] == PublishedValues:
			a = a[1:]
		default:
			return a[0]
		}
	}
	return ""
}

// exceeds is the first address that a line writes and the scope does not allow,
// or what else of the ledger it writes; "" when all is within. now are the records that
// the line meets.
func (s Scope) exceeds(l *Line, now map[string]*Stored) string {
	if s.Whole {
		return ""
	}
	if n := l.Note; l.Kind == KindNote && n.What == NoteSeen && n.Record != nil && has(s.Reads, n.Record.Address) &&
		n.onlySeen(now[n.Record.Address]) {
		return ""
	}
	var written []string
	add := func(r *Record) {
		if r != nil {
			written = append(written, r.Address)
		}
	}
	switch l.Kind {
	case KindIntent:
		written = append(written, l.Intent.Address)
		add(l.Intent.Plan)
	case KindResult:
		written = append(written, l.Result.Address)
		add(l.Result.Record)
	case KindNote:
		n := l.Note
		if n.wide() {
			return "the whole ledger"
		}
		if n.Dropped != "" {
			written = append(written, n.Dropped)
		}
		if n.Drift != nil {
			written = append(written, n.Drift.Address)
		}
		add(n.Record)
	case KindEnd:
		if l.End.Published != nil {
			written = append(written, PublishedValues)
		}
	}
	for _, a := range written {
		if !s.MayWrite(a) {
			return a
		}
	}
	return ""
}

// wide reports whether a note says something of the whole ledger.
func (n *Note) wide() bool {
	return n.Approval != nil || n.Readers != nil || n.Writers != nil || n.Pruned != nil || n.Accepted != 0 ||
		n.Acceptance != nil || n.Moved != ""
}

// onlySeen reports whether a note says nothing new of a record but how the thing is live.
func (n *Note) onlySeen(now *Stored) bool {
	if now == nil || n.Dropped != "" || n.wide() {
		return false
	}
	was, err := now.Record()
	if err != nil {
		return false
	}
	is := *n.Record
	is.Live, is.Absent, is.Tag, is.Hidden, is.Seen = was.Live, was.Absent, was.Tag, was.Hidden, was.Seen
	a, err1 := json.Marshal(is)
	b, err2 := json.Marshal(was)
	return err1 == nil && err2 == nil && bytes.Equal(a, b)
}
