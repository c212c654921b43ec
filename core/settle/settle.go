// Package settle resolves drift: it finds what to change in an estate's sources so that they say
// what is live, and puts the changes together.
package settle

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"kasbah/core/declare"
	"kasbah/core/estate"
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

// Decided is a difference that no change of a single value covers, and the line that decides it.
type Decided struct {
	Difference
	Err error
}

// Plan is how the sources change.
type Plan struct {
	Files    map[string][]byte // the new texts, by their path below the estate's folder
	Settled  []Difference      // what they cover
	Decided  []Decided         // what they do not
	Explicit bool              // inputs without a value got one, and their defaults stayed
}

// Sources are what a Plan is made from.
type Sources struct {
	Declared *declare.Declared
	Options  declare.Options
	Read     func(file string) ([]byte, error) // a file below the estate's folder
	// Explicit gives inputs that kasbah.toml does not give a value there; else their default
	// becomes another one, for all who use it.
	Explicit bool
}

// Find finds the changes by which the sources take over, leave or let go of some differences.
func Find(s Sources, list []Difference, resolution Resolution) (*Plan, error) {
	p := &Plan{Explicit: s.Explicit}
	c := declare.NewChanger(s.Declared, s.Options)
	var all []declare.Change
	for _, g := range byAttribute(list, resolution) {
		r := s.Declared.Resource(g[0].Full())
		var changes []declare.Change
		var err error
		switch {
		case r == nil && (resolution == LetGo || g[0].Path == ""): // the code does not declare it any more
		case r == nil:
			err = fmt.Errorf("%s is no longer declared", g[0].Full())
		case resolution == LetGo || g[0].Path == "" && resolution == TakeOver:
			changes, err = c.RemoveResource(r)
		case resolution == Leave:
			changes, err = leaves(c, r, g)
		default:
			changes, err = takeOver(c, r, g)
		}
		if err == nil && overlaps(all, changes) {
			err = fmt.Errorf("the same line gives another resource its value, too")
		}
		if err != nil {
			for _, d := range g {
				p.Decided = append(p.Decided, Decided{d, err})
			}
			continue
		}
		all = append(all, changes...)
		p.Settled = append(p.Settled, g...)
	}
	var err error
	p.Files, err = apply(s, all)
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
	is := r.Inputs[name]
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

// overlaps reports whether changes replace what others replace otherwise.
func overlaps(all, more []declare.Change) bool {
	for _, a := range more {
		for _, b := range all {
			switch {
			case a.Input != nil || b.Input != nil:
				if a.Input != nil && b.Input != nil && a.Input.Ward == b.Input.Ward && a.Input.Name == b.Input.Name &&
					!value.Equal(a.Input.Value, b.Input.Value) {
					return true
				}
			case a.File != b.File || a.Same(b):
			case a.From < b.To && b.From < a.To, a.Key != "" && a.Key == b.Key && a.From == b.From:
				return true
			}
		}
	}
	return false
}

var byteOrderMark = []byte("\ufeff")

// apply makes the new texts.
func apply(s Sources, all []declare.Change) (map[string][]byte, error) {
	byFile := map[string][]declare.Change{}
	toml, given := "", false
	for _, c := range all {
		in := c.Input
		if in == nil {
			byFile[c.File] = append(byFile[c.File], c)
			continue
		}
		if in.Given == "" && !s.Explicit && in.Default != nil {
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
		section := in.Given
		if section == "" {
			section = "env." + s.Declared.Env + ".inputs"
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
