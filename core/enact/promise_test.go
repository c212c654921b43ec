package enact_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/medina"
)

// town is a land whose wards hold things that come, go, change and are
// renamed, also from ward to ward, in the code and by hand.
type town struct {
	*land
	items []*item
	spans map[string]int // of each ward's network
	next  int
	hand  driver.Driver // of somebody who works past the code
}

// item is a resource, or an instance of the kit pair.
type item struct {
	ward, kind, name string
	was              string // as its care says
	mark             int    // a number that edits it
	slot             int    // of a subnet
	on               *item  // the subnet that a machine or a pair stands on
}

func newTown(t *testing.T, seed uint64) *town {
	w := &town{land: newLand(t, seed), spans: map[string]int{}}
	var err error
	w.hand, err = medina.Settings{API: "embedded", Options: medina.Options{Path: filepath.Join(w.dir,
		"medina.db")}}.Driver("keeper-2")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, w.hand.Close()) })
	for range 4 + w.rnd.IntN(8) {
		w.add()
	}
	return w
}

func (w *town) before(a, b string) bool {
	return slices.Index(w.wards, a) < slices.Index(w.wards, b)
}

func (w *town) pick(fits func(*item) bool) *item {
	var list []*item
	for _, x := range w.items {
		if fits(x) {
			list = append(list, x)
		}
	}
	if list == nil {
		return nil
	}
	return list[w.rnd.IntN(len(list))]
}

func (w *town) add() {
	w.next++
	x := &item{ward: w.wards[w.rnd.IntN(len(w.wards))], name: fmt.Sprintf("x%d", w.next), slot: w.next % 200}
	x.on = w.pick(func(s *item) bool { return s.kind == "subnet" && s.ward == x.ward })
	switch n := w.rnd.IntN(4); {
	case n == 0:
		x.kind, x.on = "bucket", nil
	case n == 1 && x.on != nil:
		x.kind = "machine"
	case n == 2:
		if s := w.pick(func(s *item) bool { return s.kind == "subnet" && !w.before(x.ward, s.ward) }); s != nil {
			x.kind, x.on = "pair", s
			break
		}
		fallthrough
	default:
		x.kind, x.on = "subnet", nil
	}
	w.items = append(w.items, x)
}

// mutate changes the code.
func (w *town) mutate() {
	switch x := w.pick(func(*item) bool { return true }); w.rnd.IntN(7) {
	case 0, 1:
		w.add()
	case 2:
		if !slices.ContainsFunc(w.items, func(y *item) bool { return y.on == x }) {
			w.items = slices.DeleteFunc(w.items, func(y *item) bool { return y == x })
		}
	case 3:
		x.mark++
	case 4, 5: // renamed, and moved to another ward where nothing hinders
		if w.next++; strings.HasPrefix(x.name, "new") {
			return
		}
		was := "medina." + x.kind + "/" + x.name
		if x.kind == "pair" {
			was = x.name
		}
		to := w.wards[w.rnd.IntN(len(w.wards))]
		if (x.kind == "bucket" || x.kind == "pair" && !w.before(to, x.on.ward)) && to != x.ward && w.rnd.IntN(2) == 0 {
			was, x.ward = x.ward+":"+was, to
		}
		x.name, x.was = fmt.Sprintf("new%d", w.next), was
	default:
		if w.rnd.IntN(4) == 0 {
			w.spans[w.wards[0]]++ // swaps the network and all that stands on it
		}
	}
}

// byHand changes things past the code.
func (w *town) byHand() {
	ctx := context.Background()
	typ := []string{"bucket", "bucket", "machine", "subnet", "disk"}[w.rnd.IntN(5)]
	var things []driver.Live
	for l, err := range w.hand.List(ctx, typ) {
		require.NoError(w.t, err)
		things = append(things, l)
	}
	if things == nil {
		return
	}
	w.next++
	l := things[w.rnd.IntN(len(things))]
	if typ == "disk" || typ == "bucket" && w.rnd.IntN(2) == 0 {
		require.NoError(w.t, w.hand.Delete(ctx, typ, l.ID, l.Tag, fmt.Sprint("hand", w.next)))
		return
	}
	to := value.Map{"tags": value.Map{"hand": fmt.Sprint(w.next)}}
	if typ == "machine" {
		to = value.Map{"size": "large"}
	}
	_, err := w.hand.Update(ctx, typ, l.ID, driver.Change{To: to}, l.Tag, fmt.Sprint("hand", w.next))
	require.NoError(w.t, err)
}

