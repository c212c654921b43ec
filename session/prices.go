package session

import (
	"fmt"

	"kasbah/core/disk"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

const maxPrices = 16 << 20

// readPrices puts the estate's price book over what the drivers say.
func (s *Session) readPrices() error {
	name := s.Estate.Prices.Book
	if name == "" {
		return nil
	}
	wrong := func(err error) error { return problem.At(s.Estate.At("prices"), "the price book: %v", err) }
	body, err := disk.Read(s.below(name), maxPrices)
	if err != nil {
		return wrong(err)
	}
	book, err := schema.ReadPriceBook(name, body)
	if err != nil {
		return wrong(err)
	}
	var known []string
	for drv, c := range s.Catalogs {
		for _, typ := range c.Names() {
			known = append(known, drv+"."+typ)
		}
	}
	for _, full := range value.Keys(book) {
		t := s.Type(full)
		if t == nil {
			e := wrong(fmt.Errorf("%s: no driver has the type %s", name, full)).(*problem.Problem)
			e.Hint = nearest.Hint(full, known)
			return e
		}
		if err := book[full].Check(t); err != nil {
			return wrong(fmt.Errorf("%s: %w", name, err))
		}
		t.Price = book[full]
	}
	return nil
}
