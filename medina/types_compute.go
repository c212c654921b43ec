package medina

import (
	"slices"
	"strings"
	"time"

	"github.com/robfig/cron/v3"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// What computes, and what watches it.
func computeKinds() []*kind {
	return []*kind{
		{
			plural: "machines", prefix: "mac", takes: durations{25 * time.Second, 12 * time.Second, 8 * time.Second},
			decide: decideMachine, release: releaseHost,
			Type: &schema.Type{Name: "machine",
				Price: &schema.Price{By: map[string]map[string]float64{"size": {"tiny": 3.5, "small": 7, "medium": 14,
					"large": 28}}}, Help: "a computer in a subnet", Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "subnet", Help: "the subnet it gets its address from", Kind: schema.Text, Refers: "subnet",
						Fixed: true, Required: true},
					{Name: "size", Help: "how much it can do", Kind: schema.Text, OneOf: texts("tiny", "small", "medium",
						"large"), Required: true},
					{Name: "image", Help: "what it starts from", Kind: schema.Text, MinLength: num(1), MaxLength: num(100),
						Fixed: true, Required: true},
					{Name: "notes", Help: "a text handed to the machine when it starts", Kind: schema.Text,
						MaxLength: num(16384)},
					tags(),
					output("address", "its address in the subnet", schema.Text),
					with(schema.Attribute{Name: "state", Help: "whether it runs", Kind: schema.Text, Output: true},
						func(a *schema.Attribute) { a.OneOf = texts("running", "stopped") }),
				}},
		},
		{
			plural: "disks", prefix: "dsk", takes: durations{6 * time.Second, 4 * time.Second, 4 * time.Second},
			decide: decideDisk,
			Type: &schema.Type{Name: "disk",
				Price: &schema.Price{By: map[string]map[string]float64{"kind": {"solid": 1.2, "spinning": 0.4}},
					Per: map[string]float64{"gigabytes": 0.08}}, Help: "storage that a machine can use", HoldsData: true,
				Copies: true, Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "machine", Help: "the machine that uses it", Kind: schema.Text, Refers: "machine"},
					zone(),
					{Name: "kind", Help: "what it is made of", Kind: schema.Text, OneOf: texts("spinning", "solid"),
						Fixed: true, Default: "solid", HasDefault: true},
					{Name: "gigabytes", Help: "its size; it can grow and never shrink", Kind: schema.Int, Min: float(1),
						Max: float(65536), Required: true},
					tags(),
				}},
		},
		{
			plural: "jobs", prefix: "job", takes: durations{2 * time.Second, time.Second, time.Second},
			decide: decideJob,
			Type: &schema.Type{Name: "job", Price: &schema.Price{Month: 0.5}, Help: "runs a command again and again",
				Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "schedule", Help: "when it runs: minute, hour, day, month and day of the week, as in 30 4 * * 1",
						Kind: schema.Text, Required: true, MaxLength: num(100)},
					{Name: "image", Help: "what it starts from", Kind: schema.Text, MinLength: num(1), MaxLength: num(100),
						Required: true},
					{Name: "command", Help: "what it runs", Kind: schema.List, MinLength: num(1), MaxLength: num(100),
						Required: true, Elem: &schema.Attribute{Kind: schema.Text, MaxLength: num(4096)}},
					{Name: "role", Help: "what it may do", Kind: schema.Text, Refers: "role", Security: true},
					{Name: "topic", Help: "where it tells how it ended", Kind: schema.Text, Refers: "topic"},
					{Name: "enabled", Help: "whether it runs", Kind: schema.Bool, Default: true, HasDefault: true},
					tags(),
				}},
		},
		{
			plural: "alarms", prefix: "alm", takes: durations{time.Second, time.Second, time.Second},
			decide: decideAlarm,
			Type: &schema.Type{Name: "alarm", Price: &schema.Price{Month: 0.2},
				Help: "tells when a number is too high for too long", Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "machine", Help: "what it watches: a machine,", Kind: schema.Text, Refers: "machine",
						Fixed: true},
					{Name: "queue", Help: "a queue", Kind: schema.Text, Refers: "queue", Fixed: true},
					{Name: "database", Help: "or a database", Kind: schema.Text, Refers: "database", Fixed: true},
					{Name: "measures", Help: "which number", Kind: schema.Text, OneOf: texts("load", "memory", "waiting",
						"age", "connections", "space"), Required: true},
					{Name: "above", Help: "how high is too high", Kind: schema.Number, Min: float(0), Required: true},
					{Name: "minutes", Help: "how long is too long", Kind: schema.Int, Min: float(1), Max: float(1440),
						Default: int64(5), HasDefault: true},
					{Name: "topic", Help: "where it tells", Kind: schema.Text, Refers: "topic", Required: true},
					tags(),
				}},
		},
	}
}

func decideMachine(t *tx, id string, was, is value.Map) error {
	if was != nil {
		return nil
	}
	subnet, err := t.get("subnet", is["subnet"].(string))
	if err != nil {
		return err
	}
	zone, _ := subnet["zone"].(string)
	is["state"], t.zone = "running", zone
	return t.host("machine", id, subnet, is)
}

func decideDisk(t *tx, id string, was, is value.Map) error {
	if was != nil && is["gigabytes"].(int64) < was["gigabytes"].(int64) {
		return refuse("gigabytes", "a disk cannot shrink, and this one has %d gigabytes", was["gigabytes"])
	}
	if m, ok := is["machine"].(string); ok && (was == nil || was["machine"] != m) {
		machine, err := t.get("machine", m)
		if err != nil {
			return err
		}
		subnet, err := t.get("subnet", machine["subnet"].(string))
		if err != nil {
			return err
		}
		if subnet["zone"] != is["zone"] {
			return refuse("machine", "machine %s is in %s, and the disk in %s", machine["name"], subnet["zone"],
				is["zone"])
		}
	}
	t.zone, _ = is["zone"].(string)
	return nil
}

// measures says which numbers there are of what an alarm watches.
var measures = map[string][]string{"machine": {"load", "memory"}, "queue": {"waiting", "age"},
	"database": {"load", "connections", "space"}}

func decideAlarm(t *tx, id string, was, is value.Map) error {
	watched := ""
	for _, typ := range []string{"machine", "queue", "database"} {
		if _, ok := is[typ]; !ok {
			continue
		}
		if watched != "" {
			return refuse(typ, "an alarm watches one thing, and this one %s as well", schema.WithArticle(watched))
		}
		watched = typ
	}
	if watched == "" {
		return refuse("machine", "an alarm watches a machine, a queue or a database")
	}
	if m := is["measures"].(string); !slices.Contains(measures[watched], m) {
		return refuse("measures", "%s has no %s; it has %s", schema.WithArticle(watched), m,
			strings.Join(measures[watched], ", "))
	}
	return nil
}

func decideJob(t *tx, id string, was, is value.Map) error {
	if _, err := cron.ParseStandard(is["schedule"].(string)); err != nil {
		return refuse("schedule", "%q is not a schedule: %v", is["schedule"], err)
	}
	return nil
}
