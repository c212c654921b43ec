package render

import (
	"fmt"
	"strings"
	"time"

	"kasbah/core/value"
)

// Listing writes a table under a head, or a sentence where it has no rows.
func (o *Out) Listing(head []string, rows [][]string, none string) {
	if len(rows) == 0 {
		o.Printf("%s\n", none)
		return
	}
	for _, row := range rows {
		for i := range row {
			row[i] = Clean(row[i])
		}
	}
	if head == nil {
		o.Table(rows, nil)
		return
	}
	o.Table(append([][]string{head}, rows...), o.HeadGrey)
}

// Things writes things of the simulated cloud, one on a line.
func (o *Out) Things(things []value.Attributes) {
	var rows [][]string
	for _, thing := range things {
		rest := value.CloneMap(thing)
		for _, k := range []string{"type", "id", "name"} {
			delete(rest, k)
		}
		rows = append(rows, []string{textOf(thing["type"]), textOf(thing["id"]), textOf(thing["name"]),
			strings.Trim(value.Plain(rest), "{}")})
	}
	o.Listing([]string{"type", "id", "name", "attributes"}, rows, "Medina is empty.")
}

// Thing writes one thing of the simulated cloud.
func (o *Out) Thing(thing value.Attributes) {
	o.Printf("%s %s\n", textOf(thing["type"]), Clean(textOf(thing["id"])))
	var rows [][]string
	for _, k := range value.Keys(thing) {
		if k != "type" {
			rows = append(rows, []string{"  " + k, value.Plain(thing[k])})
		}
	}
	o.Listing(nil, rows, "")
}

// Events writes what happened in the simulated cloud.
func (o *Out) Events(events []value.Attributes) {
	var rows [][]string
	for _, e := range events {
		at, err := time.Parse(time.RFC3339Nano, textOf(e["at"]))
		when := at.Local().Format(time.DateTime)
		if err != nil {
			when = textOf(e["at"])
		}
		paths, _ := e["paths"].([]any)
		rows = append(rows, []string{when, textOf(e["who"]), textOf(e["what"]), textOf(e["type"]), textOf(e["id"]),
			strings.Trim(strings.ReplaceAll(fmt.Sprint(paths), " ", ", "), "[]")})
	}
	o.Listing(nil, rows, "Nothing has happened yet.")
}

// textOf is a text; "" for what is none.
func textOf(v any) string {
	s, _ := v.(string)
	return s
}
