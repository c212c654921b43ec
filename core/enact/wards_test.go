package enact_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/medina"
	"kasbah/stores/memory"
)

// pairKit and lampKit nest: each place of a pair opens two lamps.
const pairKit = `load("kit:lamp", "lamp")
def _pair(subnet, size, gigabytes):
    return [lamp(n, subnet = subnet, size = size, gigabytes = gigabytes) for n in ["left", "right"]]
pair = kit(_pair, inputs = {"subnet": kind.text, "size": kind.text, "gigabytes": kind.int(default = 5)})
`

const lampKit = `def _lamp(subnet, size, gigabytes):
    m = medina.machine("bulb", subnet = subnet, size = size, image = "stone-1")
    medina.disk("oil", machine = m, gigabytes = gigabytes)
    return m.address
lamp = kit(_lamp, inputs = {"subnet": kind.text, "size": kind.text, "gigabytes": kind.int})
`

// land is a random estate of several wards in a row: each may read what those
// before it publish.
type land struct {
	t       *testing.T
	rnd     *rand.Rand
	dir     string
	wards   []string
	subnets map[string]int      // of each ward
	marks   map[string]int      // a number that edits a ward's machines
	uses    map[string][]string // ward -> `WARD INDEX` of the subnets it puts pairs into
	drv     driver.Driver
	catalog *schema.Catalog
	store   store.Store
	runs    int
}

func newLand(t *testing.T, seed uint64) *land {
	l := &land{t: t, rnd: rand.New(rand.NewPCG(seed, 3)), dir: t.TempDir(), subnets: map[string]int{},
		marks: map[string]int{}, uses: map[string][]string{}, store: memory.New()}
	for i := range 2 + l.rnd.IntN(3) {
		l.wards = append(l.wards, fmt.Sprintf("ward%d", 9-i)) // later ones sort first
	}
	put := func(name, body string) {
		path := filepath.Join(l.dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	put("kasbah.toml", fmt.Sprintf("estate = \"land\"\nwards = [\"%s\"]\n[drivers.medina]\nkind = "+
		"\"medina\"\n[kits]\npair = \"kits/pair\"\nlamp = \"kits/lamp\"\n[env.trial]\n",
		strings.Join(l.wards, "\", \"")))
	put("kits/pair/kit.toml", "name = \"pair\"\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\nkits = [\"lamp\"]\n")
	put("kits/pair/kit.star", pairKit)
	put("kits/lamp/kit.toml", "name = \"lamp\"\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\n")
	put("kits/lamp/kit.star", lampKit)
	var err error
	l.drv, err = medina.Settings{API: "embedded", Options: medina.Options{Path: filepath.Join(l.dir,
		"medina.db")}}.Driver("tester")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.drv.Close()) })
	l.catalog, err = l.drv.Describe(context.Background())
	require.NoError(t, err)
	return l
}

// grow changes every ward at random and writes it.
func (l *land) grow() {
	for i, w := range l.wards {
		if l.subnets[w] == 0 || l.rnd.IntN(3) == 0 {
			l.subnets[w]++
		}
		if l.rnd.IntN(2) == 0 {
			l.marks[w]++
		}
		if i > 0 && l.rnd.IntN(3) > 0 {
			from := l.wards[l.rnd.IntN(i)]
			use := fmt.Sprintf("%s %d", from, l.rnd.IntN(l.subnets[from]))
			if !slices.Contains(l.uses[w], use) {
				l.uses[w] = append(l.uses[w], use)
			}
		}
		var b strings.Builder
		fmt.Fprintf(&b, "load(\"kit:pair\", \"pair\")\nnet = medina.network(\"net\", range = \"10.%d.0.0/16\")\nsubs "+
			"= [medina.subnet(\"s-%%d\" %% i, network = net, range = cidr.slice(\"10.%d.0.0/16\", 24, i)) for i in "+
			"range(%d)]\n", i, i, l.subnets[w])
		fmt.Fprintf(&b, "publish(\"subs\", {str(i): s.id for i, s in enumerate(subs)})\npublish(\"mark\", %d)\n",
			l.marks[w])
		for n, use := range l.uses[w] {
			from, index, _ := strings.Cut(use, " ")
			fmt.Fprintf(&b, "pair(\"p-%d\", subnet = published(%q, \"subs\")[%q], size = %q, gigabytes = %d + "+
				"published(%q, \"mark\"))\n",
				n, from, index, []string{"tiny", "small"}[l.marks[w]%2], 5+l.marks[w], from)
		}
		path := filepath.Join(l.dir, w)
		require.NoError(l.t, os.MkdirAll(path, 0o755))
		require.NoError(l.t, os.WriteFile(filepath.Join(path, w+".star"), []byte(b.String()), 0o644))
	}
}

func (l *land) drivers() map[string]driver.Driver { return map[string]driver.Driver{"medina": l.drv} }

func (l *land) catalogs() map[string]*schema.Catalog {
	return map[string]*schema.Catalog{"medina": l.catalog}
}

func (l *land) ledgers() map[string]*ledger.Ledger { return l.ledgersIn(l.store) }

