package enact_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/file"
	"kasbah/stores/memory"
	"kasbah/stores/postgres"
	"kasbah/stores/servertest"
)

// mortal is a program that dies at its n-th step: a put into the store or a
// call to the cloud, before or after its effect. From then on nothing that it
// does reaches anybody.
type mortal struct {
	mu    sync.Mutex
	steps int
	dieAt int
	after bool // the last step still has its effect
	dead  bool
}

// step counts a step and reports whether it has its effect, and whether the
// program lives on to see it.
func (m *mortal) step() (effect, alive bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.dead {
		return false, false
	}
	m.steps++
	if m.steps == m.dieAt {
		m.dead = true
		return m.after, false
	}
	return true, true
}

var errKilled = errors.New("killed")

// mortalStore ends the goroutine that writes, as a kill does.
type mortalStore struct {
	store.Store
	m *mortal
}

func (s *mortalStore) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	effect, alive := s.m.step()
	var err error
	if effect {
		err = s.Store.PutIfAbsent(ctx, key, body)
	}
	if !alive {
		runtime.Goexit()
	}
	return err
}

type mortalDriver struct {
	driver.Driver
	m *mortal
}

func (d *mortalDriver) around(do func() (driver.Live, error)) (driver.Live, error) {
	effect, alive := d.m.step()
	var l driver.Live
	var err error
	if effect {
		l, err = do()
	}
	if !alive {
		return driver.Live{}, errKilled // its result can no longer be written
	}
	return l, err
}

func (d *mortalDriver) Create(ctx context.Context, typ string, in value.Map, key string) (driver.Live, error) {
	return d.around(func() (driver.Live, error) { return d.Driver.Create(ctx, typ, in, key) })
}

func (d *mortalDriver) Update(ctx context.Context, typ, id string, c driver.Change, tag, key string) (driver.Live,
	error) {
	return d.around(func() (driver.Live, error) { return d.Driver.Update(ctx, typ, id, c, tag, key) })
}

func (d *mortalDriver) Delete(ctx context.Context, typ, id, tag, key string) error {
	_, err := d.around(func() (driver.Live, error) { return driver.Live{}, d.Driver.Delete(ctx, typ, id, tag, key) })
	return err
}

func (d *mortalDriver) Copy(ctx context.Context, typ, id, key string) (driver.Live, error) {
	return d.around(func() (driver.Live, error) { return d.Driver.(driver.Copier).Copy(ctx, typ, id, key) })
}

// everyAction makes an estate and changes it so that its next run holds a
// new, edits in place and with letting go, swaps in both orders with their
// chains, drops, and renames with and without an edit or a swap.
func everyAction(t *testing.T) *coast { return everyActionIn(t, memory.New(), nil) }

func everyActionIn(t *testing.T, s store.Store, box *seal.Box) *coast {
	c := newCoast(t, 1)
	c.store, c.box = s, box
	return c.everyAction()
}

// put declares a resource, attributes as pairs of names and Starlark.
func (c *coast) put(typ, name, on string, attrs ...string) {
	x := &thing{typ: typ, name: name, on: on, attrs: map[string]string{}}
	for i := 0; i+1 < len(attrs); i += 2 {
		x.attrs[attrs[i]] = attrs[i+1]
	}
	c.things[name] = x
}

func (c *coast) everyAction() *coast {
	put := c.put
	put("network", "net", "", "range", `"10.0.0.0/16"`)
	put("subnet", "moved", "net", "range", `"10.0.1.0/24"`)
	put("machine", "onmoved", "moved", "size", `"small"`, "image", `"stone-1"`)
	put("disk", "letgo", "onmoved", "gigabytes", "10")
	put("subnet", "stays", "net", "range", `"10.0.2.0/24"`)
	put("machine", "imaged", "stays", "size", `"small"`, "image", `"stone-1"`)
	put("disk", "follows", "imaged", "gigabytes", "10")
	put("record", "named", "imaged", "name", `"a.example"`, "kind", `"A"`, "values", "[imaged.address]")
	put("bucket", "edited", "", "versions", "True")
	put("bucket", "dropped", "")
	put("bucket", "shed", "")
	put("bucket", "hut", "")
	put("machine", "post", "stays", "size", `"small"`, "image", `"stone-1"`)
	c.write()
	c.enact(c.propose(false))
	c.things["moved"].attrs["range"] = `"10.0.3.0/24"`
	c.things["imaged"].attrs["image"] = `"stone-2"`
	c.things["edited"].attrs["versions"] = "False"
	delete(c.things, "dropped")
	for was, is := range map[string]string{"shed": "barn", "hut": "cabin", "post": "mast"} {
		x := c.things[was]
		x.name, x.attrs["care"] = is, fmt.Sprintf("care(renamed_from = \"medina.%s/%s\")", x.typ, was)
		c.things[is] = x
		delete(c.things, was)
	}
	c.things["cabin"].attrs["tags"] = `{"a": "b"}`
	c.things["mast"].attrs["image"] = `"stone-2"`
	put("bucket", "fresh", "", "tags", `{"a": "b"}`)
	c.adopt = propose.Adoption{AndEdit: true, Things: map[string]propose.Taken{}}
	for _, name := range []string{"found", "foundedited"} {
		l, err := c.drv.Create(context.Background(), "bucket", value.Map{"name": "by-hand-" + name}, "")
		require.NoError(c.t, err)
		c.adopt.Things["shore:medina.bucket/"+name] = propose.Taken{ID: l.ID}
	}
	put("bucket", "found", "", "versions", "False")
	put("bucket", "foundedited", "", "versions", "True")
	c.write()
	return c
}

