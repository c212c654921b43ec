// Package declare evaluates the *.star files of wards: declarations in,
// resources, inputs and published values out. It reads files below the
// estate's folder and nothing else.
package declare

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"sort"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Options is what an evaluation needs from outside.
type Options struct {
	Estate   *estate.Estate
	Env      string
	Wards    []string                   // to evaluate, in this order
	Catalogs map[string]*schema.Catalog // by the driver's name in kasbah.toml
	Kinds    map[string]string          // of the drivers, by their names
	Kits     map[string]*Kit            // that the environment uses, by name
	Inputs   []estate.Input             // values given, weakest first
	Overlay  map[string][]byte          // texts in place of files, by their path below the estate's folder
	Bindings bool                       // find out by which names files bind resources
	Again    bool                       // keep what Declared.Again needs
	along    bool                       // wards that are read are evaluated as well
	Memory   Memory                     // of the last evaluations; nil for none
	// Published answers for a ward that is not among Wards with the values it
	// published last, by name. Leaves that were pending then are pending in
	// them. Nil means that no other ward can be read.
	Published func(ward string) (value.Map, error)
	// Overrun is called when a built-in cannot be stopped although a bound
	// was passed. The program should end with these words; nothing is locked
	// or written at that time. Nil means that nobody is called.
	Overrun func(words string)
}

// Declared is what the wards say.
type Declared struct {
	Env       string
	Part      string // what * stands for in the pattern that makes the environment; "" for none
	Wards     []*Ward
	Resources []*Resource      // of all wards, in the order of wards and declarations
	Finds     map[string]*Find // things that are looked up, by the address that references use

	Kept map[string]bool // wards that were not evaluated again, see Again and Options.Memory

	byAddress map[string]map[string]*Resource // by ward, and by the address in it
	turns     map[string]*turn                // where Options.Again asks for it
}

// FromWards is what some wards say that were put together elsewhere.
func FromWards(env string, wards ...*Ward) *Declared {
	d := &Declared{Env: env, Wards: wards, Finds: map[string]*Find{}, byAddress: map[string]map[string]*Resource{}}
	for _, w := range wards {
		d.Resources = append(d.Resources, w.Resources...)
		d.byAddress[w.Name] = make(map[string]*Resource, len(w.Resources))
		for _, r := range w.Resources {
			d.byAddress[w.Name][r.Address] = r
		}
	}
	return d
}

// Resource finds a resource by its address with its ward; nil when it is not
// declared.
func (d *Declared) Resource(full string) *Resource {
	if d == nil {
		return nil
	}
	ward, short := value.SplitWard(full)
	return d.byAddress[ward][short]
}

// Ward is what one ward says.
type Ward struct {
	Name      string
	Resources []*Resource
	Published map[string]*Published
	Taken     map[string]*Taken  // inputs
	Secrets   map[string]*Secret // by name, secret inputs among them
	Reads     []Read             // what it reads of other wards
	Bindings  map[string]Binding // by address, where Options asks for it
	Files     map[string]string  // path below the estate, or `kit:NAME/PATH` -> SHA-256 of its bytes, in hexadecimal
}

// Read is a published value of another ward that a ward reads.
type Read struct {
	Ward, Name string
	Env        string // of another estate, whose name is before that of the ward then: harbour:shore
	Position   problem.Position
}

// String is `shore quay_ids`; of another estate `harbour:shore gauges live`.
func (r Read) String() string {
	if r.Env != "" {
		return r.Ward + " " + r.Name + " " + r.Env
	}
	return r.Ward + " " + r.Name
}

// Taken is an input as a ward took it.
type Taken struct {
	Name     string
	Help     string
	Value    any
	Source   string // which of those given won; "default" otherwise
	Beaten   []string
	Secret   bool
	Position problem.Position // of the declaration
	Given    problem.Position // of the value that won, where it is in a file
}

