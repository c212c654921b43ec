// Package why tells where a value comes from: lines, inputs, other resources, and the run that
// set it.
package why

import (
	"fmt"
	"sort"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Place is a resource, or a value of one.
type Place struct {
	Ward, Address string
	Path          value.Path // none for the resource as a whole
}

// Find splits what was typed into ward, address and path. Names may hold dots, so the longest
// address that is known wins. A *problem.UsageError says what is not known.
func Find(typed string, d *declare.Declared, states map[string]*ledger.State) (Place, error) {
	known := map[string]bool{}
	for _, r := range d.Resources {
		known[r.Full()] = true
	}
	for w, s := range states {
		for a := range s.Records {
			known[value.InWard(w, a)] = true
		}
	}
	wantWard, short := value.SplitWard(typed)
	var hits []string
	longest := -1
	for full := range known {
		w, a := value.SplitWard(full)
		rest, ok := strings.CutPrefix(short, a)
		if !ok || wantWard != "" && w != wantWard || rest != "" && rest[0] != '.' && rest[0] != '[' ||
			len(a) < longest {
			continue
		}
		if len(a) > longest {
			hits, longest = nil, len(a)
		}
		hits = append(hits, full)
	}
	sort.Strings(hits)
	switch {
	case len(hits) == 0:
		var names []string
		for full := range known {
			_, a := value.SplitWard(full)
			names = append(names, a)
		}
		return Place{}, &problem.UsageError{Message: "nothing that is declared or recorded has the address " + typed,
			Hint: nearest.Hint(short, names)}
	case len(hits) > 1:
		return Place{}, &problem.UsageError{Message: typed + " is the address of several resources",
			Hint: "say which: " + strings.Join(hits, ", ")}
	}
	at := Place{}
	at.Ward, at.Address = value.SplitWard(hits[0])
	var err error
	if at.Path, err = value.ParsePath(strings.TrimPrefix(short[longest:], ".")); err != nil {
		return Place{}, problem.Usage("%v", err)
	}
	return at, nil
}

// Document is the JSON form of where a resource or a value comes from.
type Document struct {
	Format  string `json:"format"`
	Env     string `json:"env"`
	Ward    string `json:"ward"`
	Address string `json:"address"`
	Path    string `json:"path"`
	Value
	Attributes []Value            `json:"attributes,omitempty"` // of a resource as a whole
	Last       *ledger.RunSummary `json:"last,omitempty"`       // the run that last changed it
}

// Value is one value.
type Value struct {
	Path     string          `json:"path,omitempty"`
	Secret   bool            `json:"secret,omitempty"`
	Declared *value.Any      `json:"declared,omitempty"` // nil when it is not declared
	Recorded *value.Any      `json:"recorded,omitempty"` // as last seen live; nil when there is none
	Origin   *declare.Origin `json:"origin,omitempty"`   // nil when it is not declared any more
}

// Explain says where a place's value comes from, or the whole resource. s is the state of its
// ward, and typ its type; nil where no driver has it.
func (at Place) Explain(d *declare.Declared, s *ledger.State, typ *schema.Type) (*Document, error) {
	doc := &Document{Format: "kasbah.why/1", Env: d.Env, Ward: at.Ward, Address: at.Address, Path: at.Path.String()}
	if typ == nil {
		return nil, problem.Usage("no driver has the type of %s", at.Address)
	}
	r := d.Find(value.InWard(at.Ward, at.Address))
	rec, err := at.record(s)
	if err != nil {
		return nil, err
	}
	if len(at.Path) == 0 {
		for _, attr := range typ.Attributes {
			v, err := explain(d, r, rec, typ, value.Path{value.Key(attr.Name)})
			if err != nil {
				return nil, err
			}
			doc.Attributes = append(doc.Attributes, v)
		}
		if r != nil {
			doc.Origin, err = d.Why(r, nil)
		}
		return doc, err
	}
	if doc.Value, err = explain(d, r, rec, typ, at.Path); err != nil {
		return nil, problem.Usage("%v", err)
	}
	if v := doc.Value; len(at.Path) > 1 && v.Declared == nil && v.Recorded == nil && !v.Secret {
		return nil, &problem.UsageError{Message: fmt.Sprintf("%s has no %s", at.Address, at.Path),
			Hint: "`kasbah why " + at.Address + "` lists what it has"}
	}
	return doc, nil
}

func (at Place) record(s *ledger.State) (*ledger.Record, error) {
	if st := s.Records[at.Address]; st != nil {
		return st.Record()
	}
	return nil, nil
}

// explain explains one value: what is declared and what is recorded of it.
func explain(d *declare.Declared, r *declare.Resource, rec *ledger.Record, typ *schema.Type, path value.Path) (Value,
	error) {
	v := Value{Path: path.String(), Secret: typ.Lookup(path) != nil && typ.Lookup(path).Secret}
	if r == nil && typ.Attribute(path[0].Key) == nil {
		return v, &problem.UsageError{Message: "a " + typ.Name + " has no attribute " + path[0].Key}
	}
	if r != nil {
		var err error
		if v.Origin, err = d.Why(r, path); err != nil {
			return v, err
		}
		if x, ok := path.At(map[string]any(r.Inputs())); ok {
			v.Secret = v.Secret || value.IsSecret(x)
			v.Declared = &value.Any{V: x}
		} else if path.String() == "name" && r.MadeName != "" {
			v.Declared = &value.Any{V: r.MadeName}
		}
	}
	if rec != nil && !v.Secret {
		if x, ok := path.At(map[string]any(rec.Live)); ok {
			v.Recorded = &value.Any{V: x}
		}
	}
	return v, nil
}
