package propose

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// sea is an estate of two wards on a made-up cloud whose lamps refer to lamps.
type sea struct {
	t       testing.TB
	o       Options
	outside map[string]*ledger.State
	e       *estate.Estate
	typ     *schema.Type
}

func newSea(t testing.TB, shore, rulesText string) *sea {
	typ := lamp()
	typ.Attributes = append(typ.Attributes, &schema.Attribute{Name: "next", Kind: schema.Text, Refers: "lamp"},
		&schema.Attribute{Name: "light", Kind: schema.Text, Output: true})
	typ.Price = &schema.Price{Month: 1, By: map[string]map[string]float64{"size": {"s": 2, "l": 5}},
		Per: map[string]float64{"level": 0.5}}
	typ.Index()
	dir := t.TempDir()
	for name, body := range map[string]string{"shore/shore.star": shore, "rules/house.star": rulesText,
		"kasbah.toml": "estate = \"coast\"\nwards = [\"shore\", \"signal\"]\n[drivers.sea]\nkind = " +
			"\"medina\"\n[env.trial]\n"} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	e, err := estate.Load(dir)
	require.NoError(t, err)
	s := &sea{t: t, e: e, typ: typ, outside: map[string]*ledger.State{"signal": ledger.NewState()}}
	s.o = Options{
		Estate: "coast", Env: "trial", Choice: Choice{Wards: []string{"shore"}},
		States:   map[string]*ledger.State{"shore": ledger.NewState()},
		Catalogs: map[string]*schema.Catalog{"sea": {Types: map[string]*schema.Type{"lamp": typ}}}, Live: Live{},
		Elsewhere: Elsewhere{Others: []string{"signal"}, Outside: func(w string) (*ledger.State, error) {
			if st := s.outside[w]; st != nil {
				return st, nil
			}
			return nil, errors.New("no such ward")
		}},
	}
	d := declare.Options{
		Estate: e, Env: "trial", Wards: s.o.Wards, Catalogs: s.o.Catalogs, Kinds: map[string]string{"sea": "medina"},
		Published: func(string) (value.Map, error) {
			return value.Map{"id": value.NewRef("signal:sea.lamp/mast", value.Key("id")), "word": "plain"}, nil
		},
	}
	declared, list := declare.Evaluate(context.Background(), d)
	require.NoError(t, list.Err())
	s.o.Declared = declared
	set, list := rules.Load(context.Background(), d, time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC))
	require.NoError(t, list.Err())
	t.Cleanup(func() { require.NoError(t, set.Close()) })
	s.o.Rules = set
	return s
}

func (s *sea) record(name string, live value.Attributes, needs ...string) *ledger.Record {
	return &ledger.Record{Address: "sea.lamp/" + name, Type: "sea.lamp", ID: "id-" + name,
		Inputs: value.Attributes{"size": "s"}, Live: live, Needs: needs, Version: 1}
}

func (s *sea) propose() *Proposal {
	p, err := Propose(context.Background(), s.o)
	require.NoError(s.t, err)
	require.NoError(s.t, p.Check())
	return p
}

func (s *sea) refused(words string) {
	_, err := Propose(context.Background(), s.o)
	require.ErrorContains(s.t, err, words)
}

func find(p *Proposal, address string) *Action {
	for _, a := range p.Actions {
		if a.Address == address {
			return a
		}
	}
	return nil
}

func fromOf(a *Action, path string) string {
	for _, c := range a.Changes {
		if c.Path == path {
			return c.From
		}
	}
	return ""
}

