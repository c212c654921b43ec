package propose

import (
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// Comparison is the JSON form of two states held against each other.
type Comparison struct {
	Format string           `json:"format"`
	A      string           `json:"a"` // which they are
	B      string           `json:"b"`
	Wards  []WardComparison `json:"wards"`
}

// WardComparison is one ward's part of it.
type WardComparison struct {
	Ward    string               `json:"ward"`
	OnlyA   []string             `json:"only_a"`
	OnlyB   []string             `json:"only_b"`
	Differs []ResourceComparison `json:"differs"`
	Same    int                  `json:"same"`
}

// ResourceComparison is a resource whose inputs differ.
type ResourceComparison struct {
	Address string                `json:"address"`
	Changes []AttributeComparison `json:"changes"`
}

// AttributeComparison is an attribute that differs.
type AttributeComparison struct {
	Path string    `json:"path"`
	A    value.Any `json:"a"`
	B    value.Any `json:"b"`
}

// Add compares the states of a ward: the inputs of what is recorded.
func (d *Comparison) Add(ward string, a, b *ledger.State) error {
	w := WardComparison{Ward: ward, OnlyA: []string{}, OnlyB: []string{}, Differs: []ResourceComparison{}}
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
		one := ResourceComparison{Address: address}
		names := value.Map{}
		for _, inputs := range []value.Attributes{was.Inputs, now.Inputs} {
			for name := range inputs {
				names[name] = nil
			}
		}
		for _, name := range value.Keys(names) {
			if h, g := was.Hidden[name], now.Hidden[name]; h != nil && g != nil && !value.Equal(h, g) {
				one.Changes = append(one.Changes, AttributeComparison{Path: name,
					A: value.Any{V: ledger.AnotherSecret()}, B: value.Any{V: now.Inputs[name]}})
				continue
			}
			changes, _ := Compare(name, now.Inputs[name], was.Inputs[name], nil)
			for _, c := range changes {
				one.Changes = append(one.Changes, AttributeComparison{Path: c.Path, A: c.Was, B: c.WillBe})
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
