package session_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/survey"
	"kasbah/core/tidy"
	"kasbah/medina"
	"kasbah/session"
)

// handOn is a hand on the estate's Medina.
func handOn(t *testing.T, s *session.Session) *medina.Hand {
	at, err := s.Medina(context.Background(), "")
	require.NoError(t, err)
	h, err := at.ByHand(context.Background(), "keeper-9")
	require.NoError(t, err)
	return h
}

// byHand makes things of thirteen types that refer to each other, as people do in a console.
func byHand(t *testing.T, h *medina.Hand, env string, n int) int {
	made := 0
	create := func(typ string, pairs ...string) string {
		thing, err := h.Create(context.Background(), typ, pairs)
		require.NoError(t, err, "%s %v", typ, pairs)
		made++
		return thing["id"].(string)
	}
	name := func(s string) string { return "name=" + env + "-shore-" + s }
	coast := create("network", name("coast"), fmt.Sprintf("range=10.%d.0.0/16", n), "tags.owner=keepers", "tags.coast=lantern")
	for i, light := range []string{"sallow", "merrow", "brindle", "farrow", "gorse", "heath"} {
		quay := create("subnet", name("quay-"+light), "network="+coast, fmt.Sprintf("range=10.%d.%d.0/24", n, i))
		gauge := create("machine", name("gauge-"+light), "subnet="+quay, "size=small", "image=stone-1", "tags.owner=keepers", "tags.coast=lantern")
		create("disk", name("tape-"+light), "machine="+gauge, "gigabytes=20")
		create("bucket", name("log-"+light), "versions=true", "tags.owner=keepers", "tags.coast=lantern")
		create("record", "name="+light+"."+env+".lantern.example", "kind=TXT", fmt.Sprintf(`values=["light %d"]`, i))
	}
	create("firewall", name("wall"), "network="+coast, `rules=[{protocol = "tcp", from = "10.0.0.0/8", ports = "80"}]`)
	seal := create("key", name("seal"), "renew=90")
	failed := create("queue", name("failed"))
	create("queue", name("calls"), "failed="+failed, "tries=3")
	topic := create("topic", name("news"))
	create("alarm", name("deep"), "queue="+failed, "measures=waiting", "above=10", "topic="+topic)
	notices := create("bucket", name("notices"), "public=true", "tags.owner=keepers", "tags.coast=lantern")
	create("object", "bucket="+notices, "path=hello.txt", "text=Good morning, coast")
	create("object", "bucket="+notices, "path=tide.txt", "text=High at six")
	create("role", name("reader"), `grants=[{may = "read", on = "bucket/`+notices+`"}]`)
	_ = seal
	return made
}

// requireTidy requires that a file is laid out as `kasbah tidy` does it.
func requireTidy(t *testing.T, text string) {
	laidOut, err := tidy.Text("found.star", []byte(text))
	require.NoError(t, err)
	require.Equal(t, string(laidOut), text)
}

// TestFoundInTwoEnvironments: two environments of the same shape, made by hand in one cloud, become
// one ward. Nothing is called, and afterwards all is as declared.
func TestFoundInTwoEnvironments(t *testing.T) {
	t.Run("tables", func(t *testing.T) {
		foundInTwoEnvironments(t, false, "names = [\"brindle\", \"farrow\"", "\"merrow\": gauge_merrow_size", "subnet_range[name]",
			"% (name, env)", `grants = [{"may": "read", "on": "bucket/%s" % notices.id}]`,
			`medina.disk("tape-" + name, machine = machines[name], gigabytes = 20)`)
	})
	t.Run("kits", func(t *testing.T) {
		foundInTwoEnvironments(t, true, "def _quay_kit(name, range, size):", `"range": kind.text`, "range = quay_range[name]")
	})
}

