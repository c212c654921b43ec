package render

import (
	"fmt"

	"kasbah/core/schema"
)

// OfferDocument is the JSON form of what an API's description offers.
type OfferDocument struct {
	Format string `json:"format"`
	*schema.Offer
}

// Offer writes what an API's description offers, and what is missing in it.
func (o *Out) Offer(file string, offer *schema.Offer) {
	described, certain := 0, 0
	for _, t := range offer.Types {
		if t.Described {
			described++
		} else if t.Certain {
			certain++
		}
	}
	title := Clean(offer.Title)
	if title == "" {
		title = "an API without a title"
	}
	o.Printf("%s: %s %s\n", file, title, Clean(offer.Version))
	for _, t := range offer.Types {
		word := "type"
		switch {
		case t.Described:
		case t.Certain:
			word = "can be"
		default:
			word = "may be"
		}
		o.Printf("\n%-6s %s  %s\n", word, o.Bold(Clean(t.Name)), o.Paint(Grey, Clean(t.Path)))
		for _, s := range t.Offers {
			o.Printf("        %s\n", Wrap(Clean(s), o.Width-8, "        "))
		}
		for _, s := range t.Lacks {
			o.Printf("  lacks %s\n", Wrap(Clean(s), o.Width-8, "        "))
		}
	}
	o.Printf("\n%s", Count(described, "type"))
	if more := len(offer.Types) - described; more > 0 {
		o.Printf(", and %s that could be one: %s with what -draft writes, %s once doubts are settled",
			Count(more, "collection"), fmt.Sprint(certain), fmt.Sprint(more-certain))
	}
	o.Printf(".\n")
}

// PinDocument is the JSON form of a driver's pin.
type PinDocument struct {
	Format  string `json:"format"`
	Driver  string `json:"driver"`
	Version string `json:"version"`
	Types   string `json:"types"`
}

// CatalogueChanges is the JSON form of how a driver differs from what is pinned.
type CatalogueChanges struct {
	Format  string              `json:"format"`
	Driver  string              `json:"driver"`
	Was     string              `json:"was"`
	Is      string              `json:"is"`
	Changes []schema.Difference `json:"changes"`
}

// CatalogueChanges writes how a driver differs from what is pinned: first what a
// declaration may mind.
func (o *Out) CatalogueChanges(d CatalogueChanges) {
	o.Printf("%s: version %s is pinned, and it is at %s\n", d.Driver, Clean(d.Was), Clean(d.Is))
	if len(d.Changes) == 0 {
		o.Printf("\nIt offers the same types.\n")
		return
	}
	breaking := 0
	for _, breaks := range []bool{true, false} {
		var rows [][]string
		for _, c := range d.Changes {
			if c.Breaks != breaks {
				continue
			}
			at := d.Driver + "." + c.Type
			if c.Attribute != "" {
				at += " " + c.Attribute
			}
			rows = append(rows, []string{at, Clean(c.What)})
		}
		if breaks {
			breaking = len(rows)
		}
		if len(rows) > 0 {
			o.Printf("\n%s\n", map[bool]string{true: "Declarations may mind:",
				false: "These need no change of declarations:"}[breaks])
			o.Table(rows, nil)
		}
	}
	o.Printf("\n%s, %s that declarations may mind. %s\n", Count(len(d.Changes), "change"), fmt.Sprint(breaking),
		"`kasbah types -pin "+d.Driver+"` takes them over.")
}