// TestOtherWards: what another ward has comes from its ledger; what is not
// there yet is an error that says what to do.
func TestOtherWards(t *testing.T) {
	s := newSea(t, "sea.lamp(\"buoy\", size = \"s\", next = published(\"signal\", \"id\"), name = "+
		"published(\"signal\", \"word\"))\n", "")
	s.refused("it uses sea.lamp/mast id of ward signal, whose ledger does not have it: enact signal first")
	s.outside["signal"] = ledger.NewState(s.record("mast", value.Attributes{"id": "id-mast"}))
	p := s.propose()
	a := find(p, "sea.lamp/buoy")
	require.Equal(t, "id-mast", a.Plan.Inputs["next"])
	require.Equal(t, []Use{{Address: "signal:sea.lamp/mast", Path: "id", Value: value.Any{V: "id-mast"}}}, a.Plan.Uses)
	require.Equal(t, []string{"signal:sea.lamp/mast"}, a.Needs)
	require.Equal(t, []string{"signal id", "signal word"}, p.Wards[0].Reads)
	require.Equal(t, &Cost{Was: 0, WillBe: 4.5, Change: 4.5}, p.Cost)

	// what another ward's ledger cannot tell is passed on
	s.outside["signal"] = nil
	s.refused("no such ward")
}

// TestUsedByOthers: dropping what another ward needs, or no longer publishing
// what it reads, is refused; a swap is warned of.
func TestUsedByOthers(t *testing.T) {
	s := newSea(t, "sea.lamp(\"kept\", kind = \"new\", name = \"n\")\npublish(\"still\", 1)\n", "")
	s.o.States["shore"] = ledger.NewState(s.record("kept", value.Attributes{"kind": "old", "name": "n"}),
		s.record("gone", nil))
	s.o.States["shore"].Published = value.Attributes{"still": int64(1), "old": int64(2)}
	s.o.Live = Live{"sea.lamp": {"id-kept": ThingOf(driver.Live{ID: "id-kept", Attributes: value.Map{"kind": "old",
		"name": "n"}}), "id-gone": ThingOf(driver.Live{ID: "id-gone"})}}
	require.Empty(t, s.propose().Blocked, "nobody uses it")

	s.outside["signal"] = ledger.NewState(s.record("a", nil, "shore:sea.lamp/gone"),
		s.record("b", nil, "shore:sea.lamp/gone"), s.record("c", nil, "shore:sea.lamp/kept"),
		s.record("d", nil, "shore:sea.lamp/gone"), s.record("e", nil, "shore:sea.lamp/gone"))
	s.outside["signal"].Reads = []string{"shore old", "shore still"}
	p := s.propose()
	var said []string
	for _, b := range p.Blocked {
		said = append(said, b.Because)
	}
	require.Equal(t, []string{
		"ward signal uses it for sea.lamp/a, sea.lamp/b, sea.lamp/d and 1 more, and is not part of this; take both " +
			"wards together, or change signal first",
		"ward signal reads old, which would no longer be published, and is not part of this; take both wards " +
			"together, or change signal first",
	}, said)
	require.Contains(t, strings.Join(p.Warnings, "\n"), "ward signal uses shore:sea.lamp/kept, which is swapped")
}

