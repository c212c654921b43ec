package render

import (
	"fmt"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// CompareDocument is the JSON form of two states held against each other.
type CompareDocument struct {
	Format string        `json:"format"`
	A      string        `json:"a"` // which they are
	B      string        `json:"b"`
	Wards  []CompareWard `json:"wards"`
}

// CompareWard is one ward's part of it.
type CompareWard struct {
	Ward    string            `json:"ward"`
	OnlyA   []string          `json:"only_a"`
	OnlyB   []string          `json:"only_b"`
	Differs []CompareResource `json:"differs"`
	Same    int               `json:"same"`
}

// CompareResource is a resource whose inputs differ.
type CompareResource struct {
	Address string          `json:"address"`
	Changes []CompareChange `json:"changes"`
}

// CompareChange is an attribute that differs.
type CompareChange struct {
	Path string    `json:"path"`
	A    value.Any `json:"a"`
	B    value.Any `json:"b"`
}

// Add compares the states of a ward: the inputs of what is recorded.
func (d *CompareDocument) Add(ward string, a, b *ledger.State) error {
	w := CompareWard{Ward: ward, OnlyA: []string{}, OnlyB: []string{}, Differs: []CompareResource{}}
	for _, address := range a.Addresses() {
		if b.Records[address] == nil {
			w.OnlyA = append(w.OnlyA, address)
			continue
		}
		was, err := a.Records[address].Record()
		if err != nil {
			return err
		}
		now, err := b.Records[address].Record()
		if err != nil {
			return err
		}
		one := CompareResource{Address: address}
		names := value.Map{}
		for _, inputs := range []value.Attributes{was.Inputs, now.Inputs} {
			for name := range inputs {
				names[name] = nil
			}
		}
		for _, name := range value.Keys(names) {
			if h, g := was.Hidden[name], now.Hidden[name]; h != nil && g != nil && !value.Equal(h, g) {
				one.Changes = append(one.Changes, CompareChange{Path: name, A: value.Any{V: ledger.Other()}, B: value.Any{V: now.Inputs[name]}})
				continue
			}
			changes, _ := propose.Compare(name, now.Inputs[name], was.Inputs[name], nil)
			for _, c := range changes {
				one.Changes = append(one.Changes, CompareChange{Path: c.Path, A: c.Was, B: c.WillBe})
			}
		}
		if one.Changes == nil {
			w.Same++
			continue
		}
		w.Differs = append(w.Differs, one)
	}
	for _, address := range b.Addresses() {
		if a.Records[address] == nil {
			w.OnlyB = append(w.OnlyB, address)
		}
	}
	d.Wards = append(d.Wards, w)
	return nil
}

// Compare writes what differs.
func (o *Out) Compare(d CompareDocument) {
	for i, w := range d.Wards {
		if i > 0 {
			o.Printf("\n")
		}
		o.Printf("%s\n", o.Bold(fmt.Sprintf("%s: %s and %s", w.Ward, Clean(d.A), Clean(d.B))))
		var rows [][]string
		for _, address := range w.OnlyA {
			rows = append(rows, []string{"  " + Clean(address), "only in " + Clean(d.A)})
		}
		for _, address := range w.OnlyB {
			rows = append(rows, []string{"  " + Clean(address), "only in " + Clean(d.B)})
		}
		o.Sheet(rows)
		for _, r := range w.Differs {
			o.Printf("  %s\n", Clean(r.Address))
			var rows [][]string
			for _, c := range r.Changes {
				rows = append(rows, []string{"    " + Clean(c.Path), shownOr(c.A.V), shownOr(c.B.V)})
			}
			o.Sheet(rows)
		}
		differ := Count(len(w.Differs), "resource") + " differ"
		if len(w.Differs) == 1 {
			differ += "s"
		}
		o.Printf("%s, %d only in %s, %d only in %s, %d the same.\n", differ, len(w.OnlyA), Clean(d.A), len(w.OnlyB), Clean(d.B), w.Same)
	}
}

func shownOr(v any) string {
	if v == nil {
		return "none"
	}
	return Clean(value.Plain(v))
}

// Entries counts entries.
func Entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

// ExportDocument is all that is recorded, without secrets.
type ExportDocument struct {
	Format string       `json:"format"`
	Estate string       `json:"estate"`
	Env    string       `json:"env"`
	Wards  []ExportWard `json:"wards"`
}

// ExportWard is one ward's part of it.
type ExportWard struct {
	Ward      string           `json:"ward"`
	Entry     int64            `json:"entry"`
	Hash      string           `json:"hash"`
	Published value.Attributes `json:"published"`
	Reads     []string         `json:"reads,omitempty"`
	Resources []*ledger.Record `json:"resources"`
}
