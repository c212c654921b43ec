package main

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const (
	notAgain  = "they were not evaluated again"
	someAgain = "those were not evaluated"
)

// coastOfMany is an estate of three wards with enough resources that its proposals are
// remembered, made from everything that declarations can be made from.
func coastOfMany(t *testing.T) *program {
	p := &program{t: t, dir: t.TempDir()}
	p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"shore\", \"signal\", \"chronicle\"]\nprices = "+
		"\"prices.json\"\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[kits]\nlamp = "+
		"\"kits/lamp\"\n[env.trial.inputs]\nn = 520\nsize = \"small\"\n")
	p.file("prices.json", `{"medina.machine": {"month": 4}}`)
	p.file("common/tags.star", "owner = \"keepers\"\n")
	p.file("shore/notes.txt", "mind the tide\n")
	p.file("kits/lamp/kit.toml", "name = \"lamp\"\nversion = \"1\"\nhelp = \"a lamp\"\ndrivers = [\"medina\"]\n")
	p.file("kits/lamp/kit.star", "def _lamp(quay):\n    return medina.machine(\"lamp\", subnet = quay, size = "+
		"\"tiny\", image = \"stone-1\")\nlamp = kit(_lamp, inputs = {\"quay\": kind.text}, help = \"a lamp\")\n")
	p.file("rules/calm.star", "def _calm(r):\n    return \"too large\" if r.type == \"medina.machine\" and "+
		"r.inputs.size == \"large\" else None\nrule(\"calm\", each = _calm, at = [\"declared\", \"proposed\"], level "+
		"= \"warn\")\n")
	p.file("shore/shore.star", `load("/common/tags.star", "owner")
load("kit:lamp", "lamp")
n = input("n", kind.int)
size = input("size")
coast = medina.network("coast", range = "10.0.0.0/16", tags = {"owner": owner, "page": published("chronicle", "page")})
quay = medina.subnet("quay", network = coast, range = "10.0.1.0/24")
gauge = medina.machine("gauge", subnet = quay, size = size, image = "stone-1", notes = file("notes.txt").text)
lamp("west", quay = quay.id)
[medina.record("name-%d" % i, name = "n%d.shore.lantern-coast.example" % i, kind = "A", values = [gauge.address]) for i in range(n)]
publish("word", "calm")
publish("quay", quay.id)
`)
	p.file("signal/signal.star", "for i in range(210):\n    medina.bucket(\"lamp-%d\" % i)\nmedina.bucket(\"log\", name = \"log-\" + published(\"shore\", \"word\"), tags = "+
		"{\"quay\": published(\"shore\", \"quay\")})\n")
	p.file("chronicle/chronicle.star", "medina.bucket(\"book\", name = \"book\")\npublish(\"page\", \"one\")\n")
	return p
}