func foundInTwoEnvironments(t *testing.T, kits bool, lines ...string) {
	ctx, dir := context.Background(), t.TempDir()
	write(t, dir, map[string]string{"kasbah.toml": "estate = \"lantern-coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = " +
		"\"medina\"\napi = \"embedded\"\npace = 0\n[env.trial]\n[env.live]\n", "shore/.keep": ""})
	open := func(env string) *session.Session {
		s, err := session.Open(ctx, config(dir, env))
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, s.Close()) })
		return s
	}
	h := handOn(t, open("trial"))
	n := byHand(t, h, "trial", 1)
	require.Equal(t, n, byHand(t, h, "live", 2))
	_, err := h.Edit(ctx, "machine", "live-shore-gauge-merrow", []string{"size=large"})
	require.NoError(t, err)
	events, err := h.Events(ctx, "", 0)
	require.NoError(t, err)

	file, err := open("trial").DeclareFound(ctx, session.FoundRequest{Driver: "medina", Ward: "shore",
		Envs: []string{"trial", "live"}, Kits: kits})
	require.NoError(t, err)
	require.Empty(t, file.Left)
	require.Empty(t, file.Secrets)
	require.Len(t, file.Things["trial"], n)
	require.Len(t, file.Things["live"], n)
	requireTidy(t, file.Text)
	if os.Getenv("SHOW") != "" {
		t.Log("\n" + file.Text + "\n" + string(file.Toml))
	}
	for _, line := range lines {
		require.Contains(t, file.Text, line)
	}
	require.NoError(t, file.Write())
	for _, env := range []string{"trial", "live"} {
		adoptAll(t, open(env), file.Adopting(env))
		p, err := open(env).Propose(ctx, session.Request{Rehearse: "never"})
		require.NoError(t, err)
		require.Equal(t, propose.Counts{Same: n}, p.Proposal.Counts)
		r, err := open(env).Survey(ctx, survey.Asked{})
		require.NoError(t, err)
		require.Equal(t, survey.Counts{Matches: n}, r.Counts)
	}
	after, err := h.Events(ctx, "", 0)
	require.NoError(t, err)
	require.Equal(t, events, after, "nothing was changed")
	require.NoError(t, h.Driver.Close())
	_, err = open("trial").DeclareFound(ctx, session.FoundRequest{Driver: "medina", Ward: "shore", Envs: []string{"trial"}})
	require.ErrorContains(t, err, "shore/found.star is there already; nothing is written over")
}

// TestFoundKits: what refers into the instances of a kit, what they take from outside and what they leave
// out is written so that the proof stands; what has another shape stays alone.
func TestFoundKits(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	write(t, dir, map[string]string{"kasbah.toml": coast, "shore/.keep": "", "isle/a.star": ""})
	s, err := session.Open(ctx, config(dir, "trial"))
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	h := handOn(t, s)
	make := func(typ string, values ...string) string {
		made, err := h.Create(ctx, typ, values)
		require.NoError(t, err, "%s %v", typ, values)
		return made["id"].(string)
	}
	network := make("network", "name=coast", "range=10.20.0.0/16")
	make("network", "name=far", "range=10.30.0.0/16")
	var all []string
	for i, light := range []string{"1", "2", "3", "4"} {
		subnet := make("subnet", "name=quay-"+light, "network="+network, fmt.Sprintf("range=10.20.%d.0/24", i))
		if light == "4" {
			continue // of another shape
		}
		size := []string{"tiny", "small", "large"}[i]
		machine := make("machine", "name=gauge-"+light, "subnet="+subnet, "size="+size, "image=stone-1")
		make("disk", "name=tape-"+light, "machine="+machine, "gigabytes=20")
		live, err := h.Show(ctx, "machine", machine)
		require.NoError(t, err)
		address := live["address"].(string)
		all = append(all, address)
		make("record", "name="+light+".lantern.example", "kind=A", `values=["`+address+`"]`)
	}
	make("record", "name=all.lantern.example", "kind=A", `values=["`+strings.Join(all, `","`)+`"]`)
	require.NoError(t, h.Driver.Close())
	ask := session.FoundRequest{Driver: "medina", Ward: "shore", Envs: []string{"trial"}}
	file, err := s.DeclareFound(ctx, ask)
	require.NoError(t, err)
	require.Equal(t, []string{"1, 2, 3 have the same parts: quay, gauge, lantern.example, tape"}, file.Kits)
	ask.Kits = true
	file, err = s.DeclareFound(ctx, ask)
	require.NoError(t, err)
	t.Log(file.Text)
	require.Empty(t, file.Kits)
	requireTidy(t, file.Text)
	require.Contains(t, file.Things["trial"], "quay-2/medina.machine/gauge")
	require.NoError(t, file.Write())
	s, err = session.Open(ctx, config(dir, "trial"))
	require.NoError(t, err)
	adoptAll(t, s, file.Adopting("trial"))
	p, err := s.Propose(ctx, session.Request{Rehearse: "never"})
	require.NoError(t, err)
	require.Equal(t, propose.Counts{Same: len(file.Things["trial"])}, p.Proposal.Counts)
	require.NoError(t, s.Close())
}

