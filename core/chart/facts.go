package chart

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// longest is how much of a value is shown, in bytes.
const longest = 2000

// shown is a value for people in a ward, shortened if it is long. Of a secret it is the name, where the code gives one.
func (c *Chart) shown(ward string, v any, secret bool) Text {
	if secret || value.IsSecret(v) {
		out := "(secret)"
		value.Refs(v, func(r value.Ref) {
			if name, ok := value.SecretName(r.Address); ok && out == "(secret)" {
				out = "(secret " + name + ")"
			}
		})
		return c.text(out)
	}
	s := value.PlainIn(ward, v)
	if len(s) > longest {
		cut := longest
		for cut > 0 && s[cut]&0xC0 == 0x80 { // in the middle of a letter
			cut--
		}
		s = fmt.Sprintf("%s… (%d bytes)", s[:cut], len(s))
	}
	return c.text(s)
}

// row is the row of a path, which it makes if there is none.
func (c *Chart) row(n *Node, path string) *Value {
	if n.Facts == nil {
		n.Facts = &Facts{}
	}
	p := c.text(path)
	i := slices.IndexFunc(n.Values, func(v Value) bool { return v.Path == p })
	if i < 0 {
		i = len(n.Values)
		n.Values = append(n.Values, Value{Path: p})
	}
	return &n.Values[i]
}

// declared notes what the code says of a resource.
func (c *Chart) declared(n *Node, r *declare.Resource) {
	if n.Facts == nil {
		n.Facts = &Facts{}
	}
	for _, name := range value.Keys(r.Inputs()) {
		v := c.row(n, name)
		v.Secret = secret(r.Type, name)
		v.Declared = c.shown(r.Ward, r.Inputs()[name], v.Secret)
	}
	if r.MadeName != "" {
		c.row(n, "name").Declared = c.text(r.MadeName)
	}
	if price, known := r.Type.PriceOf(r.Inputs()); known {
		n.Price = &price
	}
	n.Care = phrases(&r.Care.Care)
}

// recorded notes what the ledger says of a resource. t is nil where its driver cannot tell.
func (c *Chart) recorded(n *Node, r *ledger.Record, t *schema.Type) {
	if n.Facts == nil {
		n.Facts = &Facts{}
	}
	for _, from := range []value.Attributes{r.Live, r.Inputs} {
		for _, name := range value.Keys(from) {
			if v := c.row(n, name); v.Recorded == 0 {
				v.Secret = v.Secret || secret(t, name) || r.Hidden[name] != nil
				v.Recorded = c.shown(n.Ward, from[name], v.Secret)
			}
		}
	}
	n.ID, n.Run = r.ID, r.Run
	if changed := r.Changed.UTC().Truncate(time.Second); !changed.IsZero() {
		n.Changed = &changed
	}
	if n.Care == nil {
		n.Care = phrases(&r.Care)
	}
}

// sortValues brings the rows of each node into the order of their paths.
func (c *Chart) sortValues() {
	for _, n := range c.Nodes {
		if n.Facts != nil {
			slices.SortFunc(n.Values, func(a, b Value) int { return strings.Compare(c.Texts[a.Path], c.Texts[b.Path]) })
		}
	}
}

func secret(t *schema.Type, attribute string) bool {
	if t == nil {
		return false
	}
	a := t.Attribute(attribute)
	return a != nil && a.Secret
}

// phrases say how a resource is to be treated.
func phrases(c *schema.Care) (out []string) {
	if c.Guard {
		out = append(out, "guarded: it is not dropped or swapped")
	}
	if len(c.Leave) > 0 {
		paths := make([]string, len(c.Leave))
		for i, p := range c.Leave {
			paths[i] = p.String()
		}
		out = append(out, "others may change "+strings.Join(paths, ", "))
	}
	if c.Swap != "" {
		out = append(out, "a swap is "+c.Swap)
	}
	switch c.AtDrop {
	case schema.LetGo:
		out = append(out, "it is released, not dropped")
	case schema.CopyFirst:
		out = append(out, "a copy is kept when it is dropped")
	}
	for _, rule := range value.Keys(c.Excuse) {
		out = append(out, fmt.Sprintf("excused from %s until %s", rule, c.Excuse[rule].Until))
	}
	return out
}
