package declare_test

import (
	"bytes"
	"context"
	"encoding/gob"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// memory keeps wards as bytes, as a file would.
type memory struct {
	t     *testing.T
	mu    sync.Mutex
	kept  map[string][]byte
	again []string // wards that were evaluated
}

func (m *memory) Recall(ward string) *declare.Remembered {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.kept[ward] == nil {
		return nil
	}
	is := &declare.Remembered{}
	require.NoError(m.t, gob.NewDecoder(bytes.NewReader(m.kept[ward])).Decode(is))
	return is
}

func (m *memory) Remember(ward string, make func() *declare.Remembered) {
	is := make()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.again = append(m.again, ward)
	if delete(m.kept, ward); is == nil {
		return
	}
	var b bytes.Buffer
	require.NoError(m.t, gob.NewEncoder(&b).Encode(is))
	m.kept[ward] = b.Bytes()
}

// everything is all that an evaluation says, as one text.
func everything(t *testing.T, d *declare.Declared) string {
	var b strings.Builder
	why := map[string]bool{}
	at := func(r *declare.Resource, path string) {
		p, via := r.At(path)
		fmt.Fprintln(&b, "  ", path, p, p.Column, via)
	}
	for _, r := range d.Resources {
		pos, via := r.Position()
		price, priced := r.Price()
		fmt.Fprintln(&b, r.Ward, r.Address, r.Full(), r.Driver, r.Type.Name, r.FullType(), r.Name, r.MadeName, r.Fingerprint(),
			r.Needs, r.NeedAddresses(), r.Former, r.LooksBeyond(), r.UsesMoving(), price, priced, pos, pos.Column, via)
		fmt.Fprintf(&b, "  %+v %s\n", r.Care, value.Encode(map[string]any(r.Inputs())))
		for _, in := range r.Within {
			fmt.Fprintf(&b, "  in %+v\n", *in)
		}
		for _, a := range r.Type.Attributes {
			at(r, a.Name)
		}
		at(r, "care")
		if !why[r.Ward+r.FullType()] { // it takes its time
			why[r.Ward+r.FullType()] = true
			for _, path := range []value.Path{nil, {value.Key("name")}, {value.Key("tags")}, {value.Key("size")},
				{value.Key("subnet")}, {value.Key("values")}} {
				if len(path) == 0 || r.Type.Attribute(path[0].Key) != nil {
					o, err := d.Why(r, path)
					require.NoError(t, err)
					b.WriteString(steps(o))
				}
			}
		}
		if d.Resource(r.Full()) != r {
			fmt.Fprintln(&b, "  which is not found by its address")
		}
	}
	for _, w := range d.Wards {
		fmt.Fprintln(&b, w.Name, w.Reads, w.Files, len(w.Secrets))
		for _, name := range value.Keys(w.Published) {
			p := w.Published[name]
			fmt.Fprintln(&b, "  ", p.Name, p.Help, string(value.Encode(p.Value)), p.Secret, p.Position)
		}
		for _, name := range value.Keys(w.Taken) {
			t := w.Taken[name]
			fmt.Fprintln(&b, "  ", t.Name, t.Help, string(value.Encode(t.Value)), t.Source, t.Beaten, t.Secret, t.Position, t.Given)
		}
	}
	return b.String()
}

// manyWards are four wards of which some read others, with kits, care, prices, outputs that move and warnings.
func manyWards() map[string]string {
	return map[string]string{
		"kits/station/kit.star": station,
		"common/tags.star":      "def tag(s):\n    return {\"ward\": s}\n",
		"harbour/harbour.star": `load("kit:station", "station")
net = medina.network("net", range = "10.0.0.0/8")
quays = [station("s-%d" % i, net = net, range_ = cidr.slice("10.0.0.0/8", 24, i), many = 70) for i in range(3)]
publish("quays", quays, help = "subnets")
publish("gates", {"main": net.gateway, "n": 3})
`,
		"shore/shore.star": `load("/common/tags.star", "tag")
many = input("many", kind.int(default = 220), help = "how many")
quays = published("harbour", "quays")
def gauge(i, size = "small"):
    return medina.machine("gauge-%d" % i, subnet = quays[i % 3], size = size, image = "stone-1", tags = tag(ward),
        care = care(guard = i % 2 == 0, after = ["shore:medina.bucket/log"], leave = ["tags.owner"]))
medina.bucket("log", care = care(renamed_from = "medina.bucket/book", swap = "create-first"))
for i in range(many):
    gauge(i, size = "large" if i == 7 else "small")
medina.bucket("maps", tags = {"first": quays[0]}, care = care(excuse = {"private": "it is a map, until 2031-12-31"}, at_drop = "let-go"))
`,
		"signal/a.star": `load("b.star", "lamp")
for i in range(210):
    lamp(i)
`,
		"signal/b.star": `gate = published("harbour", "gates")["main"]
def lamp(i):
    medina.record("lamp-%d" % i, name = "l%d.lantern.example" % i, kind = "TXT", values = [gate], ttl = 60 + i % 5)
publish("gate", gate)
print("lamps are lit")
`,
		"isle/isle.star": "for i in range(205):\n    medina.bucket(\"b-%d\" % i)\n",
	}
}

// TestRecalled: what is remembered says the same as what is evaluated, whatever was touched since; and nothing is
// evaluated that need not be.
func TestRecalled(t *testing.T) {
	all := []string{"harbour", "isle", "shore", "signal"}
	replace := func(file, old, new string) func(map[string]string) {
		return func(files map[string]string) {
			require.Contains(t, files[file], old)
			files[file] = strings.Replace(files[file], old, new, 1)
		}
	}
	for _, c := range []struct {
		what    string
		touched func(files map[string]string)
		options func(o *declare.Options)
		again   []string
	}{
		{what: "nothing"},
		{what: "a remark", touched: replace("isle/isle.star", "for", "# many\nfor"), again: []string{"isle"}},
		{what: "a resource that no ward reads", again: []string{"harbour"},
			touched: replace("harbour/harbour.star", "publish", "medina.bucket(\"more\")\npublish")},
		{what: "what is published", touched: replace("harbour/harbour.star", "range(3)", "range(4)"),
			again: []string{"harbour", "shore"}},
		{what: "an attribute of what is published", touched: replace("harbour/harbour.star", "\"10.0.0.0/8\")\nq", "\"10.0.0.0/8\", tags = {\"a\": \"b\"})\nq"),
			again: []string{"harbour"}},
		{what: "what is published no longer", touched: replace("harbour/harbour.star", "publish(\"gates\"", "print(\"gates\""),
			again: []string{"harbour", "signal"}},
		{what: "a common file", touched: replace("common/tags.star", "ward", "light"), again: []string{"shore"}},
		{what: "a kit", touched: replace("kits/station/kit.star", "small", "large"), again: []string{"harbour"}},
		{what: "a file that is loaded", touched: replace("signal/b.star", "TXT", "SPF"), again: []string{"signal"}},
		{what: "one more file", touched: func(files map[string]string) { files["isle/b.star"] = "medina.bucket(\"c\")\n" },
			again: []string{"isle"}},
		{what: "one file less", touched: func(files map[string]string) { delete(files, "shore/more.star") }, again: []string{"shore"}},
		{what: "an input", again: all, options: func(o *declare.Options) { o.Inputs[0].Value = int64(230) }},
		{what: "a price", again: all, options: func(o *declare.Options) {
			c := *o.Catalogs["medina"]
			bucket := *c.Types["bucket"]
			price := *c.Types["machine"].Price
			price.Month, bucket.Price = 77, &price
			c.Types = maps.Clone(c.Types)
			c.Types["bucket"] = &bucket
			o.Catalogs = map[string]*schema.Catalog{"medina": &c, "north": &c}
		}},
		{what: "a circle", // who of it was evaluated depends on who came first
			touched: replace("harbour/harbour.star", "publish(\"q", "published(\"signal\", \"gate\")\npublish(\"q")},
		{what: "a mistake", touched: replace("isle/isle.star", "medina", "medin"), again: []string{"isle"}},
		{what: "one ward alone", options: func(o *declare.Options) { o.Wards = []string{"shore"} }},
		{what: "one ward alone that reads something else", again: []string{"shore"}, options: func(o *declare.Options) {
			o.Wards = []string{"shore"}
			o.Published = func(string) (value.Map, error) {
				return value.Map{"quays": []any{"sub-1", "sub-2", "sub-3"}}, nil
			}
		}},
	} {
		t.Run(c.what, func(t *testing.T) {
			files := manyWards()
			files["shore/more.star"] = "medina.bucket(\"more\")\n"
			dir := written(t, files)
			toml, err := os.ReadFile(filepath.Join(dir, "kasbah.toml"))
			require.NoError(t, err)
			files["kasbah.toml"] = strings.Replace(string(toml), "[env.trial.inputs]\n", "[env.trial.inputs]\nmany = 215\n", 1)
			write := func() {
				for name := range files {
					require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(files[name]), 0o644))
				}
			}
			write()
			m := &memory{t: t, kept: map[string][]byte{}}
			o := options(t, dir, "trial")
			o.Memory = m
			first, problems := declare.Evaluate(context.Background(), o)
			require.Zero(t, problems.Wrong(), full(problems))
			require.ElementsMatch(t, all, m.again)
			require.Len(t, m.kept, 4)
			if m.again = nil; c.touched != nil {
				before := maps.Clone(files)
				c.touched(files)
				for name := range before {
					if files[name] == "" {
						require.NoError(t, os.Remove(filepath.Join(dir, name)))
					}
				}
				write()
			}
			o = options(t, dir, "trial")
			o.Published = func(string) (value.Map, error) {
				return value.Map{"quays": first.Wards[0].Published["quays"].Value}, nil
			}
			if c.options != nil {
				c.options(&o)
			}
			want, wantProblems := declare.Evaluate(context.Background(), o)
			o.Memory = m
			got, gotProblems := declare.Evaluate(context.Background(), o)
			require.Equal(t, full(wantProblems), full(gotProblems))
			if slices.Sort(m.again); c.what != "a circle" {
				require.Equal(t, c.again, slices.Compact(m.again))
			}
			if wantProblems.Wrong() == 0 {
				require.Equal(t, everything(t, want), everything(t, got))
			}
		})
	}
}

