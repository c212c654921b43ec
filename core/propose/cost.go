package propose

import (
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Cost is an amount a month before and after, in the cloud's currency.
type Cost struct {
	Was    float64 `json:"was"`
	WillBe float64 `json:"will_be"`
	Change float64 `json:"change"`
	// Unknown counts the resources whose price is not known: their type has
	// none, or it depends on a value that is still pending.
	Unknown int `json:"unknown,omitempty"`
}

// Add adds one resource's cost; nil is one that is not known.
func (c *Cost) Add(one *Cost) {
	if one == nil {
		c.Unknown++
		return
	}
	c.Was = schema.Round(c.Was + one.Was)
	c.WillBe = schema.Round(c.WillBe + one.WillBe)
	c.Change = schema.Round(c.WillBe - c.Was)
}

// cost is what an action's resource costs before and after; nil when one of
// the two is not known.
func cost(t *schema.Type, kind Kind, seen *Seen, inputs value.Map) *Cost {
	c := &Cost{}
	ok := true
	if seen != nil && !seen.Gone && seen.ID != "" {
		attributes := value.Map(seen.Live)
		if attributes == nil {
			attributes = value.Map(seen.Inputs)
		}
		if c.Was, ok = t.PriceOf(attributes); !ok {
			return nil
		}
	}
	switch kind {
	case Drop, Release: // what is let go is no longer ours to count
	case Same, Adopt:
		c.WillBe = c.Was
	default:
		if c.WillBe, ok = t.PriceOf(inputs); !ok {
			return nil
		}
	}
	c.Change = schema.Round(c.WillBe - c.Was)
	return c
}

// Costs is the JSON form of what resources cost a month.
type Costs struct {
	Format   string `json:"format"`
	Env      string `json:"env"`
	Currency string `json:"currency,omitempty"` // of all amounts

	Total Cost            `json:"total"`
	Wards map[string]Cost `json:"wards"`
	Types map[string]Cost `json:"types"`
	Kits  map[string]Cost `json:"kits"` // of what kits declare
}

// NewCosts sums up the costs of a proposal's resources, those that stay
// as they are included.
func NewCosts(p *Proposal) Costs {
	d := Costs{Format: "kasbah.cost/1", Env: p.Env, Currency: p.Currency, Wards: map[string]Cost{},
		Types: map[string]Cost{}, Kits: map[string]Cost{}}
	add := func(m map[string]Cost, key string, one *Cost) {
		c := m[key]
		c.Add(one)
		m[key] = c
	}
	for _, w := range p.Wards {
		d.Wards[w.Ward] = Cost{}
	}
	for _, a := range p.Actions {
		d.Total.Add(a.Cost)
		add(d.Wards, a.Ward, a.Cost)
		add(d.Types, a.Type, a.Cost)
		if a.Kit != "" {
			add(d.Kits, a.Kit, a.Cost)
		}
	}
	return d
}
