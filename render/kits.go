package render

import (
	"strings"

	"kasbah/core/declare"
	"kasbah/core/value"
)

// KitsDocument is the JSON form of the kits of an estate.
type KitsDocument struct {
	Format string   `json:"format"`
	Env    string   `json:"env,omitempty"`
	Kits   []KitDoc `json:"kits"`
}

// KitDoc is one kit.
type KitDoc struct {
	Name      string        `json:"name"`
	Version   string        `json:"version"`
	Help      string        `json:"help"`
	Source    string        `json:"source"`
	Commit    string        `json:"commit,omitempty"`
	Digest    string        `json:"digest,omitempty"` // as pinned
	Drivers   []string      `json:"drivers"`
	Kits      []string      `json:"kits"`
	Problem   string        `json:"problem,omitempty"` // why it cannot be used
	Versions  []string      `json:"versions,omitempty"`
	Functions []FunctionDoc `json:"functions,omitempty"`
}

// FunctionDoc is one function of a kit that opens instances.
type FunctionDoc struct {
	Name   string     `json:"name"`
	Help   string     `json:"help"`
	Inputs []InputDoc `json:"inputs"`
}

// InputDoc is one input.
type InputDoc struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind"`
	Help     string     `json:"help"`
	Required bool       `json:"required"`
	Default  *value.Any `json:"default,omitempty"`
	Limits   string     `json:"limits,omitempty"`
}

// NewFunctionDoc puts a kit's function into its JSON form.
func NewFunctionDoc(f declare.KitFunction) FunctionDoc {
	d := FunctionDoc{Name: f.Name, Help: f.Help, Inputs: []InputDoc{}}
	for _, in := range f.Inputs {
		one := InputDoc{Name: in.Attr.Name, Kind: declare.KindName(in.Attr), Help: in.Attr.Help,
			Required: !in.HasDefault, Limits: limits(in.Attr)}
		if in.HasDefault {
			one.Default = &value.Any{V: in.Default}
		}
		d.Inputs = append(d.Inputs, one)
	}
	return d
}

// Kits writes the kits of an estate as a table.
func (o *Out) Kits(d KitsDocument) {
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
func (o *Out) Kit(k KitDoc) {
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
func required(f FunctionDoc) string {
	s := ""
	for _, in := range f.Inputs {
		if in.Required {
			s += ", " + in.Name + " = …"
		}
	}
	return s
}