// TestFind: exactly one, live or as the last run found it, and none that the
// estate manages.
func TestFind(t *testing.T) {
	s := newSea(t, "old = sea.lamp.find(name = \"old\")\nsea.lamp(\"buoy\", next = old, tags = {\"light\": "+
		"old.light})\nfirst = sea.lamp(\"first\")\nsea.lamp(\"late\", next = sea.lamp.find(name = first.light))\n", "")
	things := []driver.Live{{ID: "id-7", Attributes: value.Map{"id": "id-7", "light": "red"}}}
	s.o.Find = func(typ string, match value.Map) ([]driver.Live, error) {
		require.Equal(t, "sea.lamp", typ)
		require.Equal(t, value.Map{"name": "old"}, match, "what is pending is not asked for")
		return things, nil
	}
	p := s.propose()
	a := find(p, "sea.lamp/buoy")
	require.Equal(t, "id-7", a.Plan.Inputs["next"])
	require.Equal(t, value.Map{"light": "red"}, a.Plan.Inputs["tags"])
	require.Empty(t, a.Needs)
	require.Equal(t, []string{"shore:sea.lamp/first"}, find(p, "sea.lamp/late").Needs)
	require.Len(t, p.Finds, 2)
	require.Equal(t, []foundFrom{FromLater, FromLive}, []foundFrom{p.Finds[0].From, p.Finds[1].From})
	require.True(t, p.Wards[0].Republish, "what was found is recorded")

	s.outside["signal"] = ledger.NewState(&ledger.Record{Address: "sea.lamp/mast", Type: "sea.lamp", ID: "id-7"})
	s.refused("it finds id-7, which the estate manages as signal:sea.lamp/mast")
	s.outside["signal"] = ledger.NewState()
	things = nil
	s.refused("shore/shore.star:1:7: sea.lamp.find: nothing matches")
	things = []driver.Live{{ID: "a"}, {ID: "b"}, {ID: "c"}, {ID: "d"}, {ID: "e"}}
	s.refused("5 things match, and exactly one is wanted: a, b, c and 2 more")
	s.o.Find = func(string, value.Map) ([]driver.Live, error) { return nil, errors.New("the cloud is away") }
	s.refused("the cloud is away")

	s.o.Find, s.o.Live = nil, nil // offline
	p = s.propose()
	require.Equal(t, FromNowhere, p.Finds[1].From)
	require.Equal(t, "find(sea.lamp name old) id", fromOf(find(p, "sea.lamp/buoy"), "next"))
	s.o.States["shore"].Found = map[string]value.Attributes{"find(sea.lamp name old)": {"id": "id-8", "light": "green"}}
	p = s.propose()
	require.Equal(t, FromLastRun, p.Finds[1].From)
	require.Equal(t, "id-8", find(p, "sea.lamp/buoy").Plan.Inputs["next"])
}

// TestSecrets: what is made from a secret is shown as one, and is not enacted.
func TestSecrets(t *testing.T) {
	s := newSea(t, "sea.lamp(\"buoy\", name = \"to \" + secret(\"word\"), size = \"s\")\nsea.lamp(\"plain\", size = "+
		"\"s\")\npublish(\"w\", secret(\"word\"), secret = True)\n", "")
	p := s.propose()
	a := find(p, "sea.lamp/buoy")
	require.True(t, a.Changes[0].Secret)
	require.False(t, a.Changes[1].Secret)
	require.Len(t, p.Blocked, 1)
	require.Contains(t, p.Blocked[0].Because, "name is made from a secret")
}

const house = `def small(r):
    if r.action != "drop" and r.inputs.size == "l":
        return "too large"
def calm(p):
    if p.cost.change > 5:
        return "grows by %s; %d new, %d same" % (p.cost.change, p.counts.new, p.counts.same)
def shrink(r):
    if r.was and r.was.size == "l" and r.inputs.size == "s":
        return "shrinks"
def lit(r):
    if r.inputs.name and r.inputs.name[0] == "x":
        return "begins with x"
rule("small", each = small, at = ["proposed"], level = "block")
rule("shrink", each = shrink, at = ["proposed"], level = "warn")
rule("lit", each = lit, at = ["proposed"], level = "block")
rule("calm", whole = calm, at = ["proposed"], level = "warn")
`