// TestNotKept: what rests on a secret, or on a thing that is looked up, is evaluated each time.
func TestNotKept(t *testing.T) {
	for what, more := range map[string]string{
		"looked up":                    "old = medina.network.find(name = \"old\")\nmedina.subnet(\"q\", network = old, range = \"10.1.0.0/24\")\n",
		"a secret":                     "medina.secret(\"token\", value = secret(\"token\"))\n",
		"a secret input":               "input(\"token\", kind.text, secret = True)\n",
		"a published secret":           "publish(\"x\", \"y\", secret = True)\n",
		"published and looked up":      "publish(\"old\", medina.network.find(name = \"old\").id)\n",
		"read of one that looks it up": "medina.bucket(\"x\", tags = {\"old\": published(\"isle\", \"old\")})\n",
	} {
		t.Run(what, func(t *testing.T) {
			files := map[string]string{"shore/a.star": "for i in range(300):\n    medina.bucket(\"b-%d\" % i)\n" + more,
				"isle/a.star": "publish(\"old\", medina.network.find(name = \"old\").id)\n"}
			m := &memory{t: t, kept: map[string][]byte{}}
			o := options(t, written(t, files), "trial")
			o.Memory = m
			_, problems := declare.Evaluate(context.Background(), o)
			require.LessOrEqual(t, problems.Wrong(), 1, full(problems)) // of the secret input, which is not given
			require.Empty(t, m.kept)
		})
	}
}
