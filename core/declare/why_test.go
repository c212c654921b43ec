package declare_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/value"
)

// steps writes an origin as indented lines: kind, words, line.
func steps(o *declare.Origin) string {
	var b strings.Builder
	var walk func(o *declare.Origin, depth int)
	walk = func(o *declare.Origin, depth int) {
		fmt.Fprintf(&b, "%s%s: %s @%s\n", strings.Repeat("  ", depth), o.Kind, o.What, o.Position.Short())
		for _, f := range o.From {
			walk(f, depth+1)
		}
	}
	walk(o, 0)
	return b.String()
}

// TestWhyForms: every way in which code can write a value is followed.
func TestWhyForms(t *testing.T) {
	const before = `load("/common/x.star", "SIZES", "tagged", "nested")
net = medina.network("net", range = "10.0.0.0/16")
sub = medina.subnet("sub", network = net, range = "10.0.0.0/24")
size = input("size", kind.text, default = "small")
word = secret("word")
old = medina.network.find(name = "old")
ALL = {"size": size, "image": "stone-1"}
def wrapped(name, notes = "plain", **more):
    return medina.machine(name, subnet = sub, notes = notes, **more)
def outer(name, text):
    local = text + "!"
    return wrapped(name, notes = local, size = "tiny", image = "s")
`
	files := map[string]string{"common/x.star": "SIZES = {\"trial\": \"tiny\"}\ndef tagged(n):\n    return {\"n\": " +
		"n}\nnested = [1, 2]\n"}
	for _, c := range []struct{ code, attribute, wants string }{
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s")`, "size",
			"literal: \"tiny\" @shore/shore.star:13\n"},
		{`medina.machine("m", subnet = sub, size = ("tiny"), image = "s")`, "size",
			"literal: \"tiny\" @shore/shore.star:13\n"},
		{`medina.machine("m", subnet = sub, size = size, image = "s")`, "size",
			"input: input size, its default @shore/shore.star:4\n"},
		{`medina.machine("m", subnet = sub, size = SIZES[env], image = "s")`, "size",
			"expression: SIZES[env] @shore/shore.star:13\n  name: SIZES = {\"trial\": \"tiny\"} @common/x.star:1\n  " +
				"language: env, \"trial\" here @shore/shore.star:13\n"},
		{`medina.machine("m", subnet = sub, size = "tiny" if ward == "shore" else "small", image = "s")`, "size",
			"language: ward, \"shore\" here"},
		{`medina.machine("m", subnet = sub, **ALL)`, "size", "input: input size, its default @shore/shore.star:4\n"},
		{`medina.machine("m", subnet = sub, **ALL)`, "image", "literal: \"stone-1\" @shore/shore.star:7\n"},
		{`medina.machine("m", subnet = sub, **dict(ALL, size = "large"))`, "size",
			"literal: \"large\" @shore/shore.star:13\n"},
		{`wrapped("m", size = "tiny", image = "s")`, "size", "literal: \"tiny\" @shore/shore.star:13\n"},
		{`wrapped("m", size = "tiny", image = "s")`, "notes", "default: notes = \"plain\", its default " +
			"@shore/shore.star:8\n"},
		{`wrapped("m", "given", size = "tiny", image = "s")`, "notes",
			"argument: notes = \"given\" @shore/shore.star:13\n"},
		{`outer("m", "hello")`, "notes", "argument: notes, handed on @shore/shore.star:12\n  name: local = text + " +
			"\"!\" @shore/shore.star:11\n    argument: text = \"hello\" @shore/shore.star:13\n"},
		{`[medina.machine("m", subnet = sub, size = s, image = "s") for s in ["tiny"]]`, "size",
			"loop: s, each of [\"tiny\"] @shore/shore.star:13\n"},
		{"for s in [size]:\n    medina.machine(\"m\", subnet = sub, size = s, image = \"s\")", "size",
			"loop: s, each of [size] @shore/shore.star:13\n  input: input size, its default @shore/shore.star:4\n"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s", tags = tagged(size))`, "tags",
			"function: tagged(size) @shore/shore.star:13\n  function: the function tagged @common/x.star:2\n  input: " +
				"input size"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s", tags = {"a": size, "b": "c"})`, "tags.b",
			"literal: \"c\" @shore/shore.star:13\n"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s", tags = {"a": size, "b": "c"})`, "tags.a",
			"input: input size"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s", notes = file("shore.star").sha256)`, "notes",
			"file: the file shore.star @shore/shore.star:13"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s", notes = word)`, "notes",
			"secret: the secret word @shore/shore.star:5\n"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s", notes = "%s %s" % (sub.gateway, old.range))`,
			"notes", "resource: medina.subnet/sub gateway, decided by the cloud @shore/shore.star:3\n  find: range " +
				"of the medina.network found by name old @shore/shore.star:6\n"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s", notes = json.encode(nested))`, "notes",
			"name: nested = [1, 2] @common/x.star:4\n"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s")`, "subnet",
			"name: sub = a medina.subnet @shore/shore.star:3\n  resource: medina.subnet/sub id, decided by the cloud " +
				"@shore/shore.star:3\n"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s")`, "notes",
			"cloud: left out: it belongs to the cloud"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s")`, "address", "cloud: decided by the cloud"},
		{`medina.machine("m", subnet = sub, size = "tiny", image = "s")`, "name",
			"pattern: left out: made once by the pattern of names"},
	} {
		t.Run(c.code, func(t *testing.T) {
			files["shore/shore.star"] = before + c.code + "\n"
			d, problems := evaluated(t, files)
			require.Empty(t, problems.Wrong(), full(problems))
			path, err := value.ParsePath(c.attribute)
			require.NoError(t, err)
			o, err := d.Why(d.Find("shore:medina.machine/m"), path)
			require.NoError(t, err)
			require.Contains(t, steps(o), c.wants, c.code)
		})
	}
	d, _ := evaluated(t, files)
	_, err := d.Why(d.Find("shore:medina.machine/m"), value.Path{value.Key("sise")})
	require.ErrorContains(t, err, `did you mean "size"?`)
}

