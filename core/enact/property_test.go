package enact_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/approval"
	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/graph"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/medina"
	"kasbah/stores/memory"
)

// coast is a random estate of one ward that a test edits, proposes and
// enacts against a real Medina.
type coast struct {
	t       *testing.T
	rnd     *rand.Rand
	dir     string
	things  map[string]*thing
	next    int
	drv     driver.Driver
	catalog *schema.Catalog
	store   store.Store
	runs    int

	approval *approval.Policy // as kasbah.toml would have it
	byKey    string           // public key of who proposes
	adopt    propose.Adoption // what proposals take under management
	offline  bool             // proposals compare with the ledger alone
	only     []string         // patterns of what is proposed; all when empty
	box      *seal.Box        // what seals the ledger; nil when nothing does
	tail     string           // of what is declared, as it stands
	secret   func(name string) (string, error)
}

// thing is a declaration that the test writes.
type thing struct {
	typ, name string
	on        string // the resource it stands on, or ""
	attrs     map[string]string
}

func newCoast(t *testing.T, seed uint64, habits ...string) *coast {
	c := &coast{t: t, rnd: rand.New(rand.NewPCG(seed, 7)), dir: t.TempDir(), things: map[string]*thing{},
		store: memory.New()}
	require.NoError(t, os.MkdirAll(filepath.Join(c.dir, "shore"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "kasbah.toml"),
		[]byte("estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\n[env.trial]\n"), 0o644))
	var err error
	c.drv, err = medina.Settings{API: "embedded", Options: medina.Options{Path: filepath.Join(c.dir, "medina.db"),
		Habits: habits}}.Driver("tester")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, c.drv.Close()) })
	c.catalog, err = c.drv.Describe(context.Background())
	require.NoError(t, err)
	return c
}

func (c *coast) pick(typ string) *thing {
	var names []string
	for n, x := range c.things {
		if x.typ == typ {
			names = append(names, n)
		}
	}
	if len(names) == 0 {
		return nil
	}
	sort.Strings(names)
	return c.things[names[c.rnd.IntN(len(names))]]
}

func (c *coast) any() *thing {
	names := slices.Sorted(maps.Keys(c.things))
	return c.things[names[c.rnd.IntN(len(names))]]
}

// grow adds a random resource.
func (c *coast) grow() {
	c.next++
	x := &thing{name: fmt.Sprintf("x%d", c.next), attrs: map[string]string{}}
	q := func(s string) string { return fmt.Sprintf("%q", s) }
	switch net, sub, mac := c.pick("network"), c.pick("subnet"), c.pick("machine"); {
	case net == nil || c.next%40 == 0:
		x.typ = "network"
		x.attrs["range"] = q(fmt.Sprintf("10.%d.0.0/16", c.next%250))
	case sub == nil || c.rnd.IntN(4) == 0:
		x.typ, x.on = "subnet", net.name
		x.attrs["range"] = fmt.Sprintf("cidr.slice(%s.range, 26, %d)", net.name, c.next%1000)
	case c.rnd.IntN(3) == 0:
		x.typ, x.on = "machine", sub.name
		x.attrs["size"], x.attrs["image"] = q("small"), q("stone-1")
		x.attrs["notes"] = fmt.Sprintf("\"via %%s\" %% %s.gateway", sub.name)
	case mac != nil && c.rnd.IntN(2) == 0:
		x.typ, x.on = "disk", mac.name
		x.attrs["gigabytes"] = "10"
	case mac != nil && c.rnd.IntN(2) == 0:
		x.typ, x.on = "record", mac.name
		x.attrs["name"], x.attrs["kind"] = q(x.name+".example"), q("A")
		x.attrs["values"] = "[" + mac.name + ".address]"
	default:
		x.typ = "bucket"
		x.attrs["tags"] = "{\"n\": \"1\"}"
	}
	c.things[x.name] = x
}

// change edits a random resource in place or so that it must be swapped.
func (c *coast) change() {
	x := c.any()
	c.next++
	q := func(s string) string { return fmt.Sprintf("%q", s) }
	switch x.typ {
	case "network":
		x.attrs["tags"] = fmt.Sprintf("{\"n\": \"%d\"}", c.next)
		if c.rnd.IntN(6) == 0 {
			x.attrs["range"] = q(fmt.Sprintf("10.%d.0.0/16", c.next%250))
		}
	case "subnet":
		if c.rnd.IntN(3) == 0 {
			x.attrs["tags"] = fmt.Sprintf("{\"n\": \"%d\"}", c.next)
		} else {
			x.attrs["range"] = fmt.Sprintf("cidr.slice(%s.range, 26, %d)", x.on, c.next%1000)
		}
	case "machine":
		switch c.rnd.IntN(3) {
		case 0:
			x.attrs["size"] = q([]string{"tiny", "small", "medium"}[c.rnd.IntN(3)])
		case 1:
			x.attrs["image"] = q(fmt.Sprintf("stone-%d", c.next))
		default:
			if s := c.pick("subnet"); s != nil {
				x.on = s.name
				x.attrs["notes"] = q("moved")
			}
		}
	case "disk":
		if c.rnd.IntN(2) == 0 {
			x.attrs["gigabytes"] = fmt.Sprint(10 + c.next)
		} else {
			x.attrs["kind"] = q([]string{"solid", "spinning"}[c.rnd.IntN(2)])
		}
	case "record":
		x.attrs["ttl"] = fmt.Sprint(60 + c.next)
		if c.rnd.IntN(3) == 0 {
			x.attrs["name"] = q(fmt.Sprintf("x%d.example", c.next))
		}
	case "bucket":
		x.attrs["versions"] = []string{"True", "False"}[c.rnd.IntN(2)]
		if c.rnd.IntN(3) == 0 {
			delete(x.attrs, "versions")
			x.attrs["name"] = q(fmt.Sprintf("bucket-%d", c.next))
		}
	}
}

