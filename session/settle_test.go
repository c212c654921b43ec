package session_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/aymanbagabas/go-udiff"
	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/settle"
	"kasbah/core/survey"
	"kasbah/home"
	"kasbah/medina"
	"kasbah/session"
)

// randomEstate is an estate whose values come from everywhere that values can come from.
func randomEstate(rng *rand.Rand) map[string]string {
	toml := "estate = \"coast\" # of the whole\nwards = [\"shore\"]\n[ledger]\nstore = \"file\"\npath = \".kasbah/ledger\"\n" +
		"[drivers.medina]\nkind = \"medina\"\napi = \"embedded\"\npace = 0\n[kits]\nstation = \"kits/station\"\n" +
		"[env.trial.inputs]\n"
	star := "load(\"kit:station\", \"station\")\nload(\"/common/coast.star\", \"owned\")\n# the coast\ncoast = medina.network(" +
		"\"coast\", range = \"10.0.0.0/16\")\nquay = medina.subnet(\"quay\", network = coast, range = \"10.0.0.0/20\")\n"
	machine := func(name, size, more string) string {
		return fmt.Sprintf("medina.machine(%q, subnet = quay, image = \"stone-1\", size = %s%s)", name, size, more)
	}
	for i := range 4 + rng.IntN(6) {
		m := fmt.Sprintf("m%d", i)
		switch rng.IntN(12) {
		case 0:
			star += fmt.Sprintf("medina.bucket(%q, versions = False, tags = {\"k\": \"v\"}) # note\n", m)
		case 1:
			star += fmt.Sprintf("SIZE%d = \"tiny\"\n%s\n", i, machine(m, fmt.Sprintf("SIZE%d", i), `, tags = dict(a = "1")`))
		case 2:
			star += machine(m, fmt.Sprintf("input(\"size_%d\", default = \"small\")", i), "") + "\n"
		case 3:
			toml += fmt.Sprintf("size_%d = \"tiny\" # given\n", i)
			star += machine(m, fmt.Sprintf("input(\"size_%d\")", i), "") + "\n"
		case 4:
			star += fmt.Sprintf("for n in [\"x\", \"y\"]:\n    medina.bucket(%q + n, tags = {\"n\": n, \"all\": \"1\"})\n", m)
		case 5:
			star += fmt.Sprintf("station(%q, subnet = quay, size = \"tiny\")\n", m)
		case 6:
			star += fmt.Sprintf("station(\n    %q,\n    subnet = quay, # of all\n)\n", m)
		case 7:
			star += fmt.Sprintf("def open_%d(size, notes = \"n\"):\n    %s\n\nopen_%d(\"tiny\")\n", i,
				machine(m, "size", ", notes = notes"), i)
		case 8:
			star += fmt.Sprintf("medina.record(%q, name = \"%s.example\", kind = \"TXT\", values = [\n    \"a\", # one\n    \"b\",\n])\n",
				m, m)
		case 9:
			star += machine(m, `"tiny"`, `, notes = "a-%d" % 3, tags = owned()`) + "\n"
		case 10:
			star += machine(m, `"tiny"`, `, tags = {"base": "1"} | {"more": "2"}`) + "\n"
		case 11:
			star += fmt.Sprintf("g%d = %s\npublish(\"a%d\", g%d.address)\n", i, machine(m, `"tiny"`, ""), i, i)
		}
	}
	return map[string]string{
		"kasbah.toml": toml, "shore/shore.star": star,
		"common/coast.star":     "def owned():\n    return {\"owner\": \"keepers\"}\n",
		"kits/station/kit.toml": "name = \"station\"\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\n",
		"kits/station/kit.star": "def _station(subnet, size, notes):\n    medina.machine(\"gauge\", subnet = subnet, image = " +
			"\"stone-1\", size = size, notes = notes)\n\nstation = kit(_station, inputs = {\n    \"subnet\": kind.handle(" +
			"\"medina.subnet\"),\n    \"size\": kind.text(default = \"small\"),\n    \"notes\": kind.text(default = \"x\"),\n})\n",
	}
}

