package render

import (
	"fmt"
	"math"
	"strings"

	"kasbah/core/propose"
	"kasbah/core/value"
)

// Cost writes costs by ward, type and kit.
func (o *Out) Cost(d propose.Costs) {
	rows := [][]string{{d.Currency, "now", "proposed", "change", "not known"}}
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
		o.Printf("\n%s\n", Wrap("A price is not known where the driver's description states none, or where it "+
			"depends on a value still pending.", o.Width, ""))
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

// moneyIn is an amount with its currency; "" for none.
func moneyIn(currency string, amount float64) string {
	if currency == "" {
		return money(amount)
	}
	return money(amount) + " " + currency
}

// costOf is the line of a proposal's summary about its cost.
func (o *Out) costOf(p *propose.Proposal) {
	c := p.Cost
	if c == nil || p.Counts.Changing() == 0 {
		return
	}
	more := "more"
	if c.Change < 0 {
		more = "less"
	}
	line := fmt.Sprintf("Costs %s %s a month (%s now).", moneyIn(p.Currency, math.Abs(c.Change)), more, money(c.Was))
	if c.Change == 0 {
		line = fmt.Sprintf("Costs the same, %s a month.", moneyIn(p.Currency, c.WillBe))
	}
	if c.Unknown > 0 {
		line += fmt.Sprintf(" The price of %s is not known.", Count(c.Unknown, "resource"))
	}
	o.Printf("%s\n", line)
}
