// Package adopt pairs what is declared with things that exist and that no ledger records.
package adopt

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Look is what pairing looks at.
type Look struct {
	Declared []*declare.Resource              // without a record, in dependency order
	Live     map[string][]driver.Live         // what no ledger of the estate records, by type with its driver
	Unread   map[string]error                 // why the things of a type could not be listed
	Known    func(ref value.Ref) (any, error) // an attribute of what is recorded; value.ErrUnknown for others
	Chosen   map[string]string                // ids that a person has chosen, by full address
	AndEdit  bool                             // what can be edited may differ
	TakeOver bool                             // the code is changed where it differs
	Env      string
	Refused  map[string]bool // pairs that a person has refused, as `ADDRESS ID`
}

// Format is the format of Pairs as JSON.
const Format = "kasbah.pairs/1"

// Pairs are what could be paired.
type Pairs struct {
	Format  string `json:"format"`
	Env     string `json:"env"`
	Certain []Pair `json:"certain"`
	Likely  []Pair `json:"likely"` // each needs a person's word
	Rest    []Rest `json:"rest"`
}

// Pair is a declared resource and the thing that it may adopt.
type Pair struct {
	Ward    string   `json:"ward"`
	Address string   `json:"address"`
	Type    string   `json:"type"`
	ID      string   `json:"id"`
	Name    string   `json:"name,omitempty"`
	By      []string `json:"by"`               // the attributes that are equal
	Differ  []string `json:"differ,omitempty"` // of a likely one, those that are not
	Others  int      `json:"others,omitempty"` // things that fit as well
	// Because says what keeps a certain one from being adopted.
	Because []string `json:"because,omitempty"`

	live driver.Live
}

// Things are the ids of what is certain and may be adopted, by full address.
func (p *Pairs) Things() map[string]string {
	out := make(map[string]string, len(p.Certain))
	for i := range p.Certain {
		if p.Certain[i].Because == nil {
			out[p.Certain[i].Full()] = p.Certain[i].ID
		}
	}
	return out
}

// Whole reports whether nothing is left that was not found or cannot be adopted.
func (p *Pairs) Whole() bool {
	return len(p.Likely)+len(p.Rest) == 0 && len(p.Things()) == len(p.Certain)
}

// Full is the address with its ward.
func (p *Pair) Full() string { return value.InWard(p.Ward, p.Address) }

// Rest is a declared resource for which no thing was found.
type Rest struct {
	Ward    string `json:"ward"`
	Address string `json:"address"`
	Type    string `json:"type"`
	Because string `json:"because"`
}

// pairing is one look.
type pairing struct {
	Look
	types  map[string]*candidates
	paired map[string]driver.Live // by full address
	stuck  map[string]bool        // of those, what differs and so is not adopted
	out    *Pairs
}

// candidates are the things of one type that may be adopted.
type candidates struct {
	identity []string // attributes
	stated   bool     // the type's description says that they identify a thing
	things   []driver.Live
	byKey    map[string][]int // by what identifies them
	byValue  map[string][]int // by an attribute and its value
	wanted   map[string]int   // how many declared resources have a key
	taken    map[int]bool
}

// Find pairs, in dependency order: a network that was found identifies its subnets.
func Find(l Look) *Pairs {
	p := &pairing{Look: l, types: map[string]*candidates{}, paired: map[string]driver.Live{}, stuck: map[string]bool{},
		out: &Pairs{Format: Format, Env: l.Env, Certain: []Pair{}, Likely: []Pair{}, Rest: []Rest{}}}
	for _, d := range l.Declared {
		p.of(d).wanted[p.key(d)]++
	}
	var left []*declare.Resource
	for _, d := range l.Declared {
		if !p.chosen(d) && !p.certain(d) {
			left = append(left, d)
		}
	}
	for _, d := range left {
		p.likely(d)
	}
	return p.out
}

// identityOf are the attributes that tell a thing of a type from the others, and whether its
// description says so.
func identityOf(t *schema.Type) ([]string, bool) {
	id := t.Attribute(t.ID)
	switch {
	case len(t.Identify) > 0:
		return t.Identify, true
	case id != nil && !id.Output:
		return []string{t.ID}, true
	case t.Attribute("name") != nil && !t.Attribute("name").Output:
		return []string{"name"}, t.UniqueName
	}
	return nil, false
}

func (p *pairing) of(d *declare.Resource) *candidates {
	c := p.types[d.FullType()]
	if c != nil {
		return c
	}
	c = &candidates{things: p.Live[d.FullType()], byKey: map[string][]int{}, wanted: map[string]int{}, taken: map[int]bool{}}
	c.identity, c.stated = identityOf(d.Type)
	for i, l := range c.things {
		if key, ok := keyOf(c.identity, l.Attributes); ok {
			c.byKey[key] = append(c.byKey[key], i)
		}
	}
	p.types[d.FullType()] = c
	return c
}

// keyOf are the values of some attributes as a text; false where one is missing or not known.
func keyOf(names []string, of value.Map) (string, bool) {
	var b []byte
	for _, name := range names {
		v := of[name]
		if v == nil || value.IsPending(v) {
			return "", false
		}
		b = append(value.Append(b, v), ' ')
	}
	return string(b), len(names) > 0
}

