package settle

import (
	"errors"
	"slices"

	"kasbah/core/declare"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// Document is the JSON form of what was settled, and what is left.
type Document struct {
	Format  string    `json:"format"`
	Env     string    `json:"env"`
	Settled []Outcome `json:"settled"`
	Left    []Outcome `json:"left"`
	Files   []string  `json:"files"` // that were changed, below the estate's folder
	Diff    string    `json:"diff"`  // a unified diff
}

// NewDocument is the document of a settling in an environment.
func NewDocument(env string) *Document {
	return &Document{Format: "kasbah.settle/1", Env: env, Settled: []Outcome{}, Left: []Outcome{}, Files: []string{}}
}

// Outcome is a difference and what became of it.
type Outcome struct {
	Ward       string     `json:"ward"`
	Address    string     `json:"address"`
	Path       string     `json:"path,omitempty"` // "" for a resource as a whole
	Resolution Resolution `json:"resolution,omitempty"`
	Expected   value.Any  `json:"expected"`
	Found      value.Any  `json:"found"`
	Position   string     `json:"position,omitempty"` // the line that decides, as FILE:LINE
	Because    string     `json:"because,omitempty"`  // why it is left
}

func outcome(r Resolution, d Difference) Outcome {
	return Outcome{Ward: d.Resource.Ward, Address: d.Resource.Address, Path: d.Path, Resolution: r,
		Expected: value.Any{V: d.Expected}, Found: value.Any{V: d.Found}}
}

// Note notes what was settled.
func (x *Document) Note(r Resolution, list []Difference) {
	for _, d := range list {
		x.Settled = append(x.Settled, outcome(r, d))
	}
}

// Leave notes what could not be settled, and why.
func (x *Document) Leave(r Resolution, d Decided) {
	o := outcome(r, d.Difference)
	o.Because = d.Err.Error()
	var decided *declare.DecidedError
	if errors.As(d.Err, &decided) {
		o.Position = decided.Position.Short()
	}
	x.Left = append(x.Left, o)
}

// StillThere notes what a later survey still finds.
func (x *Document) StillThere(list []Difference) {
	for _, d := range list {
		is := outcome("", d)
		known := slices.ContainsFunc(x.Left, func(o Outcome) bool {
			return o.Ward == is.Ward && o.Address == is.Address && o.Path == is.Path
		})
		if !known {
			x.Left = append(x.Left, is)
		}
		x.Settled = slices.DeleteFunc(x.Settled, func(o Outcome) bool {
			return o.Ward == is.Ward && o.Address == is.Address && o.Path == is.Path
		})
	}
}

// Position is where the value is declared, as FILE:LINE; "" where that is not known.
func (d Difference) Position() string {
	for _, x := range d.Resource.Differences {
		if x.Path == d.Path {
			return x.Position
		}
	}
	return d.Resource.Position
}

// Of is the difference as the survey found it; nil for a resource that is gone.
func (d Difference) Of() *survey.Difference {
	for i, x := range d.Resource.Differences {
		if x.Path == d.Path {
			return &d.Resource.Differences[i]
		}
	}
	return nil
}

// Alike puts equal differences of one type together, in the order of the first of each.
func Alike(list []Difference) [][]Difference {
	var out [][]Difference
	at := map[string]int{}
	for _, d := range list {
		key := d.Resource.Type + "\n" + d.Path + "\n" + string(value.Encode(d.Expected)) + "\n" + string(value.Encode(d.Found))
		i, known := at[key]
		if !known {
			i = len(out)
			at[key] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], d)
	}
	return out
}