// Published is a value that a ward offers.
type Published struct {
	Name     string
	Help     string
	Value    any  // may hold pending values
	Secret   bool // it is made from a secret, or declared to be one
	Position problem.Position
}

// Resource is one declared resource.
type Resource struct {
	Ward     string
	Address  string // without its ward
	Driver   string // its name in kasbah.toml
	Type     *schema.Type
	Name     string // the last part of the address
	inputs   value.Map
	MadeName string // the name by the estate's pattern, when the code gives none
	Needs    []Need
	Care     Care
	Within   []*Instance // the instances of kits around it, outermost first
	Former   []string    // addresses with their ward under which it may be recorded still

	full     string // address with its ward
	fullType string // type with its driver
	digest   *digest
	beyond   bool   // see LooksBeyond
	moving   bool   // see UsesMoving
	later    *later // of a resource that is remembered; nil for one that was evaluated
	index    *index
	trace    trace
	star     map[string]string // schema name -> the name used in the code, where they differ
}

// Need is another resource that must be there first.
type Need struct {
	Address string // with its ward
	Why     string // the attribute that uses it, or "after"
}

// Care is how a resource is to be treated, with what the code alone says.
type Care struct {
	schema.Care
	After []string `json:"after,omitempty"` // addresses with their ward
	// RenamedFrom is the former address of a resource, or name of an instance: in
	// the same ward and the same instances, unless it names a ward.
	RenamedFrom string `json:"renamed_from,omitempty"`
}

// Inputs are as declared, in the schema's kinds; they may hold pending values.
func (r *Resource) Inputs() value.Map {
	if r.later != nil {
		r.later.once.Do(func() { r.inputs = r.later.decode(r.Full()) })
	}
	return r.inputs
}

// Price is what the resource costs a month as it is declared, where that is known.
func (r *Resource) Price() (month float64, known bool) {
	if r.later != nil {
		return r.later.price, r.later.priced
	}
	return r.Type.PriceOf(r.inputs)
}

// UsesMoving reports whether inputs are made from an output that moves with work on other things.
func (r *Resource) UsesMoving() bool { return r.moving || r.index == nil } // no evaluation has noted it

// SetInputs gives a resource that was put together elsewhere its inputs.
func (r *Resource) SetInputs(inputs value.Map) { r.inputs = inputs }

// FullType is the type as addresses write it: `medina.network`.
func (r *Resource) FullType() string {
	if r.fullType == "" { // of a resource that was not made here
		return r.Driver + "." + r.Type.Name
	}
	return r.fullType
}

// Full is the address with its ward.
func (r *Resource) Full() string {
	if r.full == "" { // of a resource that was not made here
		return value.InWard(r.Ward, r.Address)
	}
	return r.full
}

// Position is the outermost line that declared the resource, and the calls
// between it and the driver.
func (r *Resource) Position() (problem.Position, []string) {
	if r.later != nil {
		return r.later.at.Position, r.later.at.Via
	}
	return r.index.call(r.trace)
}

// At is the place of an attribute's value.
func (r *Resource) At(path string) (problem.Position, []string) {
	p, err := value.ParsePath(path)
	if err != nil || len(p) == 0 {
		return r.Position()
	}
	name := p[0].Key
	if s, ok := r.star[name]; ok {
		name = s
	}
	return r.index.filled().attribute(r.trace, name)
}

// unusedInputs reports values that no input takes. Only a look at every ward
// can tell.
func unusedInputs(o Options, d *Declared, used map[int]bool) problem.List {
	var out problem.List
	all := len(d.Wards) == len(o.Estate.Wards)
	evaluated := map[string]bool{}
	names := map[string]bool{}
	for _, w := range d.Wards {
		evaluated[w.Name] = true
		for n := range w.Taken {
			names[n] = true
		}
	}
	for i, in := range o.Inputs {
		if used[i] || in.Ward == "" && !all || in.Ward != "" && !evaluated[in.Ward] {
			continue
		}
		out = append(out, notTaken(in, value.Keys(names)))
	}
	return out
}

