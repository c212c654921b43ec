package medina

import (
	"slices"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// kind is one type of thing that Medina offers. The table below gives the
// API, its validation and its OpenAPI document.
type kind struct {
	*schema.Type
	plural string // last part of the collection's path
	prefix string // of ids
	takes  durations
	unique []string // attributes that no two things of the type may share together

	// decide fills in what Medina decides about a thing that is made or
	// edited, and refuses what a schema cannot tell. was is nil for a new one.
	decide func(t *tx, id string, was, is value.Map) error
	// mayGo refuses to delete a thing; nil where nothing speaks against it.
	mayGo func(was value.Map) error
	// release gives back what a deleted thing held.
	release func(t *tx, id string, was value.Map) error
}

// durations are what work takes at pace 1.
type durations struct{ create, edit, remove time.Duration }

var nameAttr = schema.Attribute{Name: "name", Kind: schema.Text, MinLength: num(1), MaxLength: num(63),
	Pattern: `^[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?$`}

func num(n int) *int           { return &n }
func float(n float64) *float64 { return &n }

func texts(list ...string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

func with(a schema.Attribute, change func(*schema.Attribute)) *schema.Attribute {
	change(&a)
	return &a
}

func output(name, help string, k schema.Kind) *schema.Attribute {
	return &schema.Attribute{Name: name, Help: help, Kind: k, Output: true}
}

// moving is an output that work on what refers to the thing changes.
func moving(name, help string, k schema.Kind) *schema.Attribute {
	a := output(name, help, k)
	a.Moves = true
	return a
}

func tags() *schema.Attribute {
	return &schema.Attribute{Name: "tags", Help: "free labels", Kind: schema.MapOf,
		Elem: &schema.Attribute{Kind: schema.Text, MaxLength: num(256)}, MaxLength: num(50)}
}

func zone() *schema.Attribute {
	return &schema.Attribute{Name: "zone", Help: "where it stands", Kind: schema.Text, Fixed: true,
		OneOf: texts("north-1", "north-2", "north-3"), Default: "north-1", HasDefault: true}
}

func addressRange(help string) *schema.Attribute {
	return &schema.Attribute{Name: "range", Help: help, Kind: schema.Text, Format: "cidr", Fixed: true, Required: true}
}

func name(help string) *schema.Attribute {
	return with(nameAttr, func(a *schema.Attribute) { a.Help = help })
}

// kinds is the table of types, in the order in which the documentation shows
// them.
func kinds() []*kind {
	list := slices.Concat(networkKinds(), computeKinds(), dataKinds(), accessKinds())
	for _, k := range list {
		k.ID, k.Tags, k.Locate, k.KeyMemory = "id", true, true, keyMemory
		k.Attributes = append(k.Attributes,
			&schema.Attribute{Name: "id", Help: "what identifies it", Kind: schema.Text, Output: true},
			&schema.Attribute{Name: "revision", Help: "counts its changes", Kind: schema.Text, Output: true})
		k.Index()
	}
	return list
}