// picture is what Medina holds, with names in place of ids, so that two
// Medinas can be compared.
func (c *coast) picture() map[string]string {
	names := map[string]string{}
	live := c.live()
	for id, l := range live {
		names[id] = fmt.Sprint(l.Attributes["name"])
	}
	out := map[string]string{}
	for id, l := range live {
		attrs := value.CloneMap(l.Attributes)
		delete(attrs, "id")
		delete(attrs, "address") // which address is free depends on what was there before
		delete(attrs, "free")
		if l.Attributes["kind"] == "A" {
			delete(attrs, "values")
		}
		for k, v := range attrs {
			if id, ok := v.(string); ok && names[id] != "" {
				attrs[k] = "the one called " + names[id]
			}
		}
		out[names[id]] += string(value.Encode(attrs)) // doubles show
	}
	return out
}

func (c *coast) options(run string, d driver.Driver, s store.Store) enact.Options {
	l, err := ledger.New(s, "coast", "trial", "shore", ledger.Identity{Who: "tester", Host: "here", Program: "test"})
	require.NoError(c.t, err)
	if c.box != nil {
		l.SealWith(c.box)
	}
	return enact.Options{
		Run: run,
		Clouds: enact.Clouds{Drivers: map[string]driver.Driver{"medina": d},
			Catalogs: map[string]*schema.Catalog{"medina": c.catalog}, Ledgers: map[string]*ledger.Ledger{"shore": l}},
		Pace:    enact.Pace{Shows: -1, Parallel: 1},
		Secrets: enact.Secrets{Sealed: c.box != nil, Secret: c.secret},
	}
}

// killAt runs the change, dies at a step, and goes on as the next person
// would. It reports whether the run was long enough to die.
func killAt(t *testing.T, estate func(*testing.T) *coast, at int, after bool, want map[string]string) bool {
	ctx := context.Background()
	c := estate(t)
	p := c.propose(false)
	m := &mortal{dieAt: at, after: after}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		// nobody hears of its end
		_, _ = enact.Enact(ctx, p, c.options("doomed", &mortalDriver{c.drv, m}, &mortalStore{c.store, m}))
	}()
	<-ended
	if !m.dead {
		return false
	}
	// another program, later
	s, err := c.ledger().Load(ctx)
	require.NoError(t, err)
	if len(s.Holders()) > 0 {
		require.NoError(t, c.ledger().Break(ctx, "doomed", "it was killed", ""))
	}
	c.settled("killed", want)
	return true
}

// TestKillAfterEveryStep: killed before and after every single append and
// every single call of a run of every action, the next run ends with the same
// cloud as an undisturbed one.
func TestKillAfterEveryStep(t *testing.T) {
	c := everyAction(t)
	p := c.propose(false)
	require.Equal(t, propose.Counts{New: 1, Edit: 6, Swap: 4, Drop: 1, Adopt: 1, Rename: 1, Same: 2}, p.Counts)
	killEverywhere(t, everyAction, sample(1, 1, 3), 30)
}

// TestKillOnStores is the same with the ledger in files, sealed, and on a server. It
// takes a sample of the moments; in thorough runs, all.
func TestKillOnStores(t *testing.T) {
	if testing.Short() {
		t.Skip("TestKillAfterEveryStep takes the same way")
	}
	stride := sample(1, 15, 15)
	t.Run("file", func(t *testing.T) {
		killEverywhere(t, func(t *testing.T) *coast {
			s, err := file.Open(t.TempDir())
			require.NoError(t, err)
			return everyActionIn(t, s, nil)
		}, stride, 30)
	})
	t.Run("sealed", func(t *testing.T) {
		id, err := age.GenerateX25519Identity()
		require.NoError(t, err)
		e := seal.NewEstate()
		killEverywhere(t, func(t *testing.T) *coast {
			s, err := file.Open(t.TempDir())
			require.NoError(t, err)
			box, err := seal.NewBox(e.Pin(), []string{id.Recipient().String()}, func() ([]age.Identity,
				error) {
				return []age.Identity{id}, nil
			})
			require.NoError(t, err)
			box.Fetch = func(context.Context) (seal.Estate, error) { return e, nil }
			return everyActionIn(t, s, box)
		}, stride, 30)
	})
	t.Run("postgres", func(t *testing.T) {
		server, n := servertest.Postgres(t), 0
		killEverywhere(t, func(t *testing.T) *coast {
			n++
			s, err := postgres.Open(postgres.Settings{DSN: server.DSN("postgres"), Table: fmt.Sprintf("kill_%d", n)})
			require.NoError(t, err)
			t.Cleanup(func() { s.Close() })
			return everyActionIn(t, s, nil)
		}, stride, 30)
	})
}

