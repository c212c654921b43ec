package medina

import (
	"crypto/sha256"
	"fmt"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// What holds data.
func dataKinds() []*kind {
	return []*kind{
		{
			plural: "buckets", prefix: "bkt", takes: durations{3 * time.Second, time.Second, 3 * time.Second},
			decide: decideBucket, unique: []string{"name"},
			Type: &schema.Type{Name: "bucket", Price: &schema.Price{Month: 1,
				By: map[string]map[string]float64{"versions": {"true": 0.5}}},
				Help: "a place for objects, reached by a URL", HoldsData: true, UniqueName: true,
				Identify: []string{"name"}, Attributes: []*schema.Attribute{
					with(nameAttr, func(a *schema.Attribute) {
						a.Help, a.Fixed = "its name, the only one of all buckets",
							true
					}),
					{Name: "public", Help: "whether anybody may read it", Kind: schema.Bool, Security: true, Default: false,
						HasDefault: true},
					{Name: "versions", Help: "whether older versions of an object are kept", Kind: schema.Bool,
						Default: false, HasDefault: true},
					{Name: "site", Help: "whether its objects are shown as pages to anybody; it must be public for that",
						Kind: schema.Bool, Security: true, Default: false, HasDefault: true},
					tags(),
					output("url", "where its objects are read", schema.Text),
				}},
		},
		{
			plural: "objects", prefix: "obj", takes: durations{500 * time.Millisecond, 500 * time.Millisecond,
				500 * time.Millisecond}, decide: decideObject, unique: []string{"bucket", "path"},
			Type: &schema.Type{Name: "object", Help: "a text in a bucket", UniqueName: true,
				Identify: []string{"bucket", "path"}, Attributes: []*schema.Attribute{
					{Name: "bucket", Help: "the bucket that it is in", Kind: schema.Text, Refers: "bucket", Fixed: true,
						Required: true},
					{Name: "path", Help: "where in the bucket; the only one there", Kind: schema.Text,
						Pattern: `^[A-Za-z0-9._-]+(/[A-Za-z0-9._-]+)*$`, MaxLength: num(500), Fixed: true, Required: true},
					{Name: "text", Help: "what it holds", Kind: schema.Text, MaxLength: num(512 * 1024), Required: true},
					{Name: "media_type", Help: "what that is", Kind: schema.Text,
						Pattern: `^[a-z]+/[a-z0-9.+-]+(; charset=[a-zA-Z0-9-]+)?$`, Default: "text/plain; charset=utf-8",
						HasDefault: true},
					tags(),
					output("size", "its bytes", schema.Int),
					output("sha256", "the digest of its bytes, in hexadecimal", schema.Text),
				}},
		},
		{
			plural: "queues", prefix: "que", takes: durations{2 * time.Second, time.Second, time.Second},
			decide: decideQueue, unique: []string{"name"},
			Type: &schema.Type{Name: "queue", Price: &schema.Price{Month: 0.4},
				Help: "keeps messages until somebody takes them", HoldsData: true, UniqueName: true,
				Identify: []string{"name"}, Attributes: []*schema.Attribute{
					with(nameAttr, func(a *schema.Attribute) {
						a.Help, a.Fixed = "its name, the only one of all queues",
							true
					}),
					{Name: "keep", Help: "how long a message waits, in seconds", Kind: schema.Int, Min: float(60),
						Max: float(1209600), Default: int64(345600), HasDefault: true},
					{Name: "hidden", Help: "for how long one that was taken is hidden from others, in seconds",
						Kind: schema.Int, Min: float(0), Max: float(43200), Default: int64(30), HasDefault: true},
					{Name: "tries", Help: "how often a message is handed out before it goes to the failed ones",
						Kind: schema.Int, Min: float(1), Max: float(1000)},
					{Name: "failed", Help: "the queue for those that were tried too often", Kind: schema.Text,
						Refers: "queue"},
					tags(),
				}},
		},
		{
			plural: "topics", prefix: "top", takes: durations{time.Second, time.Second, time.Second},
			decide: decideTopic, unique: []string{"name"},
			Type: &schema.Type{Name: "topic", Price: &schema.Price{Month: 0.2}, Help: "tells several queues at once",
				UniqueName: true, Identify: []string{"name"}, Attributes: []*schema.Attribute{
					with(nameAttr, func(a *schema.Attribute) {
						a.Help, a.Fixed = "its name, the only one of all topics",
							true
					}),
					{Name: "queues", Help: "who is told", Kind: schema.List, MaxLength: num(100),
						Elem: &schema.Attribute{Kind: schema.Text, Refers: "queue"}},
					{Name: "mail", Help: "who is told by mail", Kind: schema.List, MaxLength: num(100),
						Elem: &schema.Attribute{Kind: schema.Text, Pattern: `^[^@ ]+@[^@ ]+$`, MaxLength: num(253)}},
					tags(),
				}},
		},
		{
			plural: "tables", prefix: "tab", takes: durations{8 * time.Second, 4 * time.Second, 4 * time.Second},
			decide: decideTable, mayGo: tableMayGo, unique: []string{"name"},
			Type: &schema.Type{Name: "table", Price: &schema.Price{Month: 1, Per: map[string]float64{"capacity": 0.02}},
				Help: "keeps entries by their key", HoldsData: true, Copies: true, UniqueName: true,
				Identify: []string{"name"}, Attributes: []*schema.Attribute{
					with(nameAttr, func(a *schema.Attribute) {
						a.Help, a.Fixed = "its name, the only one of all tables",
							true
					}),
					{Name: "key", Help: "the field that its entries are found by", Kind: schema.Text,
						Pattern: `^[a-z][a-z0-9_]*$`, MaxLength: num(60), Fixed: true, Required: true},
					{Name: "order", Help: "the field that entries of one key are in the order of", Kind: schema.Text,
						Pattern: `^[a-z][a-z0-9_]*$`, MaxLength: num(60), Fixed: true},
					{Name: "capacity", Help: "how many entries a second it takes", Kind: schema.Int, Min: float(1),
						Max: float(40000), Default: int64(5), HasDefault: true},
					{Name: "protected", Help: "whether Medina refuses to delete it", Kind: schema.Bool, Default: false,
						HasDefault: true},
					{Name: "seal", Help: "the key that it is encrypted with", Kind: schema.Text, Refers: "key", Fixed: true,
						Security: true},
					tags(),
				}},
		},
		{
			plural: "databases", prefix: "dbs", takes: durations{60 * time.Second, 30 * time.Second, 20 * time.Second},
			decide: decideDatabase, release: releaseHost,
			Type: &schema.Type{Name: "database",
				Price: &schema.Price{By: map[string]map[string]float64{"size": {"small": 18, "medium": 36,
					"large": 72}}, Per: map[string]float64{"gigabytes": 0.15}}, Help: "a database server in a subnet",
				HoldsData: true, Copies: true, Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "subnet", Help: "the subnet it gets its address from", Kind: schema.Text, Refers: "subnet",
						Fixed: true, Required: true},
					{Name: "engine", Help: "what it runs", Kind: schema.Text, OneOf: texts("tabular-15", "tabular-16",
						"tabular-17"), Default: "tabular-17", HasDefault: true},
					{Name: "size", Help: "how much it can do", Kind: schema.Text, OneOf: texts("small", "medium", "large"),
						Required: true},
					{Name: "gigabytes", Help: "its space; it can grow and never shrink", Kind: schema.Int, Min: float(5),
						Max: float(65536), Required: true},
					{Name: "keeper", Help: "who may do everything in it", Kind: schema.Text, Pattern: `^[a-z][a-z0-9_]*$`,
						MaxLength: num(60), Fixed: true, Default: "keeper", HasDefault: true},
					{Name: "password", Help: "the keeper's password", Kind: schema.Text, Secret: true, MinLength: num(12),
						MaxLength: num(200), Required: true},
					{Name: "public", Help: "whether it is reached from everywhere", Kind: schema.Bool, Security: true,
						Default: false, HasDefault: true},
					{Name: "seal", Help: "the key that it is encrypted with", Kind: schema.Text, Refers: "key", Fixed: true,
						Security: true},
					tags(),
					output("address", "its address in the subnet", schema.Text),
					output("port", "where it listens", schema.Int),
				}},
		},
	}
}