// drop takes a random resource and all that stands on it out.
func (c *coast) drop() {
	gone := map[string]bool{c.any().name: true}
	for more := true; more; {
		more = false
		for n, x := range c.things {
			if gone[x.on] && !gone[n] {
				gone[n], more = true, true
			}
		}
	}
	for n := range gone {
		delete(c.things, n)
	}
}

// write writes the declarations, needs first.
func (c *coast) write() {
	var b strings.Builder
	done := map[string]bool{}
	var put func(x *thing)
	put = func(x *thing) {
		if done[x.name] {
			return
		}
		done[x.name] = true
		if x.on != "" {
			put(c.things[x.on])
		}
		fmt.Fprintf(&b, "%s = medina.%s(%q", x.name, x.typ, x.name)
		if x.on != "" && x.typ != "record" && x.typ != "bucket" {
			fmt.Fprintf(&b, ", %s = %s", map[string]string{"subnet": "network", "machine": "subnet",
				"disk": "machine"}[x.typ], x.on)
		}
		for _, k := range slices.Sorted(maps.Keys(x.attrs)) {
			fmt.Fprintf(&b, ", %s = %s", k, x.attrs[k])
		}
		b.WriteString(")\n")
	}
	for _, n := range slices.Sorted(maps.Keys(c.things)) {
		put(c.things[n])
	}
	b.WriteString(c.tail + "\n")
	require.NoError(c.t, os.WriteFile(filepath.Join(c.dir, "shore", "shore.star"), []byte(b.String()), 0o644))
}

func (c *coast) ledger() *ledger.Ledger {
	l, err := ledger.New(c.store, "coast", "trial", "shore", ledger.Identity{Who: "tester", Host: "here",
		Program: "test"})
	require.NoError(c.t, err)
	if c.box != nil {
		l.SealWith(c.box)
	}
	return l
}

func (c *coast) propose(raze bool) *propose.Proposal {
	ctx := context.Background()
	o := propose.Options{Estate: "coast", Env: "trial", Approval: map[string]*approval.Policy{"shore": c.approval},
		Maker: propose.Maker{By: "keeper-1", ByKey: c.byKey}, Secrets: propose.Secrets{Sealed: c.box != nil,
			Secret: c.secret},
		Choice:   propose.Choice{Only: c.only, Wards: []string{"shore"}},
		Catalogs: map[string]*schema.Catalog{"medina": c.catalog}}
	if !raze {
		e, err := estate.Load(c.dir)
		require.NoError(c.t, err)
		d, problems := declare.Evaluate(ctx, declare.Options{Estate: e, Env: "trial", Wards: e.Wards,
			Catalogs: o.Catalogs})
		require.NoError(c.t, problems.Err())
		_, cycles := graph.OfDeclared(d)
		require.Empty(c.t, cycles)
		o.Declared = d
	}
	s, err := c.ledger().Load(ctx)
	require.NoError(c.t, err)
	o.States = map[string]*ledger.State{"shore": s}
	if !c.offline {
		var ids map[string][]string
		if o.Declared != nil {
			o.Adopt, ids = c.adopt, c.adopt.Ids(o.Declared, o.States)
		}
		o.Live, err = propose.ReadLive(ctx, c.drivers(), o.Catalogs, o.States, ids)
		require.NoError(c.t, err)
	}
	p, err := propose.Propose(context.Background(), o)
	require.NoError(c.t, err)
	union := map[string]bool{}
	for a := range s.Records {
		union[a] = true
	}
	if !raze {
		for _, r := range o.Declared.Resources {
			union[r.Address] = true
		}
	}
	for _, a := range p.Actions {
		if a.Was != "" {
			_, was := value.SplitWard(a.Was)
			delete(union, was)
		}
	}
	require.Equal(c.t, len(union), p.Counts.Changing()+p.Counts.Same+p.LeftOut,
		"every resource has exactly one action, or is left out")
	require.Len(c.t, p.Actions, len(union)-p.LeftOut)
	require.NoError(c.t, p.Check())
	return p
}

func (c *coast) drivers() map[string]driver.Driver { return map[string]driver.Driver{"medina": c.drv} }