// TestWhyThroughKits: each level of a nest is a step, and a kit's default is
// told as such.
func TestWhyThroughKits(t *testing.T) {
	d, problems := evaluated(t, nest("    return medina.machine(\"gate\", subnet = subnet, size = size, image = "+
		"\"stone-1\").address\n"))
	require.Empty(t, problems.Wrong(), full(problems))
	o, err := d.Why(d.Find("shore:a/b/c/d/e/medina.machine/gate"), value.Path{value.Key("size")})
	require.NoError(t, err)
	require.Equal(t, `argument: size, handed on @kit:four/kit.star:3
  argument: size, handed on @kit:three/kit.star:3
    argument: size, handed on @kit:two/kit.star:3
      argument: size, handed on @kit:one/kit.star:3
        default: size = "small", the default of the kit's input @kit:one/kit.star:4
`, steps(o))
	o, err = d.Why(d.Find("shore:a/b/c/d/e/medina.machine/gate"), nil)
	require.NoError(t, err)
	text := steps(o)
	for _, words := range []string{"in the instance a of kit one 1.0.0 @shore/shore.star:4",
		"in the instance e of kit five 1.0.0 @kit:four/kit.star:3",
		"needs medina.subnet/quay for subnet @shore/shore.star:3"} {
		require.Contains(t, text, words)
	}
}

// FuzzWhy: whatever can be declared can be explained.
func FuzzWhy(f *testing.F) {
	f.Add("medina.bucket(\"b\", tags = {k: v for k, v in {\"a\": \"b\"}.items()})\n")
	f.Add("def f(*a, **k):\n    return medina.bucket(*a, **k)\nf(\"b\", **dict(versions = True))\nx = [f(str(i), " +
		"public = i == 2) for i in range(3) if i]\n")
	f.Add("a, (b, c) = 1, (2, [3])\nmedina.bucket(\"b\" + str(a), tags = {\"x\": str(c[0]) * b, \"y\": (lambda z: " +
		"z)(\"q\")})\n")
	f.Add("n = medina.network(\"n\", range = \"10.0.0.0/8\")\nmedina.subnet(\"s\", network = n, range = " +
		"cidr.slice(n.range, 24, 3), tags = {\"a\": \"%s\" % n.id})\n")
	f.Fuzz(func(t *testing.T, body string) {
		d, problems := evaluated(t, map[string]string{"shore/shore.star": body})
		if problems.Wrong() > 0 {
			return
		}
		for _, r := range d.Resources[:min(20, len(d.Resources))] {
			for _, a := range r.Type.Attributes {
				o, err := d.Why(r, value.Path{value.Key(a.Name)})
				require.NoError(t, err)
				require.NotEmpty(t, steps(o))
			}
		}
	})
}

// TestThousandInputs gives random values to inputs of random kinds: each ends
// in a value that fits, or in an error with a place.
func TestThousandInputs(t *testing.T) {
	rnd := newRandom(11)
	accepted, refused := 0, 0
	dir := written(t, map[string]string{"shore/shore.star": ""})
	o := options(t, dir, "trial")
	o.Estate.Limits.Seconds = 5
	for range 1000 {
		kind, raw := rnd.kind(3), rnd.raw(3)
		o.Inputs = []estate.Input{{Name: "x", Raw: raw, IsRaw: true, Source: "-input"}}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "shore", "shore.star"),
			[]byte("publish(\"x\", input(\"x\", "+kind+"))\n"), 0o644))
		d, problems := declare.Evaluate(context.Background(), o)
		if problems.Wrong() == 0 {
			accepted++
			require.Contains(t, d.Wards[0].Published, "x", "%s %s", kind, raw)
			continue
		}
		refused++
		for _, p := range problems {
			require.NotEmpty(t, p.Position.File, "%s %s: %s", kind, raw, p.Message)
			require.NotContains(t, p.Message, "panic")
		}
	}
	require.Greater(t, accepted, 50)
	require.Greater(t, refused, 50)
}
