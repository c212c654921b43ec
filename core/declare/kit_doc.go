package declare

import (
	"kasbah/core/estate"
	"kasbah/core/value"
)

// KitList is the JSON form of the kits of an estate.
type KitList struct {
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
func NewFunctionDoc(f KitFunction) FunctionDoc {
	d := FunctionDoc{Name: f.Name, Help: f.Help, Inputs: []InputDoc{}}
	for _, in := range f.Inputs {
		one := InputDoc{Name: in.Attr.Name, Kind: KindName(in.Attr), Help: in.Attr.Help,
			Required: !in.HasDefault, Limits: in.Attr.Limits()}
		if in.HasDefault {
			one.Default = &value.Any{V: in.Default}
		}
		d.Inputs = append(d.Inputs, one)
	}
	return d
}

// NewKitDoc puts a kit into its JSON form, without functions and versions. pins may hold it.
func NewKitDoc(k *Kit, src estate.KitSource, pins *estate.Pins) KitDoc {
	d := KitDoc{Name: k.Name, Version: k.Version, Help: k.Help, Source: src.String(),
		Drivers: append([]string{}, k.Drivers...), Kits: append([]string{}, k.Kits...)}
	if pin := pins.Of(k.Name, src.String()); pin != nil {
		d.Commit, d.Digest = pin.Commit, pin.Digest
	}
	if k.Err != nil {
		d.Problem = k.Err.Error()
	}
	return d
}

// InputChange is how an input of a kit differs between two of its versions.
type InputChange struct {
	Name string // with its function
	Was  string // in words; "" for none
	Is   string
}

// CompareInputs are the inputs that differ between two versions of a kit: those that the later
// one has, in the order of their names, then those that are gone.
func CompareInputs(was, is []KitFunction) []InputChange {
	before, after := inputWords(was), inputWords(is)
	var out []InputChange
	for _, name := range value.Keys(after) {
		if before[name] != after[name] {
			out = append(out, InputChange{name, before[name], after[name]})
		}
	}
	for _, name := range value.Keys(before) {
		if after[name] == "" {
			out = append(out, InputChange{name, before[name], ""})
		}
	}
	return out
}

// inputWords says in words what each input is, by its function and name.
func inputWords(functions []KitFunction) map[string]string {
	out := map[string]string{}
	for _, f := range functions {
		for _, in := range NewFunctionDoc(f).Inputs {
			text := in.Kind + ", required"
			if !in.Required {
				text = in.Kind + ", default " + value.Plain(in.Default.V)
			}
			if in.Limits != "" {
				text += ", " + in.Limits
			}
			out[f.Name+" "+in.Name] = text
		}
	}
	return out
}

// Question is what a person is asked for an input: its name, kind, limits and default.
func (in KitInput) Question() string {
	doc := NewFunctionDoc(KitFunction{Inputs: []KitInput{in}}).Inputs[0]
	question := doc.Name + " (" + doc.Kind
	if doc.Limits != "" {
		question += ", " + doc.Limits
	}
	question += ")"
	if IsHandle(in.Attr) {
		question += ", as FILE:NAME of this ward"
	}
	if doc.Default != nil {
		question += " [" + value.Plain(doc.Default.V) + "]"
	}
	return question
}
