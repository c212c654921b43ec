package schema

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// PriceBook holds prices by type with the driver: what the clouds do not say,
// or what was agreed with them.
type PriceBook map[string]*Price

// each is in the column value for the price of every unit.
const each = "each"

// ReadPriceBook reads a book: JSON when the name ends so, of the form
// {"medina.machine": {"month": 1, "by": {"size": {"small": 7}}, "per": {}}};
// else CSV (RFC 4180) with the columns type, attribute, value and month. A row
// without an attribute is the price of being there; one with the value `each`
// that of every unit of a number. Errors name the line.
func ReadPriceBook(name string, body []byte) (PriceBook, error) {
	if strings.HasSuffix(name, ".json") {
		book := PriceBook{}
		dec := json.NewDecoder(bytes.NewReader(body))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&book); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for typ, p := range book {
			if p == nil {
				return nil, fmt.Errorf("%s: %s has no price", name, typ)
			}
		}
		return book, nil
	}
	r := csv.NewReader(bytes.NewReader(body))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.Comment = 4, true, '#'
	book := PriceBook{}
	for first := true; ; first = false {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return book, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		line, _ := r.FieldPos(0)
		if first && row[0] == "type" {
			continue
		}
		month, err := strconv.ParseFloat(row[3], 64)
		if err != nil || month < 0 {
			return nil, fmt.Errorf("%s:%d: %q is not an amount", name, line, row[3])
		}
		if err := book.add(row[0], row[1], row[2], month); err != nil {
			return nil, fmt.Errorf("%s:%d: %w", name, line, err)
		}
	}
}

func (b PriceBook) add(typ, attribute, value string, month float64) error {
	p := b[typ]
	if p == nil {
		p = &Price{By: map[string]map[string]float64{}, Per: map[string]float64{}}
		b[typ] = p
	}
	switch {
	case attribute == "" && value != "":
		return fmt.Errorf("the value %q belongs to no attribute", value)
	case attribute == "":
		p.Month = month
	case value == each:
		p.Per[attribute] = month
	default:
		if p.By[attribute] == nil {
			p.By[attribute] = map[string]float64{}
		}
		p.By[attribute][value] = month
	}
	return nil
}

// Check holds a price against its type: every attribute must be there, and
// what is counted must be a number.
func (p *Price) Check(t *Type) error {
	for name := range p.By {
		if t.Attribute(name) == nil {
			return fmt.Errorf("%s has no attribute %q", WithArticle(t.Name), name)
		}
	}
	for name := range p.Per {
		a := t.Attribute(name)
		switch {
		case a == nil:
			return fmt.Errorf("%s has no attribute %q", WithArticle(t.Name), name)
		case a.Kind != Int && a.Kind != Number:
			return fmt.Errorf("%s of %s is not a number, so there is no price for each", name, WithArticle(t.Name))
		}
	}
	return nil
}