func (c *coast) enact(p *propose.Proposal) {
	c.runs++
	r, err := enact.Enact(context.Background(), p, enact.Options{
		Run: fmt.Sprintf("run-%d", c.runs),
		Clouds: enact.Clouds{Drivers: c.drivers(), Catalogs: map[string]*schema.Catalog{"medina": c.catalog},
			Ledgers: map[string]*ledger.Ledger{"shore": c.ledger()}},
		Pace:    enact.Pace{Shows: -1},
		Secrets: enact.Secrets{Sealed: c.box != nil, Secret: c.secret},
	})
	require.NoError(c.t, err)
	for _, f := range r.Failures {
		c.t.Errorf("%s: %v", f.Address, f)
	}
	require.Equal(c.t, "done", r.Outcome)
	require.Equal(c.t, p.Counts.Changing(), r.Counts.Done)
}

// live lists what Medina holds, by id.
func (c *coast) live() map[string]driver.Live {
	out := map[string]driver.Live{}
	for _, typ := range c.catalog.Names() {
		for l, err := range c.drv.List(context.Background(), typ) {
			require.NoError(c.t, err)
			out[l.ID] = l
		}
	}
	return out
}

// TestRandomEstates grows, edits, swaps and removes at random. Medina itself
// refuses every call that is out of order: what is made before what it
// refers to, what is deleted while in use.
func TestRandomEstates(t *testing.T) {
	cases := sample(12, 12, 3)
	for seed := range cases {
		most := 60
		if seed == 0 && !testing.Short() {
			most = 300
		}
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			newCoast(t, uint64(seed)).grows(most, 5)
		})
	}
}

// TestEstatesOfHabits is the same on clouds with habits of others, any two of them at once:
// a share of the pairs, all with THOROUGH=1.
func TestEstatesOfHabits(t *testing.T) {
	oneByOne(t)
	n := 0
	for i, a := range medina.Habits {
		for _, b := range medina.Habits[i:] {
			habits := slices.Compact([]string{a, b})
			if n++; medina.CheckHabits(habits) != nil || n%sample(1, 17, 17) != 0 {
				continue
			}
			t.Run(strings.Join(habits, "+"), func(t *testing.T) {
				t.Parallel()
				newCoast(t, uint64(n), habits...).grows(20, 3)
			})
		}
	}
}

// grows enacts an estate of most things, and rounds of changes to it, and removes it: each
// time the cloud holds what is declared, and nothing is left to do.
func (c *coast) grows(most, rounds int) {
	for range most {
		c.grow()
	}
	for round := range rounds {
		if round > 0 {
			for range most / 6 {
				switch c.rnd.IntN(5) {
				case 0:
					c.grow()
				case 1:
					if len(c.things) > 5 {
						c.drop()
					}
				default:
					c.change()
				}
			}
		}
		c.write()
		c.enact(c.propose(false))
		again := c.propose(false)
		for _, a := range again.Actions {
			require.Equal(c.t, propose.Same, a.Kind, "%s: %v", a.Address, a.Changes)
		}
		require.Len(c.t, c.live(), len(c.things), "Medina holds exactly what is declared")
		v, err := c.ledger().Verify(context.Background())
		require.NoError(c.t, err)
		require.Empty(c.t, v.Notes)
	}
	c.enact(c.propose(true))
	require.Empty(c.t, c.live())
	s, err := c.ledger().Load(context.Background())
	require.NoError(c.t, err)
	require.Empty(c.t, s.Records)
}

// TestRecordedChanges: what the ledger says differently since something was
// enacted is seen, though its declaration is as it was: its own attributes,
// and those that it is made from.
func TestRecordedChanges(t *testing.T) {
	ctx := context.Background()
	c := everyAction(t)
	c.enact(c.propose(false))
	c.offline = true
	require.Zero(t, c.propose(false).Counts.Changing())
	r, err := c.ledger().Begin(ctx, ledger.BeginOptions{ID: "look", Command: "test"})
	require.NoError(t, err)
	note := func(address string, change func(*ledger.Record)) {
		old, err := r.Record(address)
		require.NoError(t, err)
		now := *old
		now.Live = value.Attributes(value.CloneMap(value.Map(old.Live)))
		change(&now)
		require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "seen",
			Record: &now}}))
	}
	note("medina.bucket/fresh", func(r *ledger.Record) { r.Live["tags"] = value.Map{"a": "by hand"} })
	note("medina.machine/imaged", func(r *ledger.Record) { r.Live["address"] = "10.9.9.9" })
	// which says nothing about the cloud
	note("medina.subnet/stays", func(r *ledger.Record) { r.Care.Swap = "drop-first" })
	require.NoError(t, r.End(ctx, ledger.End{Outcome: "done"}))
	p := c.propose(false)
	require.Equal(t, 2, p.Counts.Changing())
	for _, a := range p.Actions {
		switch a.Address {
		case "medina.bucket/fresh":
			require.Equal(t, propose.Edit, a.Kind)
			require.True(t, a.Changes[0].ByHand)
		case "medina.record/named":
			require.Equal(t, propose.Edit, a.Kind)
			require.Equal(t, "values[0]", a.Changes[0].Path)
			require.Equal(t, "10.9.9.9", a.Changes[0].WillBe.V)
		default:
			require.Equal(t, propose.Same, a.Kind, a.Address)
		}
	}
}