// plainCloud is a cloud that remembers no keys and knows no tags.
type plainCloud struct{ driver.Driver }

func (d plainCloud) Create(ctx context.Context, typ string, in value.Map, _ string) (driver.Live, error) {
	return d.Driver.Create(ctx, typ, in, "")
}

func (d plainCloud) Update(ctx context.Context, typ, id string, c driver.Change, _, _ string) (driver.Live, error) {
	return d.Driver.Update(ctx, typ, id, c, "", "")
}

func (d plainCloud) Delete(ctx context.Context, typ, id, _, _ string) error {
	return d.Driver.Delete(ctx, typ, id, "", "")
}

// plain makes the estate's cloud a plain one, whose things have names of their own.
func (c *coast) plain() *coast {
	c.drv = plainCloud{c.drv}
	for _, t := range c.catalog.Types {
		t.KeyMemory, t.Tags, t.Copies, t.Identify = 0, false, false, []string{"name"}
	}
	return c
}

// TestKillOnAPlainCloud is the same where what a dead run made is known by what
// identifies it alone.
func TestKillOnAPlainCloud(t *testing.T) {
	oneByOne(t)
	killEverywhere(t, func(t *testing.T) *coast { return newCoast(t, 1).plain().everyAction() }, 1, 30)
}

// TestKillOnEveryMix is the same on clouds with and without keys, tags, names and slow
// work, seen through HTTP.
func TestKillOnEveryMix(t *testing.T) {
	for bits := 0; bits < 16; bits += sample(1, 15, 15) {
		m := mix{bits&1 > 0, bits&2 > 0, bits&4 > 0, bits&8 > 0}
		t.Run(m.String(), func(t *testing.T) {
			t.Parallel()
			killEverywhere(t, func(t *testing.T) *coast {
				c := newCoast(t, 1)
				c.behind(m)
				return c.everyAction()
			}, sample(1, 17, 41), 20)
		})
	}
}

// TestPlainCloud: where nothing tells of changes by others a thing is read right
// before it is changed, and what may have been made is not made again.
func TestPlainCloud(t *testing.T) {
	ctx := context.Background()
	c := corner(t).plain()
	c.things["western"].attrs["size"] = `"medium"`
	c.write()
	p := c.propose(false)
	require.Contains(t, p.NotAssured, "medina.machine has no idempotency keys and no entity tags")
	var western string
	for id, l := range c.live() {
		if l.Attributes["name"] == "trial-shore-western" {
			western = id
		}
	}
	_, err := c.drv.Update(ctx, "machine", western, driver.Change{To: value.Map{"size": "large"}}, "", "")
	require.NoError(t, err)
	f := &faulty{Driver: c.drv, keys: map[string]int{}}
	f.before = func(call, _, _ string) error { t.Errorf("%s: a hand edit is overwritten", call); return nil }
	r, err := enact.Enact(ctx, p, c.options("overtaken", f, c.store))
	require.NoError(t, err)
	require.Len(t, r.Failures, 1)
	require.Contains(t, r.Failures[0].Message, "size was changed from small to large since it was read")

	c.machine("lamp", "west")
	creates := 0
	f.before = nil
	f.after = func(call, _, _ string, _ driver.Live) error {
		if call != "create" {
			return nil
		}
		creates++
		return &driver.Error{Message: "the connection was lost", Passing: true}
	}
	r, err = enact.Enact(ctx, c.propose(false), c.options("lost", f, c.store))
	require.NoError(t, err)
	require.Zero(t, r.Counts.Unclear, "what identifies it tells that it was made")
	require.Equal(t, 1, creates, "it is not made again")
	c.enact(c.propose(false))
	names := map[any]int{}
	for _, l := range c.live() {
		names[l.Attributes["name"]]++
	}
	require.Equal(t, 1, names["trial-shore-lamp"])
	for _, a := range c.propose(false).Actions {
		require.Equal(t, propose.Same, a.Kind, a.Address)
	}
}

// TestKillAroundCopies is the same for a run that keeps copies of what it drops
// and swaps: each of them is made once.
func TestKillAroundCopies(t *testing.T) {
	oneByOne(t)
	killEverywhere(t, copying, 1, 10)
}

func killEverywhere(t *testing.T, estate func(*testing.T) *coast, stride, atLeast int) {
	c := estate(t)
	c.enact(c.propose(false))
	want := c.picture()
	stride = max(stride, sample(1, 5, 17))
	steps := 0
	for at := 1; ; at += stride {
		alive := false
		for _, after := range []bool{false, true} {
			ok := t.Run(fmt.Sprintf("%d after %v", at, after), func(t *testing.T) {
				alive = !killAt(t, estate, at,
					after, want)
			})
			if !ok {
				return
			}
		}
		if alive {
			break
		}
		steps = at
	}
	require.Greater(t, steps, atLeast)
	t.Logf("killed at %d of %d steps, before and after each", (steps+stride-1)/stride, steps)
}
