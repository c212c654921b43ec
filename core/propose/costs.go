package propose

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