// sameNames reports resources of one type that would get one name.
func sameNames(d *Declared) problem.List {
	var out problem.List
	type named struct {
		typ    *schema.Type
		driver string
		name   string
	}
	seen := map[named]*Resource{}
	for _, r := range d.Resources {
		if r.MadeName == "" {
			continue
		}
		key := named{r.Type, r.Driver, r.MadeName}
		if first := seen[key]; first != nil {
			pos, via := r.Position()
			other, _ := first.Position()
			p := problem.At(pos, "the name pattern gives it the name %q, as it does %s (%s)", r.MadeName, first.Full(),
				other.Short())
			p.Ward, p.Address, p.Via = r.Ward, r.Address, via
			p.Hint = "give one of them a name = \"…\", or widen names in kasbah.toml"
			out = append(out, p)
			continue
		}
		seen[key] = r
	}
	return out
}

// unknownAfter reports addresses in care(after = …) that nothing declares.
func unknownAfter(o Options, d *Declared) problem.List {
	var out problem.List
	for _, r := range d.Resources {
		for _, a := range r.Care.After {
			ward, short := value.SplitWard(a)
			if d.Resource(a) != nil || o.Estate.HasWard(ward) && d.byAddress[ward] == nil {
				continue
			}
			pos, via := r.At("care")
			p := problem.At(pos, "after names %s, which nothing declares", short)
			p.Ward, p.Address, p.Path, p.Via = r.Ward, r.Address, "care.after", via
			out = append(out, p)
		}
	}
	return out
}

// stillDeclared reports former addresses that are declared as well, and those
// that two resources claim.
func stillDeclared(d *Declared) problem.List {
	var out problem.List
	claimed := map[string]*Resource{}
	for _, r := range d.Resources {
		for _, former := range r.Former {
			first := claimed[former]
			if d.Resource(former) == nil && first == nil {
				claimed[former] = r
				continue
			}
			pos, via := r.At("care")
			p := problem.At(pos, "renamed_from names %s, which is declared still", former)
			if first != nil {
				at, _ := first.Position()
				p.Message = fmt.Sprintf("renamed_from names %s, as it does for %s (%s)", former, first.Full(),
					at.Short())
			}
			p.Ward, p.Address, p.Path, p.Via = r.Ward, r.Address, "care.renamed_from", via
			out = append(out, p)
			break
		}
	}
	return out
}

// starFiles lists the *.star files of a ward in name order.
func starFiles(o Options, root *os.Root, ward string) ([]string, error) {
	var out []string
	folder := o.Estate.Folder(ward)
	for name := range o.Overlay { // a file that is not written yet
		if path.Dir(name) == folder && strings.HasSuffix(name, ".star") {
			out = append(out, name)
		}
	}
	entries, err := fs.ReadDir(root.FS(), folder)
	if err != nil && len(out) == 0 {
		p := problem.At(o.Estate.At("wards"), "ward %q has no folder: %v", ward, pathError(err))
		p.Ward, p.Hint = ward, fmt.Sprintf("make the folder %s, or take it out of wards", folder)
		return nil, p
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".star") && !e.IsDir() {
			out = append(out, folder+"/"+e.Name())
		}
	}
	sort.Strings(out)
	out = slices.Compact(out)
	if len(out) == 0 {
		p := problem.At(problem.Position{File: folder}, "ward %q holds no *.star file", ward)
		p.Ward = ward
		return nil, p
	}
	return out, nil
}

func pathError(err error) error {
	if pe, ok := err.(*fs.PathError); ok {
		return pe.Err
	}
	return err
}

// WardNamed is what one ward says; nil where it was not evaluated.
func (d *Declared) WardNamed(name string) *Ward {
	for _, w := range d.Wards {
		if w.Name == name {
			return w
		}
	}
	return nil
}