// TestRulesOfProposals: rules see what was and what will be, of everything,
// and what they say adds up.
func TestRulesOfProposals(t *testing.T) {
	s := newSea(t, `first = sea.lamp("first", size = "s", name = "f")
sea.lamp("big", size = "l", name = "b")
sea.lamp("excused", size = "l", name = "e", care = care(excuse = {"small": "a fair, until 2026-12-24"}))
sea.lamp("shrunk", size = "s", name = "s")
sea.lamp("later", size = "s", name = first.light)
`, house)
	shrunk := s.record("shrunk", value.Attributes{"size": "l", "name": "s"})
	same := s.record("first", value.Attributes{"size": "s", "name": "f", "light": "x1"})
	gone := s.record("gone", value.Attributes{"size": "l", "name": "x"})
	s.o.States["shore"] = ledger.NewState(shrunk, same, gone)
	s.o.Live = Live{"sea.lamp": {}}
	for _, r := range []*ledger.Record{shrunk, same, gone} {
		s.o.Live["sea.lamp"][r.ID] = ThingOf(driver.Live{ID: r.ID, Attributes: value.Map(r.Live)})
	}
	p := s.propose()
	var said []string
	for i := range p.Rules {
		said = append(said, fmt.Sprintf("%s %s: %s", p.Rules[i].Verdict, p.Rules[i].Address, p.Rules[i].Message))
	}
	require.Equal(t, []string{
		"broken sea.lamp/big: too large", "excused sea.lamp/excused: too large", "broken sea.lamp/shrunk: shrinks",
		"broken sea.lamp/later: begins with x", "broken : grows by 9.0; 3 new, 1 same",
	}, said)
	require.Equal(t, RuleCounts{Passed: 14, Broken: 4, Excused: 1}, p.RuleCounts)
	require.Equal(t, 3*6+1, p.RuleCounts.Passed+p.RuleCounts.Broken+p.RuleCounts.Excused,
		"every rule judged every action")
	require.Len(t, p.Blocked, 2)
	require.Equal(t, "small", p.Blocked[0].Rule)
	require.Equal(t, "too large (rule small, proposed)", p.Blocked[0].Because)

	// once the first is made anew, what uses it is undecided, and judged again
	delete(s.o.Live["sea.lamp"], "id-first")
	p = s.propose()
	require.Equal(t, 1, p.RuleCounts.Undecided)
	later := find(p, "sea.lamp/later")
	require.Empty(t, p.JudgeAgain(context.Background(), s.o.Rules, later, s.typ, value.Map{"name": "calm"}).Findings)
	report := p.JudgeAgain(context.Background(), s.o.Rules, later, s.typ, value.Map{"name": "xenon"})
	require.True(t, report.Blocks())
	require.Empty(t, p.JudgeAgain(context.Background(), s.o.Rules, find(p, "sea.lamp/big"), s.typ,
		value.Map{"name": "xenon"}).Tallies, "only what was undecided")
}

// TestCosts: what is, what will be, and what nobody knows.
func TestCosts(t *testing.T) {
	s := newSea(t, "a = sea.lamp(\"a\", size = \"l\", level = 4, name = \"a\")\nsea.lamp(\"b\", size = a.light, name "+
		"= \"b\")\nsea.lamp(\"c\", size = \"s\", name = \"c\")\n", "")
	c, d := s.record("c", value.Attributes{"size": "s", "name": "c"}),
		s.record("d", value.Attributes{"size": "l", "level": int64(2)})
	s.o.States["shore"] = ledger.NewState(c, d)
	s.o.Live = Live{"sea.lamp": {"id-c": ThingOf(driver.Live{ID: "id-c", Attributes: value.Map(c.Live)}),
		"id-d": ThingOf(driver.Live{ID: "id-d", Attributes: value.Map(d.Live)})}}
	p := s.propose()
	require.Equal(t, &Cost{Was: 0, WillBe: 8, Change: 8}, find(p, "sea.lamp/a").Cost)
	require.Nil(t, find(p, "sea.lamp/b").Cost, "its size is pending")
	require.Equal(t, &Cost{Was: 4.5, WillBe: 4.5}, find(p, "sea.lamp/c").Cost)
	require.Equal(t, &Cost{Was: 7, WillBe: 0, Change: -7}, find(p, "sea.lamp/d").Cost)
	require.Equal(t, &Cost{Was: 11.5, WillBe: 12.5, Change: 1, Unknown: 1}, p.Cost)
	s.typ.Price = nil
	require.Nil(t, s.propose().Cost, "no type has a price")
}