// TestRemembered: whatever is touched between two proposals, one that may rest on what
// is remembered says the same as one that is made anew.
func TestRemembered(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes half a minute")
	}
	p := coastOfMany(t)
	p.must("enact", "-yes", "-quiet")
	seed, times := uint64(3), 1
	if os.Getenv("THOROUGH") != "" {
		seed, times = uint64(time.Now().UnixNano()), 5
	}
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 4))
	var flags []string // of every command from here on
	change := func(name, was, is string) func() {
		return func() {
			body, err := os.ReadFile(filepath.Join(p.dir, name))
			require.NoError(t, err)
			if text := string(body); strings.Contains(text, was) {
				p.file(name, strings.Replace(text, was, is, 1))
			} else {
				p.file(name, strings.Replace(text, is, was, 1))
			}
		}
	}
	usual := append([]string{}, p.env...)
	type touch struct {
		name string
		do   func()
	}
	const another = "a run of what it reads"
	touches := []touch{
		{"an attribute", change("shore/shore.star", "\"10.0.1.0/24\"", "\"10.0.2.0/24\"")},
		{"a remark", change("shore/shore.star", "n = input", "# how many\nn = input")},
		{"a shared file", change("common/tags.star", "keepers", "the keepers")},
		{"a file of data", change("shore/notes.txt", "tide", "gulls")},
		{"a kit", change("kits/lamp/kit.star", "tiny", "medium")},
		{"a kit's version", change("kits/lamp/kit.toml", "version = \"1\"", "version = \"2\"")},
		{"a published value", change("shore/shore.star", "\"calm\"", "\"rough\"")},
		{"a resource", change("signal/signal.star", "\nmedina.bucket",
			"\nmedina.network(\"far\", range = \"10.9.0.0/16\")\nmedina.bucket")},
		{"an input of the estate", change("kasbah.toml", "n = 520", "n = 519")},
		{"a rule", change("rules/calm.star", "\"large\"", "\"tiny\"")},
		{"prices", change("prices.json", "4", "5")},
		{"a flag", func() { flags = []string{"-input", "shore:size=medium"} }},
		{"no flag", func() { flags = nil }},
		{"a variable", func() { p.env = append(usual, "KASBAH_INPUT_SIZE=large") }},
		{"no variable", func() { p.env = usual }},
		{"another file", func() { p.file("signal/more.star", "medina.network(\"near\", range = \"10.8.0.0/16\")\n") }},
		{"no other file", func() { _ = os.Remove(filepath.Join(p.dir, "signal/more.star")) }},
		{"a hand edit", func() { p.must("medina", "edit", "machine", "trial-shore-gauge", "size=tiny") }},
		{"what only the cloud decides", func() {
			quay := p.ids("medina", "list", "subnet", "-json")[0]
			// fewer addresses are free
			p.must("medina", "create", "machine", "name=stray", "subnet="+quay, "size=tiny", "image=stone-1")
		}},
		{"something gone", func() { p.must("medina", "delete", "record", "n7.shore.lantern-coast.example") }},
		{"a run", func() { p.run(append([]string{"enact", "-yes", "-quiet", "-allow", "data"}, flags...)...) }},
		{"a run elsewhere", func() {
			p.run(append([]string{"enact", "shore", "-yes", "-quiet", "-allow", "data"}, flags...)...)
		}},
		{another, func() {
			change("chronicle/chronicle.star", "\"one\"", "\"two\"")()
			p.must("enact", "chronicle", "-yes", "-quiet")
		}},
		{"a damaged memory", func() {
			all, err := filepath.Glob(filepath.Join(p.dir, "cache", "kasbah", "remembered", "*"))
			require.NoError(t, err)
			for _, f := range all {
				require.NoError(t, os.Truncate(f, 1000))
			}
		}},
		{"nothing", func() {}},
	}
	told, some, of := 0, 0, 0
	asked := [][]string{nil, {"-offline"}, {"shore"}, {"shore", "signal", "-offline"}}
	ask := func(which []string, more ...string) (string, int) {
		return p.run(append(append(append([]string{"propose", "-json"}, which...), flags...), more...)...)
	}
	for i, at := range rnd.Perm(times * len(touches)) {
		touch, which := touches[at%len(touches)], asked[rnd.IntN(len(asked))]
		if touch.name == another {
			which = []string{"shore"}
		}
		if rnd.IntN(4) > 0 { // else on top of what was touched before
			p.run("medina", "delete", "machine", "stray") // where there is one, it keeps its subnet
			p.must(append([]string{"enact", "-yes", "-quiet", "-allow", "data"}, flags...)...)
		}
		ask(which)
		if out, _ := ask(which, "-verbose"); strings.Contains(out, notAgain) {
			told++
		}
		of++
		touch.do()
		for range 2 {
			if out, _ := ask(which, "-verbose"); strings.Contains(out, someAgain) {
				some++
			}
			one, code := ask(which)
			other, want := ask(which, "-anew")
			require.Equal(t, want, code, "%d: after %s: %v: %s", i, touch.name, which, one)
			is, should := lasting(one), lasting(other)
			for len(is) > 0 && len(should) > 0 && is[0] == should[0] {
				is, should = is[1:], should[1:]
			}
			require.True(t, len(is)+len(should) == 0, "%d: after %s: %v: says %q, and made anew %q", i, touch.name,
				which, is[:min(len(is), 3)], should[:min(len(should), 3)])
		}
	}
	t.Logf("%d of %d proposals rested on what was remembered, and %d of %d on what some wards had declared",
		told, of, some, 2*of)
	require.Greater(t, some, of/4, "a memory of wards that is never used shows nothing")
	require.Greater(t, told, of/2, "a memory that is never used shows nothing")
}

var passing = regexp.MustCompile(`(?m)^  "(id|made)": .*\n`)

// lasting are the lines of a proposal without what differs between any two.
func lasting(text string) []string { return strings.Split(passing.ReplaceAllString(text, ""), "\n") }
