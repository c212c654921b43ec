package estate

import "kasbah/core/form"

// Prices says what resources are priced by.
type Prices struct {
	Book     string // file of a price book, relative to the folder or absolute; "" for none
	Currency string // of all amounts, as ISO 4217 has it, such as EUR; "" where it is not said
}

var currencyForm = form.Of(`^[A-Z]{3}$`)

// prices reads prices = "FILE", or the table [prices] with book and currency.
func (r *reader) prices(v any) (p Prices) {
	switch v := v.(type) {
	case nil:
	case string:
		if p.Book = v; v == "" {
			r.wrong("prices", "prices must name a file, such as prices = \"prices.csv\"")
		}
	case map[string]any:
		r.known("prices", v, namesOf("prices")...)
		if book, ok := v["book"]; ok {
			if p.Book, ok = book.(string); !ok || p.Book == "" {
				r.wrong("prices.book", "book must name a file, such as book = \"prices.csv\"")
			}
		}
		if currency, ok := v["currency"]; ok {
			if p.Currency, ok = currency.(string); !ok || !currencyForm().MatchString(p.Currency) {
				r.wrong("prices.currency", "currency must be a code of three letters (ISO 4217), such as \"EUR\"")
			}
		}
	default:
		r.wrong("prices", "prices must name a file, such as prices = \"prices.csv\", or be a table with book and "+
			"currency")
	}
	return p
}
