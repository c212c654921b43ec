package ledger

import (
	"iter"
	"runtime"
	"slices"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// Records are recorded resources without their secrets, in the order of addresses. Each is decoded when its turn
// has nearly come, and is not kept, so that all of a large ledger can be shown.
type Records struct{ list []*Stored }

// Shown are the records of a state whose addresses match.
func (s *State) Shown(match func(address string) bool) Records {
	list := []*Stored{}
	for address, st := range s.Records {
		if match(address) {
			list = append(list, st)
		}
	}
	slices.SortFunc(list, func(a, b *Stored) int { return strings.Compare(a.Address, b.Address) })
	return Records{list}
}

// Len is how many there are.
func (r Records) Len() int { return len(r.list) }

// Names are the address and the id of each. Nothing is decoded for them.
func (r Records) Names() iter.Seq2[string, string] {
	return func(yield func(string, string) bool) {
		for _, s := range r.list {
			if !yield(s.Address, s.ID) {
				return
			}
		}
	}
}

// decodedAtOnce is how many records a core decodes at a time.
const decodedAtOnce = 256

// All decodes one after the other, and the next ones meanwhile on the cores there are. It ends with the first
// error.
func (r Records) All() iter.Seq2[*Record, error] {
	type part struct {
		records []*Record
		err     error
	}
	return func(yield func(*Record, error) bool) {
		rest, coming := r.list, []chan part{}
		begin := func() {
			if len(rest) == 0 {
				return
			}
			list, c := rest[:min(decodedAtOnce, len(rest))], make(chan part, 1)
			rest, coming = rest[len(list):], append(coming, c)
			go func() {
				p := part{records: make([]*Record, 0, len(list))}
				for _, s := range list {
					record, err := s.decoded()
					if p.err = err; err != nil {
						break
					}
					p.records = append(p.records, record.Shown())
				}
				c <- p
			}()
		}
		for range runtime.GOMAXPROCS(0) {
			begin()
		}
		for len(coming) > 0 {
			p := <-coming[0]
			coming = coming[1:]
			begin()
			for _, record := range p.records {
				if !yield(record, nil) {
					return
				}
			}
			if p.err != nil {
				yield(nil, p.err)
				return
			}
		}
	}
}

// MarshalJSONTo writes one record after the other, for a package that can write a document as it grows
// (github.com/go-json-experiment/json).
func (r Records) MarshalJSONTo(enc *jsontext.Encoder) error {
	if err := enc.WriteToken(jsontext.BeginArray); err != nil {
		return err
	}
	var w writing
	for record, err := range r.All() {
		if err != nil {
			return err
		}
		w.b = w.b[:0]
		if w.record(record); w.err != nil {
			return w.err
		}
		if err := enc.WriteValue(w.b); err != nil {
			return err
		}
	}
	return enc.WriteToken(jsontext.EndArray)
}

// MarshalJSON writes all of them at once, for encoding/json.
func (r Records) MarshalJSON() ([]byte, error) {
	w := writing{b: []byte{'['}}
	for record, err := range r.All() {
		if err != nil {
			return nil, err
		}
		if len(w.b) > 1 {
			w.b = append(w.b, ',')
		}
		if w.record(record); w.err != nil {
			return nil, w.err
		}
	}
	return append(w.b, ']'), nil
}
