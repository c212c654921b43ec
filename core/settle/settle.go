// Package settle resolves drift: it finds what to change in an estate's sources so that they say
// what is live, and puts the changes together.
package settle

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/propose"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// Resolution is what becomes of a difference.
type Resolution string

const (
	PutBack  Resolution = "put-back"  // the cloud becomes as declared
	TakeOver Resolution = "take-over" // the code becomes as the cloud is
	Leave    Resolution = "leave"     // others own the attribute from now on
	LetGo    Resolution = "let-go"    // the resource is no longer managed
	Accept   Resolution = "accept"    // it is known, and stays for a while
)

// InWords is what becomes of differences whose files change, as a question has it.
func (r Resolution) InWords() string {
	return map[Resolution]string{TakeOver: "take over", Leave: "leave to others", LetGo: "let go of"}[r]
}

// Difference is one difference that a survey found.
type Difference struct {
	Resource *survey.Resource
	Path     string // "" for a resource that is gone
	Expected any
	Found    any
}

// Full is the address of the resource with its ward.
func (d Difference) Full() string { return value.InWard(d.Resource.Ward, d.Resource.Address) }

// String is the difference as messages call it.
func (d Difference) String() string {
	if d.Path == "" {
		return d.Full()
	}
	return d.Full() + " " + d.Path
}

// Differences are those of a survey that are drift and that some patterns choose: ADDRESS or
// ADDRESS.PATH, with * and ** in the address. None choose all. An attribute that is not declared and
// has moved is no drift, but one whose path is named is among them.
func Differences(r *survey.Report, patterns []string) []Difference {
	matches := chooser(patterns)
	var out []Difference
	for _, res := range r.Resources {
		for _, name := range res.AlsoMoved {
			d := Difference{Resource: res, Path: name}
			if namesPath(patterns, d) {
				d.Found = r.Seen[d.Full()].Attributes[name]
				out = append(out, d)
			}
		}
		switch res.Verdict {
		case survey.Gone:
			if d := (Difference{Resource: res}); matches(d) {
				out = append(out, d)
			}
		case survey.Differs, survey.Accepted:
			for _, x := range res.Differences {
				d := Difference{res, x.Path, x.Expected.V, x.Found.V}
				if x.Accepted == nil && matches(d) {
					out = append(out, d)
				}
			}
		}
	}
	return out
}

// OfAdopted are the differences of what a proposal is to adopt, from how it is declared. A secret is
// none: it cannot be compared.
func OfAdopted(actions []*propose.Action) []Difference {
	var out []Difference
	for _, a := range actions {
		if a.Kind != propose.Adopt {
			continue
		}
		r := &survey.Resource{Ward: a.Ward, Address: a.Address, Type: a.Type, ID: a.Adopts, Verdict: survey.Differs}
		for _, c := range a.Changes {
			if !c.Secret {
				out = append(out, Difference{r, c.Path, c.WillBe.V, c.Was.V})
			}
		}
	}
	return out
}

// Decided is a difference that no change of a single value covers, and the line that decides it.
type Decided struct {
	Difference
	Err error
}

// Plan is how the sources change.
type Plan struct {
	Files   map[string][]byte // the new texts, by their path below the estate's folder
	Settled []Difference      // what they cover
	Decided []Decided         // what they do not
}

// Sources are what a Plan is made from.
type Sources struct {
	Declared *declare.Declared
	Options  declare.Options
	Read     func(file string) ([]byte, error) // a file below the estate's folder
	// Section is the table of kasbah.toml that gives an input its new value, such as
	// `env.trial.inputs`, or one that gives it to its ward alone; "" where its default becomes
	// another one.
	Section func(in *declare.InputValue, alone bool) string
}

// Find finds the changes by which the sources take over, leave or let go of some differences.
func Find(s Sources, list []Difference, resolution Resolution) (*Plan, error) {
	p := &Plan{}
	c := declare.NewChanger(s.Declared, s.Options)
	var all changes
	for _, g := range byAttribute(list, resolution) {
		r := s.Declared.Resource(g[0].Full())
		var more []declare.Change
		var err error
		switch {
		case r == nil && (resolution == LetGo || g[0].Path == ""): // the code does not declare it any more
		case r == nil:
			err = fmt.Errorf("%s is no longer declared", g[0].Full())
		case resolution == LetGo || g[0].Path == "" && resolution == TakeOver:
			more, err = c.RemoveResource(r)
		case resolution == Leave:
			more, err = leaves(c, r, g)
		default:
			more, err = takeOver(c, r, g)
		}
		if err == nil && all.meet(more) {
			err = fmt.Errorf("the same line gives another resource its value, too")
		}
		if err != nil {
			for _, d := range g {
				p.Decided = append(p.Decided, Decided{d, err})
			}
			continue
		}
		all.add(more)
		p.Settled = append(p.Settled, g...)
	}
	var err error
	p.Files, err = all.apply(s)
	return p, err
}