// inputs are a declaration's, as far as they are known from what was paired before, or adopted of
// that.
func (p *pairing) inputs(d *declare.Resource, adopted bool) value.Map {
	out := make(value.Map, len(d.Inputs())+1)
	for name, v := range d.Inputs() {
		if value.IsSecret(v) {
			continue
		}
		known, err := value.Resolve(v, func(ref value.Ref) (any, error) {
			if l, ok := p.paired[ref.Address]; ok && !(adopted && p.stuck[ref.Address]) {
				is, found := ref.Path.At(map[string]any(l.Attributes))
				if !found {
					return nil, value.ErrUnknown
				}
				return is, nil
			}
			return p.Known(ref)
		})
		if err == nil {
			out[name] = known
		}
	}
	if d.MadeName != "" {
		out["name"] = d.MadeName
	}
	return out
}

func (p *pairing) key(d *declare.Resource) string {
	c := p.of(d)
	in := p.inputs(d, false)
	for _, name := range c.identity {
		if a := d.Type.Attribute(name); in[name] == nil && a != nil && a.HasDefault {
			in[name] = a.Default
		}
	}
	key, _ := keyOf(c.identity, in)
	return key
}

// take notes a pair.
func (p *pairing) take(d *declare.Resource, i int, by []string, into *[]Pair) {
	c := p.of(d)
	l := c.things[i]
	c.taken[i] = true
	p.paired[d.Full()] = l
	pair := p.pair(d, l, by)
	changes, free := p.changes(d, l)
	if p.TakeOver {
		changes = slices.DeleteFunc(changes, func(c propose.Change) bool { return !value.IsPending(c.WillBe.V) })
	}
	if !p.AndEdit || !free {
		pair.Because = propose.NotAdopted(d, l.ID, changes)
		p.stuck[d.Full()] = pair.Because != nil
	}
	*into = append(*into, pair)
}

func (p *pairing) pair(d *declare.Resource, l driver.Live, by []string) Pair {
	name, _ := l.Attributes["name"].(string)
	return Pair{Ward: d.Ward, Address: d.Address, Type: d.FullType(), ID: l.ID, Name: name, By: by, live: l}
}

// chosen takes what a person has chosen.
func (p *pairing) chosen(d *declare.Resource) bool {
	id := p.Chosen[d.Full()]
	if id == "" {
		return false
	}
	for i, l := range p.of(d).things {
		if l.ID == id {
			p.take(d, i, []string{"chosen"}, &p.out.Certain)
			return true
		}
	}
	return false
}

// certain pairs what has the same identity, where one thing and one declaration alone have it.
func (p *pairing) certain(d *declare.Resource) bool {
	c, key := p.of(d), p.key(d)
	if key == "" || len(c.byKey[key]) != 1 || c.wantedNow(p, d, key) > 1 {
		return false
	}
	i := c.byKey[key][0]
	if c.taken[i] || p.Refused[d.Full()+" "+c.things[i].ID] {
		return false
	}
	if !c.stated && !p.TakeOver && len(p.fixedDiffer(d, c.things[i])) > 0 { // a name need not be of one thing alone
		return false
	}
	p.take(d, i, c.identity, &p.out.Certain)
	return true
}

// wantedNow is how many declared resources have a key: more are known than in the beginning.
func (c *candidates) wantedNow(p *pairing, d *declare.Resource, key string) int {
	n := c.wanted[key]
	if n == 0 {
		c.wanted[key]++ // what identifies it became known with what it needs
		return 1
	}
	return n
}

// fixedDiffer are the fixed attributes in which a thing is not as declared, as far as that is known.
func (p *pairing) fixedDiffer(d *declare.Resource, l driver.Live) []string {
	var out []string
	in := p.inputs(d, false)
	for _, a := range d.Type.Attributes {
		want, declared := in[a.Name]
		if a.Fixed && declared && !a.Secret && !value.IsPending(want) && differ(a, want, l.Attributes[a.Name]) {
			out = append(out, a.Name)
		}
	}
	return out
}

// changes are those from how a thing is to how it is declared, and whether all can be edited.
func (p *pairing) changes(d *declare.Resource, l driver.Live) (out []propose.Change, free bool) {
	free = true
	in := p.inputs(d, true)
	for _, a := range d.Type.Attributes {
		want, declared := in[a.Name]
		is := l.Attributes[a.Name]
		if !declared || a.Secret || a.Unshown && is == nil || a.Name == "name" && d.MadeName != "" {
			continue
		}
		if a.Loose() {
			want, is = a.Canonical(value.Clone(want)), a.Canonical(value.Clone(is))
		}
		more, _ := propose.Compare(a.Name, want, is, d.Care.Leave)
		for _, c := range more {
			c.Fixed = a.Fixed
			free = free && !a.Fixed && !value.IsPending(c.WillBe.V)
			out = append(out, c)
		}
	}
	return out, free
}

