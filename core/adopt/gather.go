package adopt

import (
	"cmp"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// Thing is one that exists and that no ledger records.
type Thing struct {
	Type       *schema.Type
	ID         string
	Attributes value.Map
}

// Found are the things of one environment that are to be declared.
type Found struct {
	Env    string
	Names  string // the estate's pattern of names there, with nothing left but {name}
	Things []Thing
	// Others are things of the same cloud that are not declared here, by `TYPE ID`.
	Others map[string]Thing
	// Declared are resources of the ward, as `TYPE NAME`, whose names are taken, and Instances those of
	// kits.
	Declared, Instances map[string]bool
	// Managed says how a thing is written that the estate records. It may be nil.
	Managed func(typ, id string) Managed
}

// Managed is a thing that the estate records, or may record.
type Managed struct {
	Where string // it is recorded; "" for nowhere
	Code  string // as it is written; "" for no way
	// File and Name are a file of the ward and the name to load from it, which Code follows then.
	File, Name string
}

// The values of attributes that are not literals.
type (
	toItem   struct{ key, output string }      // a handle, or an output of what is declared
	toOther  struct{ key string }              // a thing that is looked up
	textOf   struct{ format, key, id string }  // a text with %s where an id of what is declared stands; id is its attribute
	ofEnv    struct{ text string }             // a text with %s where the environment's name stands
	asInput  struct{ name string }             // differs between environments
	verbatim struct{ text string }             // code
	loaded   struct{ file, name, rest string } // what another file of the ward binds
)

// item is one resource of the file, in one environment or several.
type item struct {
	key   string // tells it from the others
	typ   *schema.Type
	name  string         // in its address
	at    []*Thing       // by environment, in the order of those that are looked at; nil where it is not
	attrs map[string]any // what it is declared with, by attribute
	needs []string       // keys of other items

	secrets []Secret
	left    []string // what could not be declared of it, and why

	kit            *group // that declares it; nil for none
	within, called string // the kit's instance, and the name in it
}

// address is that of an item without its ward.
func (it *item) address(driver string) string {
	if it.kit != nil {
		return it.within + "/" + driver + "." + it.typ.Name + "/" + it.called
	}
	return driver + "." + it.typ.Name + "/" + it.name
}

// comparable is what an attribute has in common with that of another item if both are the same.
func (it *item) comparable(attr string) any {
	switch v := it.attrs[attr].(type) {
	case []any, map[string]any:
		return verbatim{canonical(v)}
	default:
		return v
	}
}

// everywhere reports whether an item is in all environments.
func (it *item) everywhere() bool { return !slices.Contains(it.at, nil) }

// id is that of an item in the first environment that has it.
func (it *item) id() string {
	for _, t := range it.at {
		if t != nil {
			return t.ID
		}
	}
	return ""
}

// other is a thing that is looked up.
type other struct {
	key   string
	typ   *schema.Type
	match map[string]any
}

// gathering makes items of things.
type gathering struct {
	driver  string
	found   []Found
	items   map[string]*item
	names   map[ref]bool // of items, by their type
	order   []*item
	inputs  map[string]*input
	secrets []Secret
	left    []string // what could not be declared, and why

	mu     sync.Mutex // guards loads and others while items are declared beside each other
	others map[string]*other
	loads  map[string]map[string]bool // by file: the names that are loaded from it

	indexed []*indexed        // per environment
	short   map[string]string // by key: a name that no other thing of the type has
}

// indexed are the things of one environment by what refers to them.
type indexed struct {
	at      map[ref]int       // where a thing stands, by type and id
	keys    []string          // of the things
	outputs map[string]toItem // by a value that the cloud decided, of one thing alone
	ids     map[string]toItem // by id, where one type alone has it
	// values are the ids of things and of others by what refers to them, where that is another value
	// than the id: the number of a thing below another one, say. "" for what several things have.
	values, others map[ref]string
}

// input is a value that differs between environments.
type input struct {
	name string
	attr *schema.Attribute
	is   map[string]any // by environment
}

// Secret is one that has to be given before the file can be used.
type Secret struct {
	Name      string `json:"name"`
	Address   string `json:"address"`
	Attribute string `json:"attribute"`
}

func gather(driver string, found []Found) *gathering {
	most := 0 // things in an environment
	for _, f := range found {
		most = max(most, len(f.Things))
	}
	g := &gathering{driver: driver, found: found, items: make(map[string]*item, most), others: map[string]*other{},
		inputs: map[string]*input{}, short: make(map[string]string, most), names: make(map[ref]bool, most),
		loads: map[string]map[string]bool{}}
	for i := range found {
		g.index(i)
	}
	var beside sync.WaitGroup
	beside.Go(func() {
		for i := range found {
			g.indexed[i].byValue(found[i].Things)
		}
	})
	for i := range found {
		g.merge(i)
	}
	beside.Wait()
	g.declareAll()
	return g
}

// portion is how many items are declared at once, beside others.
const portion = 512

// declareAll declares all items, and puts them into order.
func (g *gathering) declareAll() {
	sorted := slices.Clone(g.order)
	var beside errgroup.Group
	beside.SetLimit(runtime.GOMAXPROCS(0))
	beside.Go(func() error {
		slices.SortFunc(sorted, func(a, b *item) int { return cmp.Or(cmp.Compare(a.typ.Name, b.typ.Name), natural(a.name, b.name)) })
		return nil
	})
	if len(g.found) > 1 { // inputs are counted in that order
		_ = beside.Wait()
		g.order = sorted
		beside.SetLimit(1)
	}
	for items := range slices.Chunk(g.order, portion) {
		beside.Go(func() error {
			for _, it := range items {
				g.declare(it)
			}
			return nil
		})
	}
	_ = beside.Wait() // it never fails
	g.order = sorted
	said := map[string]bool{}
	for _, it := range g.order {
		g.secrets = append(g.secrets, it.secrets...)
		for _, left := range it.left {
			if !said[left] {
				said[left] = true
				g.left = append(g.left, left)
			}
		}
	}
}

// merge makes items of an environment's things, or adds it to those that are there.
func (g *gathering) merge(i int) {
	f := g.found[i]
	declared := func(typ, name string) bool {
		return slices.ContainsFunc(g.found, func(f Found) bool { return len(f.Declared) > 0 && f.Declared[typ+" "+name] })
	}
	for n := range f.Things {
		t := &f.Things[n]
		x := g.indexed[i]
		key := x.keys[x.at[ref{t.Type.Name, t.ID}]] // one key for what a list has twice
		it := g.items[key]
		if it == nil {
			base := addressName(cmp.Or(g.short[key], key[len(t.Type.Name)+1:]))
			name := base
			if declared(t.Type.Name, name) {
				g.left = append(g.left, fmt.Sprintf("%s.%s/%s is declared already: if it is %s, `kasbah adopt -find` takes it", g.driver,
					t.Type.Name, name, t.ID))
			}
			for n := 2; g.names[ref{t.Type.Name, name}] || declared(t.Type.Name, name); n++ {
				name = fmt.Sprintf("%s-%d", base, n)
			}
			g.names[ref{t.Type.Name, name}] = true
			it = &item{key: key, typ: t.Type, name: name, at: make([]*Thing, len(g.found))}
			g.items[key] = it
			g.order = append(g.order, it)
		}
		it.at[i] = t
	}
}

// declare finds what an item is declared with.
func (g *gathering) declare(it *item) {
	it.attrs = make(map[string]any, len(it.typ.Attributes))
	is := make([]any, len(g.found)) // by environment
	for _, a := range it.typ.Attributes {
		if a.Output {
			continue
		}
		if a.Secret {
			if a.Required {
				name := strings.TrimSuffix(variable(it.name+"_"+a.Name), "_") // a-z, 0-9 and _
				it.secrets = append(it.secrets, Secret{Name: name, Address: g.driver + "." + it.typ.Name + "/" + it.name, Attribute: a.Name})
				it.attrs[a.Name] = verbatim{"secret(" + quoted(name) + ")"}
			}
			continue
		}
		if a.Name == "name" && it.typ.NamedByPattern() && g.namedByPattern(it, it.name) {
			continue
		}
		some := false
		clear(is)
		for i, t := range it.at {
			if t == nil {
				continue
			}
			v := t.Attributes[a.Name]
			if a.HasDefault && (v == nil || value.Equal(v, a.Default)) || !a.HasDefault && value.Empty(v) && !a.Required {
				continue
			}
			is[i], some = g.tree(i, v, a, it), true
		}
		if some {
			it.attrs[a.Name] = g.united(it, a, is)
		}
	}
	for _, a := range it.typ.Attributes {
		leaves(it.attrs[a.Name], func(leaf any) {
			if to, ok := leaf.(toItem); ok && !slices.Contains(it.needs, to.key) {
				it.needs = append(it.needs, to.key)
			}
		})
	}
}

// namedByPattern reports whether the estate's pattern makes the name that an item has of another,
// everywhere.
func (g *gathering) namedByPattern(it *item, name string) bool {
	for i, t := range it.at {
		if t != nil && t.Attributes["name"] != strings.ReplaceAll(g.found[i].Names, "{name}", name) {
			return false
		}
	}
	return true
}
