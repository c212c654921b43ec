package render

import (
	"fmt"
	"strings"
	"time"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/why"
)

// Why writes where something comes from.
func (o *Out) Why(d *why.Document) {
	head := Clean(d.Address)
	if d.Path != "" {
		head += " " + Clean(d.Path)
	}
	o.Printf("%s in %s, %s\n\n", o.Bold(head), d.Ward, d.Env)
	if d.Path == "" {
		o.origin(d.Origin)
		o.whyAttributes(d.Ward, d.Attributes)
	} else {
		rows := [][2]string{}
		if d.Declared != nil {
			rows = append(rows, [2]string{"declared", shownIn(d.Ward, d.Declared.V, d.Secret)})
		}
		if d.Recorded != nil {
			rows = append(rows, [2]string{"recorded", shown(d.Recorded.V, d.Secret)})
		}
		for _, r := range rows {
			o.Printf("%s  %s\n", o.Paint(Grey, r[0]), Wrap(r[1], o.Width-10, "          "))
		}
		if len(rows) > 0 {
			o.Printf("\n")
		}
		o.origin(d.Origin)
	}
	o.Printf("\n")
	switch {
	case d.Last != nil:
		line := fmt.Sprintf("Last changed by run %s of %s, %s: %s.", ledger.ShortRun(d.Last.Run), d.Last.Who,
			Ago(time.Since(d.Last.Began)), d.Last.Command)
		if d.Last.Reason != "" {
			line += " " + d.Last.Reason
		}
		o.Printf("%s\n", Wrap(Clean(line), o.Width-2, "  "))
	case d.Origin == nil && d.Attributes != nil:
		o.Printf("It is recorded and no longer declared.\n")
	default:
		o.Printf("No run has set it yet.\n")
	}
}

func (o *Out) whyAttributes(ward string, list []why.Value) {
	rows := [][]string{{"attribute", "value", "where", "from"}}
	for _, v := range list {
		text := ""
		switch {
		case v.Secret:
			text = "(secret)"
		case v.Recorded != nil:
			text = shown(v.Recorded.V, false)
		case v.Declared != nil:
			text = shownIn(ward, v.Declared.V, false)
		}
		from, where := "no longer declared", ""
		if v.Origin != nil {
			from, where = v.Origin.What, v.Origin.Position.Short()
			if def, ok := strings.CutPrefix(from, declare.SchemaDefault); ok && text == "" {
				text, from = def, strings.TrimSuffix(declare.SchemaDefault, " is ")
			}
		}
		rows = append(rows, []string{v.Path, Fit(text, 30), where, Clean(from)})
	}
	o.Printf("\n")
	o.Table(rows, o.HeadGrey)
}

// origin writes the steps to a value, each one deeper than the one it
// explains, with its line at the right.
func (o *Out) origin(origin *declare.Origin) {
	if origin == nil {
		return
	}
	type row struct{ text, at string }
	var rows []row
	wide := 0
	var walk func(or *declare.Origin, depth int)
	walk = func(or *declare.Origin, depth int) {
		r := row{strings.Repeat("  ", depth) + Clean(or.What), or.Position.Short()}
		rows = append(rows, r)
		wide = max(wide, width(r.at))
		for _, f := range or.From {
			walk(f, depth+1)
		}
	}
	walk(origin, 0)
	for _, r := range rows {
		room := o.Width - wide - 2
		o.Printf("%s\n", strings.TrimRight(pad(Fit(r.text, room), room)+"  "+o.Paint(Grey, r.at), " "))
	}
}