// editByHand changes or deletes some things past the code.
func editByHand(t *testing.T, ctx context.Context, rng *rand.Rand, h *medina.Hand) int {
	edits := 0
	texts := []string{"plain", "a \"quoted\" text", "line\nbreak", "\"\"\"", "é灯", "\\", "%s {x} # no"}
	for _, typ := range []string{"machine", "bucket", "record"} {
		list, err := h.List(ctx, typ)
		require.NoError(t, err)
		for _, thing := range list.Items {
			if rng.IntN(2) == 0 {
				continue
			}
			id := thing["id"].(string)
			pair := map[string][]string{
				"machine": {"size=" + []string{"tiny", "small", "medium", "large"}[rng.IntN(4)], "size=large", "tags.a=",
					"notes=" + texts[rng.IntN(len(texts))], "tags.more=" + texts[rng.IntN(len(texts))]},
				"bucket": {"versions=true", "tags.k=" + texts[rng.IntN(len(texts))], "tags.n="},
				"record": {`values=["a", "c"]`, `values=["b"]`, `values=["a", "b", "z"]`},
			}[typ]
			if typ == "bucket" && rng.IntN(4) == 0 {
				_, err = h.Delete(ctx, typ, id)
			} else {
				_, err = h.Edit(ctx, typ, id, []string{pair[rng.IntN(len(pair))]})
			}
			require.NoError(t, err)
			edits++
		}
	}
	return edits
}

// TestSettleBesideAnEditor: what somebody saves while settle asks is not written over, and the
// other files stay as they are, too.
func TestSettleBesideAnEditor(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	write(t, dir, map[string]string{"kasbah.toml": coast, "shore/a.star": "medina.bucket(\"a\", versions = False)\n",
		"isle/b.star": "medina.bucket(\"b\", versions = False)\n"})
	open := func() *session.Session {
		s, err := session.Open(ctx, config(dir, "trial"))
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, s.Close()) })
		return s
	}
	enactAll(t, open())
	at, err := open().Medina(ctx, "")
	require.NoError(t, err)
	hand, err := at.ByHand(ctx, "keeper-9")
	require.NoError(t, err)
	for _, name := range []string{"trial-shore-a", "trial-isle-b"} {
		_, err = hand.Edit(ctx, "bucket", name, []string{"versions=true"})
		require.NoError(t, err)
	}
	require.NoError(t, hand.Driver.Close())
	talk := session.SettleTalk{Changes: func(*session.Settling) error { return nil },
		MayWrite: func(context.Context, *session.Settling) error {
			return os.WriteFile(filepath.Join(dir, "shore/a.star"), []byte("# being edited\n"), 0o644)
		}}
	_, err = open().Settle(ctx, session.SettleRequest{Resolution: settle.TakeOver}, talk)
	require.ErrorContains(t, err, "shore/a.star was changed in between, and nothing is written")
	body, err := os.ReadFile(filepath.Join(dir, "isle/b.star"))
	require.NoError(t, err)
	require.Contains(t, string(body), "versions = False", "all files or none")
}

// enactAll enacts what is declared.
func enactAll(t *testing.T, s *session.Session) {
	carryOut(t, s, session.Request{Rehearse: "never"}, func(*propose.Proposal) {})
}

// carryOut proposes, looks at the proposal, and enacts it.
func carryOut(t *testing.T, s *session.Session, r session.Request, look func(p *propose.Proposal)) {
	require.NoError(t, enact.TakeTurn(context.Background(), enact.Turn{
		Propose: s.Proposer(r, func(problem.List) {}),
		CarryOut: func(ctx context.Context, p *propose.Proposal, o enact.Options) error {
			if look(p); p.Idle() {
				return nil
			}
			r, err := enact.Enact(ctx, p, o)
			if err == nil {
				err = problem.List(r.Failures).Err()
			}
			return err
		},
		Options: func() enact.Options { return s.EnactOptions(context.Background(), session.Run{Parallel: 16}) },
		Tell:    func(string) {},
	}))
}

// adoptAll adopts, and nothing else.
func adoptAll(t *testing.T, s *session.Session, a *session.Adopting) {
	carryOut(t, s, session.Request{Rehearse: "never", Adopt: a}, func(p *propose.Proposal) {
		require.NoError(t, enact.Blocked(p))
		require.Equal(t, len(a.Things), p.Counts.Adopt)
		require.Equal(t, p.Counts.Changing(), p.Counts.Adopt)
		require.False(t, slices.ContainsFunc(p.Actions, func(x *propose.Action) bool { return len(x.Changes) > 0 }))
	})
}

