package chart

import (
	"fmt"

	"kasbah/core/declare"
	"kasbah/core/value"
)

// AddFinds adds what is looked up and managed elsewhere, as far as a node is made from it.
func (c *Chart) AddFinds(d *declare.Declared) {
	for _, r := range d.Resources {
		user := c.Find(r.Full())
		if user == nil {
			continue
		}
		told := map[string]bool{}
		for _, name := range value.Keys(r.Inputs()) {
			value.Refs(r.Inputs()[name], func(ref value.Ref) {
				f := d.Finds[ref.Address]
				if f == nil || told[ref.Address] {
					return
				}
				told[ref.Address] = true
				ward, address := value.SplitWard(f.Address)
				n := c.add(&Node{Ward: ward, Address: address, Type: f.FullType(), Is: Find, Position: f.Position, Name: findName(f)})
				c.need(n.Full(), r.Full(), name)
			})
		}
	}
}

func findName(f *declare.Find) string {
	out := ""
	for _, name := range value.Keys(f.Match) {
		if out != "" {
			out += ", "
		}
		out += fmt.Sprintf("%s %s", name, value.PlainIn(f.Ward, f.Match[name]))
	}
	return out
}

// AddInputs adds the inputs that decide attributes of nodes, and the published values. Each attribute is explained, so
// it takes time.
func (c *Chart) AddInputs(d *declare.Declared, facts bool) error {
	wards := map[string]*declare.Ward{}
	for _, w := range d.Wards {
		wards[w.Name] = w
		for _, name := range value.Keys(w.Published) {
			c.addPublished(w, w.Published[name], facts)
		}
	}
	for _, r := range d.Resources {
		if c.Find(r.Full()) == nil {
			continue
		}
		told := map[string]bool{}
		for _, name := range value.Keys(r.Inputs()) {
			o, err := d.Why(r, value.Path{value.Key(name)})
			if err != nil {
				return err
			}
			c.decided(wards, r, name, o, told)
		}
	}
	return nil
}

// decided adds the inputs and published values among the steps that lead to an attribute.
func (c *Chart) decided(wards map[string]*declare.Ward, r *declare.Resource, attribute string, o *declare.Origin, told map[string]bool) {
	if o.Source != "" && !told[o.Source] {
		told[o.Source] = true
		ward, address := value.SplitWard(o.Source)
		if w := wards[ward]; w != nil && o.Kind == declare.FromInput {
			if t := w.Taken[address[len("input/"):]]; t != nil {
				n := c.add(&Node{Ward: ward, Address: address, Type: "input", Is: Input, Position: t.Position, Name: t.Name})
				if n.Facts == nil {
					c.row(n, "value").Declared = c.shown(ward, t.Value, t.Secret)
					c.row(n, "given by").Declared = c.text(t.Source)
				}
			}
		}
		c.need(o.Source, r.Full(), attribute)
	}
	for _, from := range o.From {
		c.decided(wards, r, attribute, from, told)
	}
}

func (c *Chart) addPublished(w *declare.Ward, p *declare.Published, facts bool) {
	_, address := value.SplitWard(declare.PublishedAddress(w.Name, p.Name))
	n := &Node{Ward: w.Name, Address: address, Type: "published", Is: Published, Position: p.Position, Name: p.Name}
	if facts {
		c.row(n, "value").Declared = c.shown(w.Name, p.Value, p.Secret)
	}
	c.add(n)
	told := map[string]bool{}
	value.Refs(p.Value, func(ref value.Ref) {
		if !told[ref.Address] {
			told[ref.Address] = true
			c.need(ref.Address, n.Full(), ref.Path.String())
		}
	})
}