// TestFoundProperty: random estates are enacted, lose their ledgers and their code, and are written
// again from what is there.
func TestFoundProperty(t *testing.T) {
	cases := 15
	if os.Getenv("THOROUGH") != "" {
		cases = 200
	}
	if testing.Short() {
		cases = 3
	}
	for seed := range cases {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			ctx, rng, dir := context.Background(), rand.New(rand.NewPCG(uint64(seed), 22)), t.TempDir()
			write(t, dir, randomEstate(rng))
			open := func() *session.Session {
				s, err := session.Open(ctx, config(dir, ""))
				require.NoError(t, err)
				t.Cleanup(func() { require.NoError(t, s.Close()) })
				return s
			}
			enactAll(t, open())
			body, err := os.ReadFile(filepath.Join(dir, "kasbah.toml"))
			require.NoError(t, err)
			h := handOn(t, open())
			editByHand(t, ctx, rng, h)
			things := map[string]bool{}
			for _, typ := range []string{"network", "subnet", "machine", "bucket", "record"} {
				list, err := h.List(ctx, typ)
				require.NoError(t, err)
				for _, x := range list.Items {
					things[typ+" "+x["id"].(string)] = true
				}
			}
			require.NoError(t, h.Driver.Close())
			for _, gone := range []string{".kasbah/ledger", ".kasbah/seen", "shore/shore.star"} {
				require.NoError(t, os.RemoveAll(filepath.Join(dir, gone)))
			}
			toml, _, _ := strings.Cut(string(body), "[env.trial.inputs]\n") // that nothing takes any more
			write(t, dir, map[string]string{"kasbah.toml": toml + "[env.trial]\n"})
			file, err := open().DeclareFound(ctx, session.FoundRequest{Driver: "medina", Ward: "shore", Envs: []string{"trial"},
				Kits: seed%2 == 0})
			require.NoError(t, err)
			require.Len(t, file.Things["trial"], len(things), "%s", file.Text)
			requireTidy(t, file.Text)
			require.NoError(t, file.Write())
			adoptAll(t, open(), file.Adopting("trial"))
			p, err := open().Propose(ctx, session.Request{Rehearse: "never"})
			require.NoError(t, err)
			require.Equal(t, propose.Counts{Same: len(things)}, p.Proposal.Counts, "%s", file.Text)
			r, err := open().Survey(ctx, survey.Asked{Strangers: "all"})
			require.NoError(t, err)
			require.Equal(t, survey.Counts{Matches: len(things)}, r.Counts)
			require.Empty(t, r.Strangers)
		})
	}
}

// TestFoundRefusals: what is asked wrongly is told, and nothing is written.
func TestFoundRefusals(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	write(t, dir, map[string]string{"kasbah.toml": coast, "shore/a.star": "", "isle/a.star": ""})
	s, err := session.Open(ctx, config(dir, "trial"))
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	h := handOn(t, s)
	_, err = h.Create(ctx, "bucket", []string{"name=of-keepers", "tags.owner=keepers"})
	require.NoError(t, err)
	_, err = h.Create(ctx, "bucket", []string{"name=of-others"})
	require.NoError(t, err)
	require.NoError(t, h.Driver.Close())
	ask := session.FoundRequest{Driver: "medina", Ward: "shore", Envs: []string{"trial"}}
	for _, c := range []struct {
		name  string
		ask   func(r *session.FoundRequest)
		words string
	}{
		{"ward", func(r *session.FoundRequest) { r.Ward = "shor" }, `no ward is called "shor"`},
		{"driver", func(r *session.FoundRequest) { r.Driver = "medin" }, `no driver is called "medin"`},
		{"type", func(r *session.FoundRequest) { r.Types = []string{"medina.buckett"} }, "medina has no type buckett"},
		{"not Starlark", func(r *session.FoundRequest) { r.Where = "r.tags ==" }, "-where:1:10: got end of file"},
		{"not an attribute of a text", func(r *session.FoundRequest) { r.Where = "r.name.x == 1" }, "-where of medina."},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := ask
			c.ask(&r)
			_, err := s.DeclareFound(ctx, r)
			require.ErrorContains(t, err, c.words)
			var usage *problem.UsageError
			require.Equal(t, c.name != "not an attribute of a text", errors.As(err, &usage))
		})
	}
	ask.Where = `r.tags.owner == "keepers"`
	file, err := s.DeclareFound(ctx, ask)
	require.NoError(t, err)
	require.Equal(t, "# Written by `kasbah adopt` from what was found in trial.\n\nmedina.bucket(\"of-keepers\", name = "+
		"\"of-keepers\", tags = {\"owner\": \"keepers\"})\n", file.Text)
	ask.Where = `r.type == "medina.bucket" and r.tags.owner == None`
	file, err = s.DeclareFound(ctx, ask)
	require.NoError(t, err)
	require.Contains(t, file.Text, `medina.bucket("of-others", name = "of-others")`)
	require.Len(t, file.Things["trial"], 1)

	// a run that adopts nothing leaves no code behind that the next one would make again
	require.NoError(t, file.Write())
	refused := errors.New("refused")
	require.ErrorIs(t, file.Ended(ctx, s, refused), refused)
	require.NoFileExists(t, filepath.Join(dir, "shore/found.star"))
	require.NoError(t, file.Write())
	require.NoError(t, file.Ended(ctx, s, nil))
	require.FileExists(t, filepath.Join(dir, "shore/found.star"))
	adoptAll(t, s, file.Adopting("trial"))
	require.ErrorIs(t, file.Ended(ctx, s, refused), refused)
	require.FileExists(t, filepath.Join(dir, "shore/found.star"), "what is adopted stays declared")
}
