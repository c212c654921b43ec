package render

import (
	"strings"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// Kits writes the kits of an estate as a table.
func (o *Out) Kits(d declare.KitList) {
	if len(d.Kits) == 0 {
		o.Printf("The estate uses no kits: [kits] in kasbah.toml names them.\n")
		return
	}
	rows := [][]string{{"kit", "version", "pinned", "source"}}
	for _, k := range d.Kits {
		version, pinned := k.Version, "yes"
		switch {
		case k.Problem != "":
			version, pinned = "?", "no"
		case k.Digest == "":
			pinned = "in the estate"
		}
		rows = append(rows, []string{k.Name, version, pinned, Clean(k.Source)})
	}
	o.Table(rows, o.HeadGrey)
	for _, k := range d.Kits {
		if k.Problem != "" {
			o.Printf("\n%s\n", Wrap(k.Name+": "+Clean(k.Problem), o.Width-4, "    "))
		}
	}
}

// Kit writes one kit: what it is and what it takes.
func (o *Out) Kit(k declare.KitDoc) {
	o.Printf("%s %s: %s\n\n", o.Bold(k.Name), k.Version, Clean(k.Help))
	rows := [][]string{{"source", Clean(k.Source)}}
	for _, r := range [][]string{{"commit", k.Commit}, {"digest", k.Digest}, {"drivers", strings.Join(k.Drivers, ", ")},
		{"kits", strings.Join(k.Kits, ", ")}, {"versions", strings.Join(k.Versions, ", ")}} {
		if r[1] != "" {
			rows = append(rows, r)
		}
	}
	o.Sheet(rows)
	for _, f := range k.Functions {
		o.Printf("\n%s\n\n", Clean(strings.TrimSuffix(f.Name+": "+f.Help, ": ")))
		rows := [][]string{}
		for _, in := range f.Inputs {
			state := "required"
			if !in.Required {
				state = "default " + Fit(Clean(value.Plain(in.Default.V)), 24)
			}
			text := Clean(in.Help)
			if in.Limits != "" {
				text = strings.TrimPrefix(text+"; "+Clean(in.Limits), "; ")
			}
			rows = append(rows, []string{"  " + in.Name, in.Kind, state, text})
		}
		o.Sheet(rows)
		o.Printf("\n  load(\"kit:%s\", \"%s\")\n  %s(\"NAME\"%s)\n", k.Name, f.Name, f.Name, required(f))
	}
}

// required writes the arguments of an example.
func required(f declare.FunctionDoc) string {
	s := ""
	for _, in := range f.Inputs {
		if in.Required {
			s += ", " + in.Name + " = …"
		}
	}
	return s
}

// KitUpdate writes which version of a kit takes the place of which.
func (o *Out) KitUpdate(pin estate.Pin, pinned *estate.Pin, from, to estate.KitSource) {
	switch {
	case pinned == nil:
		o.Printf("%s %s, from %s: not pinned yet.\n", pin.Name, pin.Version, to)
	case from.Tag == to.Tag:
		o.Printf("%s, from %s: the pin says %s %s, and the source holds %s %s.\n", pin.Name, to, pinned.Version,
			pinned.Digest, pin.Version, pin.Digest)
	default:
		o.Printf("%s: %s becomes %s.\n", pin.Name, from.Tag, to.Tag)
	}
}

// InputChanges writes how the inputs of a kit change.
func (o *Out) InputChanges(list []declare.InputChange) {
	for _, c := range list {
		switch {
		case c.Was == "":
			o.Printf("  input %s is new: %s\n", c.Name, Clean(c.Is))
		case c.Is == "":
			o.Printf("  input %s is gone\n", c.Name)
		default:
			o.Printf("  input %s: %s; was %s\n", c.Name, Clean(c.Is), Clean(c.Was))
		}
	}
}

// KitPreview writes what an update of a kit would change in an environment: the proposals without
// and with it. Either is nil where it could not be made.
func (o *Out) KitPreview(before, after *propose.Proposal, full bool) {
	if after == nil {
		return
	}
	o.Printf("\n")
	o.Proposal(after, ProposalOptions{Full: full})
	switch {
	case before == nil:
		o.Printf("Without this version nothing can be proposed: the kit cannot be used as it is.\n")
	case before.Counts.Changing() > 0:
		o.Printf("%s of these would change without the update as well.\n",
			Count(propose.CommonActions(before, after), "action"))
	}
}