func decideBucket(t *tx, id string, was, is value.Map) error {
	if is["site"] == true && is["public"] != true {
		return refuse("site", "a site is read by anybody, and this bucket is not public")
	}
	is["url"] = fmt.Sprintf("https://%s.buckets.medina.example/", is["name"])
	return nil
}

func decideObject(t *tx, id string, was, is value.Map) error {
	text := is["text"].(string)
	is["size"], is["sha256"] = int64(len(text)), fmt.Sprintf("%x", sha256.Sum256([]byte(text)))
	return nil
}

func decideQueue(t *tx, id string, was, is value.Map) error {
	_, tries := is["tries"]
	failed, leads := is["failed"]
	switch {
	case tries != leads:
		return refuse(map[bool]string{true: "failed", false: "tries"}[tries], "tries and failed go together")
	case failed == id:
		return refuse("failed", "a queue cannot be its own queue for what failed")
	}
	return nil
}

func decideTopic(t *tx, id string, was, is value.Map) error {
	queues, _ := is["queues"].([]any)
	seen := map[any]bool{}
	for i, q := range queues {
		if seen[q] {
			return refuse(fmt.Sprintf("queues/%d", i), "%s is listed twice", q)
		}
		seen[q] = true
	}
	return nil
}

func decideTable(t *tx, id string, was, is value.Map) error {
	if is["order"] == is["key"] {
		return refuse("order", "entries of one key cannot be in the order of that key")
	}
	return t.keyInUse(is)
}

func tableMayGo(was value.Map) error {
	if was["protected"] == true {
		return &refusal{status: 409, title: "protected", detail: fmt.Sprintf("table %s is protected", was["name"]),
			errors: []pointed{{Pointer: "/protected", Detail: "it is protected"}}}
	}
	return nil
}

func decideDatabase(t *tx, id string, was, is value.Map) error {
	subnet, err := t.get("subnet", is["subnet"].(string))
	if err != nil {
		return err
	}
	t.zone, _ = subnet["zone"].(string)
	if was != nil {
		if is["gigabytes"].(int64) < was["gigabytes"].(int64) {
			return refuse("gigabytes", "a database cannot shrink, and this one has %d gigabytes", was["gigabytes"])
		}
		if is["engine"].(string) < was["engine"].(string) {
			return refuse("engine", "a database cannot go back from %s to %s", was["engine"], is["engine"])
		}
		return nil
	}
	if err := t.keyInUse(is); err != nil {
		return err
	}
	is["port"] = int64(5432)
	return t.host("database", id, subnet, is)
}

// keyInUse refuses a key that is switched off.
func (t *tx) keyInUse(is value.Map) error {
	id, ok := is["seal"].(string)
	if !ok {
		return nil
	}
	key, err := t.get("key", id)
	if err != nil {
		return err
	}
	if key["enabled"] != true {
		return refuse("seal", "key %s is switched off", key["name"])
	}
	return nil
}
