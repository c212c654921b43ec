package adopt

import (
	"cmp"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// code is a value as the language writes it; a shared one by its name.
func (c *coder) code(v any) string {
	var b strings.Builder
	c.write(&b, v)
	return b.String()
}

// write writes what code gives.
func (c *coder) write(b *strings.Builder, v any) {
	if len(c.shared) > 0 && isLarge(v) {
		if name := c.shared[canonical(v)]; name != "" {
			b.WriteString(name)
			return
		}
	}
	write(b, v, c.leaf)
}

// leaf is a value other than a list or a map, as the language writes it.
func (c *coder) leaf(v any) string {
	switch x := v.(type) {
	case toItem:
		text := cmp.Or(c.refer[x.key], quoted(x.key))
		if x.output != "" {
			text += "." + declare.Identifier(x.output)
		}
		return text
	case textOf:
		return quoted(x.format) + " % " + cmp.Or(c.refer[x.key], quoted(x.key)) + "." + declare.Identifier(x.id)
	case toOther:
		return c.refer[x.key]
	case ofEnv:
		return quoted(x.text) + " % env"
	case asInput:
		return x.name
	case verbatim:
		return x.text
	case loaded:
		return c.loads[loaded{file: x.file, name: x.name}] + x.rest
	}
	return declare.Literal(v)
}

// write writes a value, its leaves by a function.
func write(b *strings.Builder, v any, leaf func(any) string) {
	switch v := v.(type) {
	case []any:
		b.WriteString("[")
		for i, x := range v {
			if i > 0 {
				b.WriteString(", ")
			}
			write(b, x, leaf)
		}
		b.WriteString("]")
	case map[string]any:
		b.WriteString("{")
		for i, k := range value.Keys(v) {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(quoted(k) + ": ")
			write(b, v[k], leaf)
		}
		b.WriteString("}")
	default:
		b.WriteString(leaf(v))
	}
}

// kindOf is the second argument of an input for an attribute, with its comma; "" for a text.
func kindOf(a *schema.Attribute) string {
	var kind func(a *schema.Attribute) string
	kind = func(a *schema.Attribute) string {
		if a == nil {
			return "kind.text"
		}
		switch a.Kind {
		case schema.Int:
			return "kind.int"
		case schema.Number:
			return "kind.number"
		case schema.Bool:
			return "kind.bool"
		case schema.List:
			return "kind.list(" + kind(a.Elem) + ")"
		case schema.MapOf:
			return "kind.map(" + kind(a.Elem) + ")"
		}
		return "kind.text"
	}
	if k := kind(a); k != "kind.text" {
		return ", " + k
	}
	return ""
}