func (l *land) ledgersIn(s store.Store) map[string]*ledger.Ledger {
	out := map[string]*ledger.Ledger{}
	for _, w := range l.wards {
		var err error
		out[w], err = ledger.New(s, "land", "trial", w, ledger.Identity{Who: "tester", Host: "here", Program: "test"})
		require.NoError(l.t, err)
	}
	return out
}

func (l *land) propose(raze bool, wards ...string) *propose.Proposal {
	ctx := context.Background()
	ledgers := l.ledgers()
	load := func(w string) (*ledger.State, error) { return ledgers[w].Load(ctx) }
	o := propose.Options{Estate: "land", Env: "trial", Choice: propose.Choice{Wards: wards}, Catalogs: l.catalogs(),
		States: map[string]*ledger.State{}, Elsewhere: propose.Elsewhere{Outside: load}}
	for _, w := range l.wards {
		if slices.Contains(wards, w) {
			s, err := load(w)
			require.NoError(l.t, err)
			o.States[w] = s
		} else {
			o.Others = append(o.Others, w)
		}
	}
	if !raze {
		o.Declared = l.declared(wards)
	}
	var err error
	o.RenamedAway = func() (map[string]string, error) { return l.renamedAway(o.Others) }
	o.Live, err = propose.ReadLive(ctx, l.drivers(), o.Catalogs, o.States, nil)
	require.NoError(l.t, err)
	p, err := propose.Propose(ctx, o)
	require.NoError(l.t, err)
	require.NoError(l.t, p.Check())
	return p
}

// declared evaluates wards, which read what others publish from their ledgers.
func (l *land) declared(wards []string) *declare.Declared {
	ctx := context.Background()
	ledgers := l.ledgers()
	e, err := estate.Load(l.dir)
	require.NoError(l.t, err)
	opener, err := kits.New(l.dir)
	require.NoError(l.t, err)
	all := opener.Open(ctx, e.Kits("trial"))
	defer kits.Close(all)
	d, problems := declare.Evaluate(ctx, declare.Options{
		Estate: e, Env: "trial", Wards: wards, Catalogs: l.catalogs(), Kinds: map[string]string{"medina": "medina"},
		Kits: all,
		Published: func(w string) (value.Map, error) {
			s, err := ledgers[w].Load(ctx)
			require.NoError(l.t, err)
			out := value.Map{}
			for n, v := range s.Published {
				out[n] = v
			}
			for n, v := range s.Offered {
				out[n] = v
			}
			return out, nil
		},
	})
	require.NoError(l.t, problems.Err())
	return d
}

func (l *land) renamedAway(others []string) (map[string]string, error) {
	out := map[string]string{}
	if len(others) == 0 {
		return out, nil
	}
	for _, r := range l.declared(others).Resources {
		for _, former := range r.Former {
			out[former] = r.Full()
		}
	}
	return out, nil
}

func (l *land) enact(p *propose.Proposal) {
	l.runs++
	r, err := enact.Enact(context.Background(), p, enact.Options{
		Run:    fmt.Sprintf("run-%d", l.runs),
		Clouds: enact.Clouds{Drivers: l.drivers(), Catalogs: l.catalogs(), Ledgers: l.ledgers()},
		Pace:   enact.Pace{Shows: -1},
	})
	require.NoError(l.t, err)
	require.Empty(l.t, r.Failures)
	require.Equal(l.t, p.Counts.Changing(), r.Counts.Done)
}

func (l *land) settled(wards ...string) {
	p := l.propose(false, wards...)
	for _, a := range p.Actions {
		require.Equal(l.t, propose.Same, a.Kind, "%s of %v: %v", a.Full(), wards, a.Changes)
		require.Nil(l.t, a.Plan, "%s means the same alone and together", a.Full())
	}
	require.True(l.t, p.Idle(), "nothing is left to record for %v", wards)
}

// TestRandomWards: random wards that read each other's values through nested
// kits are enacted together or one by one. Afterwards nothing is left to do,
// however they are taken, and what others use cannot be dropped alone.
func TestRandomWards(t *testing.T) {
	cases := sample(12, 12, 3)
	for seed := range cases {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			l := newLand(t, uint64(seed))
			for range 5 {
				l.grow()
				if l.rnd.IntN(2) == 0 {
					l.enact(l.propose(false, l.wards...))
				} else {
					for _, w := range l.wards {
						l.enact(l.propose(false, w))
					}
				}
				l.settled(l.wards...)
				for _, w := range l.wards {
					l.settled(w)
				}
			}
			used := map[string]bool{}
			for _, uses := range l.uses {
				for _, u := range uses {
					from, _, _ := strings.Cut(u, " ")
					used[from] = true
				}
			}
			for _, w := range l.wards {
				require.Equal(t, used[w], len(l.propose(true, w).Blocked) > 0, "%s is used by others", w)
			}
			l.enact(l.propose(true, l.wards...))
			for _, typ := range l.catalog.Names() {
				for thing, err := range l.drv.List(context.Background(), typ) {
					require.NoError(t, err)
					t.Errorf("%s %s is left", typ, thing.ID)
				}
			}
		})
	}
}
