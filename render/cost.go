package render

import (
	"fmt"
	"strings"

	"kasbah/core/propose"
	"kasbah/core/value"
)

// CostDocument is the JSON form of what resources cost a month.
type CostDocument struct {
	Format string                  `json:"format"`
	Env    string                  `json:"env"`
	Total  propose.Cost            `json:"total"`
	Wards  map[string]propose.Cost `json:"wards"`
	Types  map[string]propose.Cost `json:"types"`
	Kits   map[string]propose.Cost `json:"kits"` // of what kits declare
}

// NewCostDocument sums up the costs of a proposal's resources, those that stay
// as they are included.
func NewCostDocument(p *propose.Proposal) CostDocument {
	d := CostDocument{Format: "kasbah.cost/1", Env: p.Env, Wards: map[string]propose.Cost{}, Types: map[string]propose.Cost{}, Kits: map[string]propose.Cost{}}
	add := func(m map[string]propose.Cost, key string, one *propose.Cost) {
		c := m[key]
		c.Add(one)
		m[key] = c
	}
	for _, w := range p.Wards {
		d.Wards[w.Ward] = propose.Cost{}
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

// Cost writes costs by ward, type and kit.
func (o *Out) Cost(d CostDocument) {
	rows := [][]string{{"", "now", "proposed", "change", "not known"}}
	row := func(name string, c propose.Cost) {
		unknown := ""
		if c.Unknown > 0 {
			unknown = Count(c.Unknown, "resource")
		}
		rows = append(rows, []string{name, money(c.Was), money(c.WillBe), signed(c.Change), unknown})
	}
	for _, part := range []struct {
		word string
		of   map[string]propose.Cost
	}{{"ward ", d.Wards}, {"type ", d.Types}, {"kit ", d.Kits}} {
		for _, name := range value.Keys(part.of) {
			row(part.word+name, part.of[name])
		}
	}
	row("all", d.Total)
	if d.Total.Unknown == 0 {
		for i := range rows {
			rows[i] = rows[i][:4]
		}
	}
	o.numbers(rows)
	if d.Total.Unknown > 0 {
		o.Printf("\n%s\n", Wrap("A price is not known where the driver's description states none, or where it depends on a value still pending.", o.Width, ""))
	}
}

// numbers writes a table whose columns after the first are numbers, set
// flush right.
func (o *Out) numbers(rows [][]string) {
	widths := make([]int, len(rows[0]))
	for _, r := range rows {
		for i, c := range r {
			widths[i] = max(widths[i], width(c))
		}
	}
	for n, r := range rows {
		line := pad(r[0], widths[0])
		for i, c := range r[1:] {
			line += "  " + pad("", widths[i+1]-width(c)) + c
		}
		if n == 0 {
			line = o.Paint(Grey, line)
		}
		o.Printf("%s\n", strings.TrimRight(line, " "))
	}
}

func money(amount float64) string { return fmt.Sprintf("%.2f", amount) }

func signed(amount float64) string {
	switch {
	case amount > 0:
		return money(amount) + " more"
	case amount < 0:
		return money(-amount) + " less"
	}
	return "same"
}

// costOf is the line of a proposal's summary about its cost.
func (o *Out) costOf(p *propose.Proposal) {
	c := p.Cost
	if c == nil || p.Counts.Changing() == 0 {
		return
	}
	line := fmt.Sprintf("Costs %s a month (%s now).", signed(c.Change), money(c.Was))
	if c.Change == 0 {
		line = fmt.Sprintf("Costs the same, %s a month.", money(c.WillBe))
	}
	if c.Unknown > 0 {
		line += fmt.Sprintf(" The price of %s is not known.", Count(c.Unknown, "resource"))
	}
	o.Printf("%s\n", line)
}