func (w *town) write() {
	for i, ward := range w.wards {
		var b strings.Builder
		fmt.Fprintf(&b, "load(\"kit:pair\", \"pair\")\nnet = medina.network(\"net\", range = \"10.%d.0.0/16\")\nsubs "+
			"= {}\n", 40*i+w.spans[ward]%40)
		for _, kind := range []string{"subnet", "bucket", "machine", "pair"} {
			for _, x := range w.items {
				if x.kind != kind || x.ward != ward {
					continue
				}
				care := ""
				if x.was != "" {
					care = fmt.Sprintf(", care = care(renamed_from = %q)", x.was)
				}
				tags := ""
				if x.mark > 0 && kind != "pair" {
					tags = fmt.Sprintf(", tags = {\"mark\": \"%d\"}", x.mark)
				}
				size := []string{"tiny", "small"}[x.mark%2]
				switch kind {
				case "subnet":
					fmt.Fprintf(&b, "subs[%q] = medina.subnet(%q, network = net, range = cidr.slice(net.range, 24, "+
						"%d)%s%s)\n", x.name, x.name, x.slot, tags, care)
				case "bucket":
					fmt.Fprintf(&b, "medina.bucket(%q%s%s)\n", x.name, tags, care)
				case "machine":
					fmt.Fprintf(&b, "medina.machine(%q, subnet = subs[%q], size = %q, image = \"stone-%d\"%s)\n",
						x.name, x.on.name, size, x.mark/2, care)
				case "pair":
					on := fmt.Sprintf("published(%q, \"subs\")[%q]", x.on.ward, x.on.name)
					if x.on.ward == ward {
						on = fmt.Sprintf("subs[%q].id", x.on.name)
					}
					fmt.Fprintf(&b, "pair(%q, subnet = %s, size = %q, gigabytes = %d%s)\n", x.name, on, size, 5+x.mark,
						care)
				}
			}
		}
		b.WriteString("publish(\"subs\", {k: s.id for k, s in subs.items()})\n")
		require.NoError(w.t, os.MkdirAll(filepath.Join(w.dir, ward), 0o755))
		require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, ward, ward+".star"), []byte(b.String()), 0o644))
	}
}

func (w *town) feed() []driver.Event {
	var out []driver.Event
	for e, err := range w.drv.(driver.Feed).Changes(context.Background(), driver.Events{}) {
		require.NoError(w.t, err)
		out = append(out, e)
	}
	slices.Reverse(out) // oldest first
	return out
}

// promised is what a proposal shows that the cloud's change feed is to say,
// and how often; paths are the attributes by the id of what is edited.
func promised(p *propose.Proposal) (says map[string]int, paths map[string][]string) {
	says, paths = map[string]int{}, map[string][]string{}
	for _, a := range p.Actions {
		_, typ := propose.SplitType(a.Type)
		switch a.Kind {
		case propose.New:
			says["created "+typ]++
		case propose.Swap:
			says["created "+typ]++
			says["deleted "+a.Plan.Seen.ID]++
		case propose.Drop:
			if !a.Plan.Seen.Gone {
				says["deleted "+a.Plan.Seen.ID]++
			}
		case propose.Edit:
			says["edited "+a.Plan.Seen.ID] += 1 + len(a.Plan.LetGo)
			for _, c := range a.Changes {
				top, _, _ := strings.Cut(c.Path, ".")
				if !slices.Contains(paths[a.Plan.Seen.ID], top) {
					paths[a.Plan.Seen.ID] = append(paths[a.Plan.Seen.ID], top)
				}
			}
		}
	}
	return says, paths
}

// keptPromise enacts what is proposed, and holds what the cloud says was done
// against what the proposal showed.
func (w *town) keptPromise() propose.Counts {
	recorded := map[string]bool{}
	for ward, l := range w.ledgers() {
		s, err := l.Load(context.Background())
		require.NoError(w.t, err)
		for a := range s.Records {
			recorded[value.InWard(ward, a)] = true
		}
	}
	p := w.propose(false, w.wards...)
	require.Empty(w.t, p.Blocked)
	known := map[string]bool{}
	for _, a := range p.Actions {
		require.False(w.t, known[a.Full()], "%s has one action", a.Full())
		known[a.Full()] = true
		if a.Was != "" {
			require.True(w.t, recorded[a.Was] && !known[a.Was], "%s was %s", a.Full(), a.Was)
			known[a.Was] = true
		}
	}
	for a := range recorded {
		require.True(w.t, known[a], "%s is recorded and has no action", a)
	}
	before := len(w.feed())
	w.enact(p)
	says, paths := promised(p)
	for _, e := range w.feed()[before:] {
		what := e.What + " " + e.ID
		if e.What == "created" {
			what = e.What + " " + e.Type
		}
		says[what]--
		for _, path := range e.Paths {
			top, _, _ := strings.Cut(path, ".")
			require.Contains(w.t, paths[e.ID], top, "%s of %s", e.What, e.ID)
		}
	}
	for what, n := range says {
		require.Zero(w.t, n, "%s: shown, less done", what)
	}
	for _, a := range p.Actions {
		if a.Kind != propose.New && a.Kind != propose.Swap {
			continue
		}
		s, err := w.ledgers()[a.Ward].Load(context.Background())
		require.NoError(w.t, err)
		r, err := s.Records[a.Address].Record()
		require.NoError(w.t, err)
		for name, v := range a.Plan.Inputs {
			if !value.IsPending(v) {
				require.False(w.t, propose.ValuesDiffer(v, r.Live[name]), "%s %s", a.Full(), name)
			}
		}
	}
	w.settled(w.wards...)
	for _, ward := range w.wards {
		w.settled(ward)
	}
	return p.Counts
}

