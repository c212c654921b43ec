package medina

import (
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
	// release gives back what a deleted thing held.
	release func(t *tx, id string, was value.Map) error
}

// durations are what work takes at pace 1.
type durations struct{ create, edit, remove time.Duration }

var nameAttr = schema.Attribute{Name: "name", Kind: schema.Text, MinLength: num(1), MaxLength: num(63), Pattern: `^[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?$`}

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

func tags() *schema.Attribute {
	return &schema.Attribute{Name: "tags", Help: "free labels", Kind: schema.MapOf, Elem: &schema.Attribute{Kind: schema.Text, MaxLength: num(256)}, MaxLength: num(50)}
}

func zone() *schema.Attribute {
	return &schema.Attribute{Name: "zone", Help: "where it stands", Kind: schema.Text, Fixed: true, OneOf: texts("north-1", "north-2", "north-3"), Default: "north-1", HasDefault: true}
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
	list := []*kind{
		{
			plural: "networks", prefix: "net", takes: durations{2 * time.Second, time.Second, 2 * time.Second}, decide: decideNetwork,
			Type: &schema.Type{Name: "network", Price: &schema.Price{Month: 2}, Help: "a private network with an address range of its own", Attributes: []*schema.Attribute{
				name("what people call it"),
				addressRange("the addresses of the network, in CIDR notation"),
				tags(),
				output("gateway", "the address that leads out of the network", schema.Text),
			}},
		},
		{
			plural: "subnets", prefix: "sub", takes: durations{2 * time.Second, time.Second, 2 * time.Second}, decide: decideSubnet,
			Type: &schema.Type{Name: "subnet", Price: &schema.Price{Month: 0.5}, Help: "a part of a network in one zone", DropFirst: true, Attributes: []*schema.Attribute{
				name("what people call it"),
				{Name: "network", Help: "the network it is a part of", Kind: schema.Text, Refers: "network", Fixed: true, Required: true},
				addressRange("its addresses, inside the network's range and apart from other subnets"),
				zone(), tags(),
				output("gateway", "the address that leads out of the subnet", schema.Text),
				output("free", "how many addresses are still free", schema.Int),
			}},
		},
		{
			plural: "machines", prefix: "mac", takes: durations{25 * time.Second, 12 * time.Second, 8 * time.Second}, decide: decideMachine, release: releaseMachine,
			Type: &schema.Type{Name: "machine", Price: &schema.Price{By: map[string]map[string]float64{"size": {"tiny": 3.5, "small": 7, "medium": 14, "large": 28}}}, Help: "a computer in a subnet", Attributes: []*schema.Attribute{
				name("what people call it"),
				{Name: "subnet", Help: "the subnet it gets its address from", Kind: schema.Text, Refers: "subnet", Fixed: true, Required: true},
				{Name: "size", Help: "how much it can do", Kind: schema.Text, OneOf: texts("tiny", "small", "medium", "large"), Required: true},
				{Name: "image", Help: "what it starts from", Kind: schema.Text, MinLength: num(1), MaxLength: num(100), Fixed: true, Required: true},
				{Name: "notes", Help: "a text handed to the machine when it starts", Kind: schema.Text, MaxLength: num(16384)},
				tags(),
				output("address", "its address in the subnet", schema.Text),
				with(schema.Attribute{Name: "state", Help: "whether it runs", Kind: schema.Text, Output: true}, func(a *schema.Attribute) { a.OneOf = texts("running", "stopped") }),
			}},
		},
		{
			plural: "disks", prefix: "dsk", takes: durations{6 * time.Second, 4 * time.Second, 4 * time.Second}, decide: decideDisk,
			Type: &schema.Type{Name: "disk", Price: &schema.Price{By: map[string]map[string]float64{"kind": {"solid": 1.2, "spinning": 0.4}}, Per: map[string]float64{"gigabytes": 0.08}}, Help: "storage that a machine can use", HoldsData: true, Copies: true, Attributes: []*schema.Attribute{
				name("what people call it"),
				{Name: "machine", Help: "the machine that uses it", Kind: schema.Text, Refers: "machine"},
				zone(),
				{Name: "kind", Help: "what it is made of", Kind: schema.Text, OneOf: texts("spinning", "solid"), Fixed: true, Default: "solid", HasDefault: true},
				{Name: "gigabytes", Help: "its size; it can grow and never shrink", Kind: schema.Int, Min: float(1), Max: float(65536), Required: true},
				tags(),
			}},
		},
		{
			plural: "buckets", prefix: "bkt", takes: durations{3 * time.Second, time.Second, 3 * time.Second}, decide: decideBucket, unique: []string{"name"},
			Type: &schema.Type{Name: "bucket", Price: &schema.Price{Month: 1, By: map[string]map[string]float64{"versions": {"true": 0.5}}}, Help: "a place for objects, reached by a URL", HoldsData: true, UniqueName: true, Identify: []string{"name"}, Attributes: []*schema.Attribute{
				with(nameAttr, func(a *schema.Attribute) { a.Help, a.Fixed = "its name, the only one of all buckets", true }),
				{Name: "public", Help: "whether anybody may read it", Kind: schema.Bool, Security: true, Default: false, HasDefault: true},
				{Name: "versions", Help: "whether older versions of an object are kept", Kind: schema.Bool, Default: false, HasDefault: true},
				tags(),
				output("url", "where its objects are read", schema.Text),
			}},
		},
		{
			plural: "records", prefix: "rec", takes: durations{4 * time.Second, 4 * time.Second, 2 * time.Second}, decide: decideRecord, unique: []string{"kind", "name"},
			Type: &schema.Type{Name: "record", Price: &schema.Price{Month: 0.1}, Help: "an entry of the directory of names (DNS)", UniqueName: true, Identify: []string{"kind", "name"}, Attributes: []*schema.Attribute{
				{Name: "name", Help: "the name that is looked up; one record of each kind has it", Kind: schema.Text, MinLength: num(1), MaxLength: num(253), Fixed: true, Required: true},
				{Name: "kind", Help: "what the values are", Kind: schema.Text, OneOf: texts("A", "CNAME", "TXT"), Fixed: true, Required: true},
				{Name: "values", Help: "the answers", Kind: schema.List, Elem: &schema.Attribute{Kind: schema.Text, MaxLength: num(1024)}, MinLength: num(1), MaxLength: num(100), Required: true},
				{Name: "ttl", Help: "how long an answer may be kept, in seconds", Kind: schema.Int, Min: float(10), Max: float(86400), Default: int64(300), HasDefault: true},
			}},
		},
	}
	for _, k := range list {
		k.ID, k.Tags, k.KeyMemory = "id", true, keyMemory
		k.Attributes = append(k.Attributes,
			&schema.Attribute{Name: "id", Help: "what identifies it", Kind: schema.Text, Output: true},
			&schema.Attribute{Name: "revision", Help: "counts its changes", Kind: schema.Text, Output: true})
		k.Index()
	}
	return list
}