// TestSettleProperty: random estates and random hand edits. What is taken over is proven by the
// next proposal, what is not names a line and leaves the files alone, files change only as the
// diff shows, and what is put back is as it was declared.
func TestSettleProperty(t *testing.T) {
	cases := 20
	if os.Getenv("THOROUGH") != "" {
		cases = 300
	}
	if testing.Short() {
		cases = 3
	}
	taken, left, whole, ran := 0, 0, 0, 0
	for seed := range cases {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			a, b, c := settleOnce(t, uint64(seed))
			taken, left, whole, ran = taken+a, left+b, whole+c, ran+1
		})
	}
	t.Logf("%d cases: %d differences taken over, %d left with a line, %d estates wholly settled", cases, taken, left, whole)
	if ran == cases && cases >= 20 { // not where some were chosen
		require.Positive(t, taken)
		require.Positive(t, left)
	}
}

func settleOnce(t *testing.T, seed uint64) (taken, left, whole int) {
	ctx, rng := context.Background(), rand.New(rand.NewPCG(seed, 20))
	dir := t.TempDir()
	for name, body := range randomEstate(rng) {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	open := func() *session.Session {
		s, err := session.Open(ctx, session.Config{Dir: dir, Identity: ledger.Identity{Who: "keeper-1", Host: "here"},
			Home: func() (*home.Home, error) { return nil, errors.New("no home in this test") }, Tell: func(string) {}})
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, s.Close()) })
		return s
	}
	enactAll(t, open())
	at, err := open().Medina(ctx, "")
	require.NoError(t, err)
	hand, err := at.ByHand(ctx, "keeper-9")
	require.NoError(t, err)
	editByHand(t, ctx, rng, hand)
	require.NoError(t, hand.Driver.Close())

	files := []string{"kasbah.toml", "shore/shore.star", "common/coast.star", "kits/station/kit.star"}
	read := func() map[string]string {
		out := map[string]string{}
		for _, f := range files {
			body, err := os.ReadFile(filepath.Join(dir, f))
			require.NoError(t, err)
			out[f] = string(body)
		}
		return out
	}
	moves := errors.New("it would move others")
	talk := session.SettleTalk{
		Changes: func(*session.Settling) error { return nil },
		MayWrite: func(_ context.Context, p *session.Settling) error {
			if len(p.Moves) > 0 {
				return moves
			}
			return nil
		},
		MayEnact: func(context.Context, *propose.Proposal) error { return nil }, Done: func(*enact.Result) {},
		Found: func(_ []rules.Finding, err error) error { return err },
	}
	drifted := func() *survey.Report {
		r, err := open().Survey(ctx, survey.Asked{})
		require.NoError(t, err)
		return r
	}
	before := read()
	doc, err := open().Settle(ctx, session.SettleRequest{Resolution: settle.TakeOver, Rehearse: "never"}, talk)
	after := read()
	if errors.Is(err, moves) {
		require.Equal(t, before, after, "nothing is written")
	} else {
		require.NoError(t, err)
		diff := ""
		for _, f := range files {
			if before[f] != after[f] {
				diff += udiff.Unified("a/"+f, "b/"+f, before[f], after[f])
			}
		}
		for _, line := range strings.Split(diff, "\n") {
			require.Contains(t, doc.Diff, line)
		}
		require.Len(t, doc.Diff, len(diff), "the diff shows all that changed, and nothing else")
		require.Equal(t, strings.Count(before["kasbah.toml"], "#"), strings.Count(after["kasbah.toml"], "#"))
		for _, o := range doc.Left {
			require.NotEmpty(t, o.Because, "%+v", o)
		}
		taken, left = len(doc.Settled), len(doc.Left)
		if left == 0 {
			whole = 1
			p, err := open().Propose(ctx, session.Request{Rehearse: "never", Anew: true})
			require.NoError(t, err)
			require.Zero(t, p.Proposal.Counts.Changing(), "%s\n%+v", after["shore/shore.star"], p.Proposal.Actions)
			require.False(t, drifted().Counts.Drifted())
		}
	}
	doc, err = open().Settle(ctx, session.SettleRequest{Resolution: settle.PutBack, Rehearse: "never"}, talk)
	require.NoError(t, err)
	require.Empty(t, doc.Left)
	require.False(t, drifted().Counts.Drifted())
	p, err := open().Propose(ctx, session.Request{Rehearse: "never", Anew: true})
	require.NoError(t, err)
	require.Zero(t, p.Proposal.Counts.Changing())
	return taken, left, whole
}
