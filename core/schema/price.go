package schema

import (
	"math"

	"kasbah/core/value"
)

// Price is what a thing of a type costs a month, in the cloud's currency.
type Price struct {
	Month float64                       `json:"month"` // for being there
	By    map[string]map[string]float64 `json:"by"`    // attribute -> its value as text -> what that adds
	Per   map[string]float64            `json:"per"`   // attribute that is a number -> what each unit adds
}

// PriceOf is what a thing with these attributes costs. It is not known when the
// type has no price, or while an attribute that counts is pending.
func (t *Type) PriceOf(attributes value.Map) (month float64, known bool) {
	p := t.Price
	if p == nil {
		return 0, false
	}
	sum := p.Month
	of := func(name string) any {
		v := attributes[name]
		if a := t.Attribute(name); v == nil && a != nil && a.HasDefault {
			v = a.Default
		}
		return v
	}
	for name, by := range p.By {
		v := of(name)
		if value.IsPending(v) {
			return 0, false
		}
		sum += by[value.Plain(v)]
	}
	for name, each := range p.Per {
		v := of(name)
		if value.IsPending(v) {
			return 0, false
		}
		if n, ok := number(v); ok {
			sum += each * n
		}
	}
	return Round(sum), true
}

// Round rounds an amount to hundredths, so that sums read as they should.
func Round(amount float64) float64 { return math.Round(amount*100) / 100 }