func differ(a *schema.Attribute, want, is any) bool {
	if a.Loose() {
		want, is = a.Canonical(value.Clone(want)), a.Canonical(value.Clone(is))
	}
	return !value.Equal(want, is) && !(value.Empty(want) && value.Empty(is))
}

// crowd is with how many things that have a value in common a declaration is compared for it: what
// more have tells nothing apart.
const crowd = 50

// likely ranks the things that are not taken by how many attributes are as declared.
func (p *pairing) likely(d *declare.Resource) {
	c, in := p.of(d), p.inputs(d, false)
	rest := func(format string, args ...any) {
		p.out.Rest = append(p.out.Rest, Rest{d.Ward, d.Address, d.FullType(), fmt.Sprintf(format, args...)})
	}
	if err := p.Unread[d.FullType()]; err != nil {
		rest("the things of its type could not be read: %v", err)
		return
	}
	if d.Type.Unshown {
		rest("its cloud shows no %s", d.Type.Name)
		return
	}
	c.index()
	votes := map[int]int{}
	for name, v := range in {
		if a := d.Type.Attribute(name); a == nil || a.Secret || value.IsPending(v) || a.HasDefault && value.Equal(v, a.Default) {
			continue
		}
		if of := c.byValue[valueKey(name, v)]; len(of) <= crowd {
			for _, i := range of {
				votes[i]++
			}
		}
	}
	type ranked struct {
		i           int
		same, else_ []string
	}
	var fit []ranked
	for i := range votes {
		if c.taken[i] || p.Refused[d.Full()+" "+c.things[i].ID] || len(p.fixedDiffer(d, c.things[i])) > 0 {
			continue
		}
		r := ranked{i: i}
		for _, name := range value.Keys(in) {
			a := d.Type.Attribute(name)
			switch {
			case a == nil || a.Secret || value.IsPending(in[name]):
			case differ(a, in[name], c.things[i].Attributes[name]):
				r.else_ = append(r.else_, name)
			default:
				r.same = append(r.same, name)
			}
		}
		fit = append(fit, r)
	}
	if len(fit) == 0 {
		rest("%s", p.why(d, c))
		return
	}
	slices.SortFunc(fit, func(a, b ranked) int {
		return cmp.Or(len(b.same)-len(a.same), len(a.else_)-len(b.else_), strings.Compare(c.things[a.i].ID, c.things[b.i].ID))
	})
	best := fit[0]
	pair := p.pair(d, c.things[best.i], best.same)
	pair.Differ = best.else_
	for _, r := range fit[1:] {
		if len(r.same) == len(best.same) && len(r.else_) == len(best.else_) {
			pair.Others++
		}
	}
	c.taken[best.i] = true // the next one is asked about another thing
	p.out.Likely = append(p.out.Likely, pair)
}

func valueKey(name string, v any) string { return name + " " + string(value.Encode(v)) }

func (c *candidates) index() {
	if c.byValue != nil {
		return
	}
	c.byValue = map[string][]int{}
	for i, l := range c.things {
		for name, v := range l.Attributes {
			k := valueKey(name, v)
			c.byValue[k] = append(c.byValue[k], i)
		}
	}
}

// why says why nothing was found for a resource.
func (p *pairing) why(d *declare.Resource, c *candidates) string {
	if len(c.things) == 0 {
		return fmt.Sprintf("there is no %s that no ledger records", d.FullType())
	}
	key, in := p.key(d), p.inputs(d, false)
	if key == "" {
		for _, name := range c.identity {
			var from []string
			value.Refs(d.Inputs()[name], func(ref value.Ref) {
				if _, ok := p.paired[ref.Address]; !ok && !value.IsFound(ref.Address) {
					from = append(from, ref.Address)
				}
			})
			if len(from) > 0 {
				return fmt.Sprintf("%s identifies it, and is not known before %s is found", name, from[0])
			}
		}
		return "no attribute of it is shared with a thing that no ledger records"
	}
	if n := len(c.byKey[key]); n > 1 {
		return fmt.Sprintf("%d things have its %s", n, strings.Join(c.identity, " and "))
	}
	if c.wanted[key] > 1 {
		return fmt.Sprintf("%d resources are declared with its %s", c.wanted[key], strings.Join(c.identity, " and "))
	}
	for _, i := range c.byKey[key] {
		if c.taken[i] {
			return fmt.Sprintf("%s is taken by another", c.things[i].ID)
		}
		if fixed := p.fixedDiffer(d, c.things[i]); len(fixed) > 0 {
			return fmt.Sprintf("%s has its %s and another %s, which is fixed", c.things[i].ID,
				strings.Join(c.identity, " and "), strings.Join(fixed, " and "))
		}
	}
	if name, ok := in["name"].(string); ok {
		for _, l := range c.things {
			if is, ok := l.Attributes["name"].(string); ok && is != name && strings.EqualFold(is, name) {
				return fmt.Sprintf("%s is called %s, which differs in case alone", l.ID, is)
			}
		}
	}
	return fmt.Sprintf("no %s that no ledger records has its %s", d.FullType(), strings.Join(c.identity, " and "))
}
