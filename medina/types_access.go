package medina

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// What is about keys, rights and secrets.
func accessKinds() []*kind {
	return []*kind{
		{
			plural: "keys", prefix: "key", takes: durations{2 * time.Second, time.Second, 2 * time.Second},
			decide: decideKey,
			Type: &schema.Type{Name: "key", Price: &schema.Price{Month: 1},
				Help: "a key that data is encrypted with; what it encrypted is lost with it", HoldsData: true,
				Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "renew", Help: "after how many days it is renewed; never when left out", Kind: schema.Int,
						Min: float(1), Max: float(3650)},
					{Name: "enabled", Help: "whether it can be used", Kind: schema.Bool, Security: true, Default: true,
						HasDefault: true},
					tags(),
					output("fingerprint", "tells it from others", schema.Text),
				}},
		},
		{
			plural: "roles", prefix: "rol", takes: durations{time.Second, time.Second, time.Second}, decide: decideRole,
			unique: []string{"name"},
			Type: &schema.Type{Name: "role", Help: "what somebody may do", UniqueName: true, Identify: []string{"name"},
				Attributes: []*schema.Attribute{
					with(nameAttr, func(a *schema.Attribute) {
						a.Help, a.Fixed = "its name, the only one of all roles",
							true
					}),
					{Name: "grants", Help: "what it allows", Kind: schema.List, Security: true, MaxLength: num(100),
						Required: true, Elem: &schema.Attribute{Kind: schema.Record, Fields: []*schema.Attribute{
							{Name: "may", Help: "what", Kind: schema.Text, OneOf: texts("read", "write", "manage"),
								Required: true},
							{Name: "on", Help: "a type, and an id or a star behind a slash: bucket/bkt-0001, queue/*",
								Kind: schema.Text, Pattern: `^[a-z]+/([a-z]+-[0-9]+|\*)$`, Required: true},
						}}},
					tags(),
				}},
		},
		{
			plural: "secrets", prefix: "sec", takes: durations{time.Second, time.Second, time.Second},
			decide: decideSecret, unique: []string{"name"},
			Type: &schema.Type{Name: "secret", Price: &schema.Price{Month: 0.3},
				Help: "a text that only those see who may", UniqueName: true, HoldsData: true,
				Identify: []string{"name"}, Attributes: []*schema.Attribute{
					with(nameAttr, func(a *schema.Attribute) {
						a.Help, a.Fixed = "its name, the only one of all secrets",
							true
					}),
					{Name: "value", Help: "the text; it is never shown again", Kind: schema.Text, Secret: true,
						MaxLength: num(64 * 1024), Required: true},
					{Name: "seal", Help: "the key that it is encrypted with", Kind: schema.Text, Refers: "key", Fixed: true,
						Security: true},
					tags(),
					output("version", "counts its values", schema.Int),
				}},
		},
	}
}

func decideKey(t *tx, id string, was, is value.Map) error {
	is["fingerprint"] = fmt.Sprintf("%x", sha256.Sum256([]byte("key "+id)))[:16]
	return nil
}

func decideRole(t *tx, id string, was, is value.Map) error {
	for i, g := range is["grants"].([]any) {
		on := g.(map[string]any)["on"].(string)
		typ, thing, _ := strings.Cut(on, "/")
		at := fmt.Sprintf("grants/%d/on", i)
		if !t.types[typ] {
			return refuse(at, "Medina has no type %s", typ)
		}
		if thing == "*" {
			continue
		}
		if there, err := t.there(typ, thing); err != nil || !there {
			if err == nil {
				err = refuse(at, "there is no %s %s", typ, thing)
			}
			return err
		}
	}
	return nil
}

func decideSecret(t *tx, id string, was, is value.Map) error {
	if err := t.keyInUse(is); err != nil && was == nil {
		return err
	}
	version, _ := was["version"].(int64)
	if was == nil || was["value"] != is["value"] {
		version++
	}
	is["version"] = version
	return nil
}