// TestPromiseKept: over random estates with nested kits and several wards, random
// hand edits and random changes of the code, renames within and between wards
// among them: every address has one action, and the cloud's change feed says
// what the proposal showed, no more and no less.
func TestPromiseKept(t *testing.T) {
	towns, rounds := sample(50, 15, 3), 10
	sums := make([]propose.Counts, towns)
	t.Run("towns", func(t *testing.T) {
		for seed := range towns {
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				w := newTown(t, uint64(seed))
				w.write()
				for range rounds {
					c := w.keptPromise()
					s := &sums[seed]
					s.New, s.Edit, s.Swap, s.Drop, s.Rename, s.Same = s.New+c.New, s.Edit+c.Edit, s.Swap+c.Swap,
						s.Drop+c.Drop, s.Rename+c.Rename, s.Same+c.Same
					for range 1 + w.rnd.IntN(4) {
						w.mutate()
					}
					for range w.rnd.IntN(4) {
						w.byHand()
					}
					w.write()
				}
			})
		}
	})
	var all propose.Counts
	for _, s := range sums {
		all.New, all.Edit, all.Swap, all.Drop, all.Rename, all.Same = all.New+s.New, all.Edit+s.Edit, all.Swap+s.Swap,
			all.Drop+s.Drop, all.Rename+s.Rename, all.Same+s.Same
	}
	for _, n := range []int{all.New, all.Edit, all.Swap, all.Drop, all.Rename, all.Same} {
		require.NotZero(t, n, "every action was among them: %+v", all)
	}
	t.Logf("%d cases: %+v", towns*rounds, all)
}

// TestKilledBetweenLedgers: killed before or after each write of a rename from
// ward to ward, no run drops the thing or makes another one, and the next one
// over both wards ends the rename.
func TestKilledBetweenLedgers(t *testing.T) {
	for at := 1; ; at++ {
		died := false
		for _, after := range []bool{false, true} {
			w := newTown(t, 1)
			from, to := w.wards[0], w.wards[1]
			w.items = []*item{{ward: from, kind: "bucket", name: "log"}, {ward: from, kind: "subnet", name: "s"}}
			w.write()
			w.enact(w.propose(false, w.wards...))
			w.items[0].ward, w.items[0].name, w.items[0].was = to, "readings", from+":medina.bucket/log"
			w.write()
			p := w.propose(false, w.wards...)
			require.Equal(t, 1, p.Counts.Rename)
			m := &mortal{dieAt: at, after: after}
			ended := make(chan struct{})
			go func() {
				defer close(ended)
				_, _ = enact.Enact(context.Background(), p, enact.Options{
					Run: "doomed",
					Clouds: enact.Clouds{Drivers: map[string]driver.Driver{"medina": &mortalDriver{w.drv, m}},
						Catalogs: map[string]*schema.Catalog{"medina": w.catalog},
						Ledgers:  w.ledgersIn(&mortalStore{w.store, m})},
					Pace: enact.Pace{Shows: -1},
				})
			}()
			<-ended
			died = m.dead
			if !died {
				break
			}
			for _, l := range w.ledgers() {
				s, err := l.Load(context.Background())
				require.NoError(t, err)
				if len(s.Holders()) > 0 {
					require.NoError(t, l.Break(context.Background(), "doomed", "it was killed", ""))
				}
			}
			alone := w.propose(false, from)
			for _, a := range alone.Actions {
				require.False(t, a.Kind == propose.Drop && len(alone.Blocked) == 0,
					"%d %v: %s would be dropped by %s alone", at, after, a.Full(), from)
			}
			w.enact(w.propose(false, w.wards...))
			w.settled(w.wards...)
			var ids []string
			for l, err := range w.drv.List(context.Background(), "bucket") {
				require.NoError(t, err)
				ids = append(ids, l.ID)
			}
			require.Equal(t, []string{"bkt-0001"}, ids, "%d %v", at, after)
		}
		if !died {
			require.Greater(t, at, 5)
			return
		}
	}
}
