package declare

import (
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Document is what is declared in JSON, without secrets.
type Document struct {
	Format string         `json:"format"`
	Estate string         `json:"estate"`
	Env    string         `json:"env"`
	Commit string         `json:"commit"` // "" where it is not known
	Branch string         `json:"branch"` // likewise
	Clean  bool           `json:"clean"`  // the files are as committed
	Wards  []WardDocument `json:"wards"`
}

// WardDocument is a ward's part of it.
type WardDocument struct {
	Ward      string               `json:"ward"`
	Files     map[string]string    `json:"files"`     // path -> SHA-256
	Published map[string]value.Any `json:"published"` // may hold pending values
	Resources []ResourceDocument   `json:"resources"`
}

// ResourceDocument is one resource of it.
type ResourceDocument struct {
	Address  string           `json:"address"` // without its ward
	Type     string           `json:"type"`    // with its driver
	Name     string           `json:"name"`
	Kit      string           `json:"kit,omitempty"`
	Inputs   value.Attributes `json:"inputs"` // may hold pending values
	Needs    []string         `json:"needs"`  // addresses with their ward
	Guarded  bool             `json:"guarded"`
	Position problem.Position `json:"position"`
}

// NewDocument makes the document of what is declared.
func NewDocument(estate string, d *Declared) *Document {
	out := &Document{Format: "kasbah.declared/1", Estate: estate, Env: d.Env, Wards: []WardDocument{}}
	for _, w := range d.Wards {
		ward := WardDocument{Ward: w.Name, Files: w.Files, Published: map[string]value.Any{}, Resources: []ResourceDocument{}}
		for name, p := range w.Published {
			ward.Published[name] = value.Any{V: p.Value}
		}
		for _, r := range w.Resources {
			one := ResourceDocument{Address: r.Address, Type: r.FullType(), Name: r.Name, Inputs: value.Attributes(r.Inputs()),
				Needs:   r.NeedAddresses(),
				Guarded: r.Care.Guard}
			one.Position, _ = r.Position()
			if len(r.Within) > 0 {
				one.Kit = r.Within[0].Kit
			}
			ward.Resources = append(ward.Resources, one)
		}
		out.Wards = append(out.Wards, ward)
	}
	return out
}