// byAttribute groups differences: of one attribute of a resource, or of one resource where the
// whole of it is settled.
func byAttribute(list []Difference, resolution Resolution) [][]Difference {
	var out [][]Difference
	at := map[string]int{}
	for _, d := range list {
		key := d.Full()
		if resolution != LetGo {
			name, _, _ := strings.Cut(strings.ReplaceAll(d.Path, "[", "."), ".")
			key += " " + name
		}
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

func leaves(c *declare.Changer, r *declare.Resource, g []Difference) ([]declare.Change, error) {
	var out []declare.Change
	for _, d := range g {
		path, err := value.ParsePath(d.Path)
		if err != nil || len(path) == 0 {
			return nil, fmt.Errorf("it is gone, and has no attribute that others could own")
		}
		changes, err := c.LeaveAttribute(r, path)
		if err != nil {
			return nil, err
		}
		out = append(out, changes...)
	}
	return out, nil
}

// takeOver changes an attribute so that it is as the cloud shows it, where it differs.
func takeOver(c *declare.Changer, r *declare.Resource, g []Difference) ([]declare.Change, error) {
	first, err := value.ParsePath(g[0].Path)
	if err != nil {
		return nil, err
	}
	name := first[0].Key
	is := r.Inputs()[name]
	for _, d := range slices.Backward(g) { // later items of a list first
		path, err := value.ParsePath(d.Path)
		if err != nil {
			return nil, err
		}
		next, ok := path[1:].Set(is, d.Found)
		if !ok {
			at, _ := r.At(name)
			return nil, &declare.DecidedError{Position: at, What: name, Wanted: d.Found}
		}
		is = next
	}
	return c.SetAttribute(r, name, is)
}

// changes are those that are found, by what they change.
type changes struct {
	files  map[string][]declare.Change
	inputs []*declare.InputValue
}

// meet reports whether more changes replace what others replace otherwise.
func (all *changes) meet(more []declare.Change) bool {
	for _, a := range more {
		if a.Input != nil {
			if slices.ContainsFunc(all.inputs, func(b *declare.InputValue) bool {
				return a.Input.Ward == b.Ward && a.Input.Name == b.Name && !value.Equal(a.Input.Value, b.Value)
			}) {
				return true
			}
			continue
		}
		for _, b := range all.files[a.File] {
			if !a.Same(b) && (a.From < b.To && b.From < a.To || a.Key != "" && a.Key == b.Key && a.From == b.From) {
				return true
			}
		}
	}
	return false
}

func (all *changes) add(more []declare.Change) {
	for _, c := range more {
		if c.Input != nil {
			all.inputs = append(all.inputs, c.Input)
			continue
		}
		if all.files == nil {
			all.files = map[string][]declare.Change{}
		}
		all.files[c.File] = append(all.files[c.File], c)
	}
}

var byteOrderMark = []byte("\ufeff")

// othersUse reports whether another ward has its value of an input from the same place, and is not
// to have the new one.
func (all *changes) othersUse(d *declare.Declared, in *declare.InputValue, isDefault bool) bool {
	var mine *declare.Taken
	for _, w := range d.Wards {
		if w.Name == in.Ward {
			mine = w.Taken[in.Name]
		}
	}
	return slices.ContainsFunc(d.Wards, func(w *declare.Ward) bool {
		t := w.Taken[in.Name]
		if w.Name == in.Ward || t == nil || t.Source != mine.Source || isDefault && t.Position != mine.Position {
			return false
		}
		return !slices.ContainsFunc(all.inputs, func(b *declare.InputValue) bool {
			return b.Ward == w.Name && b.Name == in.Name && value.Equal(b.Value, in.Value)
		})
	})
}

// apply makes the new texts.
func (all *changes) apply(s Sources) (map[string][]byte, error) {
	byFile := maps.Clone(all.files)
	if byFile == nil {
		byFile = map[string][]declare.Change{}
	}
	toml, given := "", false
	for _, in := range all.inputs {
		section := s.Section(in, false)
		if all.othersUse(s.Declared, in, section == "") {
			section = s.Section(in, true)
		}
		if section == "" {
			for _, d := range in.Default {
				byFile[d.File] = append(byFile[d.File], d)
			}
			continue
		}
		if !given {
			body, err := s.Read(estate.File)
			if err != nil {
				return nil, err
			}
			toml, given = string(body), true
		}
		var err error
		if toml, err = estate.WithInput(toml, section, in.Name, in.Value); err != nil {
			return nil, err
		}
	}
	out := map[string][]byte{}
	if given {
		out[estate.File] = []byte(toml)
	}
	for _, file := range value.Keys(byFile) {
		body, err := s.Read(file)
		if err != nil {
			return nil, err
		}
		rest, mark := bytes.CutPrefix(body, byteOrderMark)
		if rest = edited(rest, byFile[file]); mark {
			rest = append(byteOrderMark[:len(byteOrderMark):len(byteOrderMark)], rest...)
		}
		out[file] = rest
	}
	return out, nil
}

// edited is a text with changes, each once.
func edited(body []byte, changes []declare.Change) []byte {
	slices.SortStableFunc(changes, func(a, b declare.Change) int {
		if a.From != b.From {
			return a.From - b.From
		}
		return a.To - b.To
	})
	var out []byte
	at := 0
	for i, c := range changes {
		if i > 0 && c.Same(changes[i-1]) {
			continue
		}
		if c.From < at {
			continue // inside of what another change takes out
		}
		out = append(append(out, body[at:c.From]...), c.Text...)
		at = c.To
	}
	return append(out, body[at:]...)
}

// Diff is how files change, as a unified diff. read gives the texts as they are.
func (p *Plan) Diff(read func(file string) ([]byte, error)) (string, error) {
	var b strings.Builder
	for _, file := range value.Keys(p.Files) {
		was, err := read(file)
		if err != nil {
			return "", err
		}
		b.WriteString(udiff.Unified("a/"+file, "b/"+file, string(was), string(p.Files[file])))
	}
	return b.String(), nil
}
