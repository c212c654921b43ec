package settle_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/schema"
	"kasbah/core/settle"
	"kasbah/core/survey"
	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/medina"
)

const toml = `estate = "lantern-coast"
wards = ["shore"]
[drivers.medina]
kind = "medina"
[kits]
station = "kits/station"
[env.trial.inputs]
`

const kit = `def _station(network, size, notes, tags):
    medina.machine("gauge", subnet = network, size = size, image = "stone-1", notes = notes, tags = tags)

station = kit(_station, inputs = {
    "network": kind.handle("medina.subnet"),
    "size": kind.text(default = "small"),
    "notes": kind.text(default = "north-1"),
    "tags": kind.map(kind.text, default = {}),
})
`

// sources writes an estate and evaluates it.
func sources(t testing.TB, files map[string]string) settle.Sources {
	dir := t.TempDir()
	all := map[string]string{"kasbah.toml": toml, "kits/station/kit.star": kit,
		"kits/station/kit.toml": "name = \"station\"\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\n"}
	for name, body := range files {
		if all[name] = body; strings.Contains(body, `input("size")`) {
			all["kasbah.toml"] += "size = \"small\"   # of every gauge\n"
		}
	}
	for name, body := range all {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	return settle.Sources{Declared: evaluated(t, dir, nil), Options: options(t, dir, nil),
		Read:    func(file string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, file)) },
		Section: func(in *declare.InputValue, _ bool) string { return in.Given }}
}

func options(t testing.TB, dir string, overlay map[string][]byte) declare.Options {
	e, err := estate.Load(dir)
	require.NoError(t, err)
	if text, changed := overlay["kasbah.toml"]; changed {
		e, err = estate.Parse(dir, text)
		require.NoError(t, err)
	}
	d, err := medina.Settings{API: "embedded"}.Driver("")
	require.NoError(t, err)
	c, err := d.Describe(context.Background())
	require.NoError(t, err)
	c.Types["machine"].Attribute("notes").MaxLength = nil // for texts of any size
	opener, err := kits.New(dir)
	require.NoError(t, err)
	all := opener.Open(context.Background(), e.Kits("trial"))
	t.Cleanup(func() { kits.Close(all) })
	return declare.Options{Estate: e, Env: "trial", Wards: e.Wards, Catalogs: map[string]*schema.Catalog{"medina": c},
		Kinds: map[string]string{"medina": "medina"}, Kits: all, Inputs: e.Inputs("trial"), Overlay: overlay}
}

func evaluated(t testing.TB, dir string, overlay map[string][]byte) *declare.Declared {
	d, problems := declare.Evaluate(context.Background(), options(t, dir, overlay))
	require.NoError(t, problems.Err())
	return d
}

func difference(address, path string, found any) settle.Difference {
	verdict := survey.Differs
	if path == "" {
		verdict = survey.Gone
	}
	return settle.Difference{Resource: &survey.Resource{Ward: "shore", Address: address, Type: "medina.machine",
		Verdict: verdict}, Path: path, Found: found}
}

const net = "coast = medina.network(\"coast\", range = \"10.0.0.0/16\")\n" +
	"quay = medina.subnet(\"quay\", network = coast, range = \"10.0.0.0/24\")\n"

// TestTakeOver: every kind of place that can be rewritten, and what cannot.
func TestTakeOver(t *testing.T) {
	gauge := func(args string) string {
		if !strings.Contains(args, "size") {
			args = `, size = "tiny"` + args
		}
		return net + "medina.machine(\"gauge\", subnet = quay, image = \"stone-1\"" + args + ")\n"
	}
	for _, c := range []struct {
		says, star, address, path string
		found                     any
		file, want                string // what the changed file holds then
		decides                   string // the line that decides, where nothing is changed
	}{
		{says: "a literal", star: strings.Replace(gauge(`, size = "tiny"`), ")\nmed", ")\nmed", 1) + "# cheap\n", path: "size", found: "large",
			want: "size = \"large\")\n# cheap\n"},
		{says: "a name", star: "SIZE = \"tiny\" # one\n" + gauge(", size = SIZE"), path: "size", found: "large",
			want: "SIZE = \"large\" # one\n"},
		{says: "a missing attribute", star: gauge(""), path: "notes", found: "large",
			want: `size = "tiny", notes = "large")`},
		{says: "a missing attribute on lines of its own", star: net + "medina.machine(\n    \"gauge\",\n    subnet = quay,\n" +
			"    size = \"tiny\",\n    image = \"stone-1\" # old\n)\n", path: "notes", found: "large",
			want: "    image = \"stone-1\", # old\n    notes = \"large\",\n)\n"},
		{says: "an attribute that others took away", star: gauge(`, size = "tiny", notes = "x"`), path: "notes",
			want: `size = "tiny")`},
		{says: "a key of a map", star: gauge(`, tags = {"a": "1", "b": "2"}`), path: "tags.b", found: "3",
			want: `tags = {"a": "1", "b": "3"}`},
		{says: "a new key of a map", star: gauge(`, tags = {"a": "1"}`), path: `tags["b c"]`, found: "\"\n",
			want: `tags = {"a": "1", "b c": "\"\n"}`},
		{says: "a key that is gone", star: gauge(", tags = {\n    \"a\": \"1\", # first\n    \"b\": \"2\", # second\n}"),
			path: "tags.a", want: "tags = {\n    \"b\": \"2\", # second\n}"},
		{says: "a key of joined maps", star: "BASE = {\"a\": \"1\"}\n" + gauge(`, tags = BASE | {"b": "2"}`), path: "tags.b",
			found: "3", want: `BASE | {"b": "3"}`},
		{says: "a key of dict()", star: gauge(`, tags = dict(a = "1")`), path: "tags.b", found: "3",
			want: `dict(a = "1", b = "3")`},
		{says: "an input of kasbah.toml", star: `s = input("size")` + "\n" + gauge(", size = s"), path: "size",
			found: "large", file: "kasbah.toml", want: "size = \"large\"   # of every gauge\n"},
		{says: "an input's default", star: `z = input("notes", default = "north-1") # here` + "\n" + gauge(", notes = z"),
			path: "notes", found: "north-2", want: `z = input("notes", default = "north-2") # here`},
		{says: "what is handed to a kit", star: "load(\"kit:station\", \"station\")\n" + net +
			`station("west", network = quay, size = "tiny")` + "\n", address: "west/medina.machine/gauge", path: "size",
			found: "large", want: `station("west", network = quay, size = "large")`},
		{says: "a kit's default", star: "load(\"kit:station\", \"station\")\n" + net + `station("west", network = quay)` + "\n",
			address: "west/medina.machine/gauge", path: "notes", found: "north-2",
			want: `station("west", network = quay, notes = "north-2")`},
		{says: "a literal inside a kit", star: "load(\"kit:station\", \"station\")\n" + net +
			`station("west", network = quay)` + "\n", address: "west/medina.machine/gauge", path: "image", found: "stone-2",
			file: "kits/station/kit.star", want: `image = "stone-2", notes`},
		{says: "what is handed to a function", star: "def open(size, n = 3):\n    medina.machine(\"gauge\", subnet = quay, " +
			"image = \"stone-1\", size = size)\n" + net + "open(\"tiny\")\n", path: "size", found: "large",
			want: "open(\"large\")"},
		{says: "a function's default", star: "def open(size = \"tiny\"):\n    medina.machine(\"gauge\", subnet = quay, image " +
			"= \"stone-1\", size = size)\n" + net + "open()\n", path: "size", found: "large",
			want: "open(size = \"large\")"},
		{says: "a computed text", star: gauge(`, notes = "a-%d" % 3`), path: "notes", found: "b",
			decides: `shore/shore.star:3 decides it: "a-%d" % 3, which would have to give b`},
		{says: "a loop", star: net + "for s in [\"tiny\"]:\n    medina.machine(\"gauge\", subnet = quay, image = \"stone-1\", " +
			"size = s)\n", path: "size", found: "large", decides: `shore/shore.star:3 decides it: ["tiny"]`},
		{says: "a reference", star: gauge(""), path: "subnet", found: "sub-9", decides: "shore/shore.star:2 decides it"},
		{says: "a function of the estate", star: "def owned():\n    return {\"a\": \"1\"}\n" + gauge(", tags = owned()"),
			path: "tags.a", found: "2", decides: `shore/shore.star:5 decides it: owned()`},
	} {
		t.Run(c.says, func(t *testing.T) {
			s := sources(t, map[string]string{"shore/shore.star": c.star})
			if c.address == "" {
				c.address = "medina.machine/gauge"
			}
			d := difference(c.address, c.path, c.found)
			p, err := settle.Find(s, []settle.Difference{d}, settle.TakeOver)
			require.NoError(t, err)
			if c.decides != "" {
				require.Empty(t, p.Files)
				require.Len(t, p.Decided, 1)
				var decided *declare.DecidedError
				require.True(t, errors.As(p.Decided[0].Err, &decided))
				require.ErrorContains(t, p.Decided[0].Err, c.decides)
				return
			}
			require.Empty(t, p.Decided)
			if c.file == "" {
				c.file = "shore/shore.star"
			}
			require.Len(t, p.Files, 1)
			require.Contains(t, string(p.Files[c.file]), c.want)
			now := evaluated(t, s.Options.Estate.Dir, p.Files).Resource(d.Full())
			path, err := value.ParsePath(c.path)
			require.NoError(t, err)
			got, _ := path.At(map[string]any(now.Inputs()))
			require.True(t, value.Equal(got, c.found), "%v", got)
			diff, err := p.Diff(s.Read)
			require.NoError(t, err)
			require.Contains(t, diff, "--- a/"+c.file)
		})
	}
}

// TestHostile: texts of any size and keys with brackets survive being written into the code.
func TestHostile(t *testing.T) {
	for _, c := range []struct {
		says, key, text string
	}{
		{"half a million bytes", "", strings.Repeat("a\"\\\n", 140_000)},
		{"a key with brackets", "a[0][\"b\"].c]", "x"},
		{"quotes", "\"", "\"\"\"'''"},
	} {
		t.Run(c.says, func(t *testing.T) {
			s := sources(t, map[string]string{"shore/shore.star": net + "medina.machine(\"gauge[1]\", subnet = quay, image = " +
				"\"stone-1\", size = \"tiny\", tags = {\"a\": \"1\"})\n"})
			path := value.Path{value.Key("tags"), value.Key(c.key)}
			if c.key == "" {
				path = value.Path{value.Key("notes")}
			}
			d := difference("medina.machine/gauge[1]", path.String(), c.text)
			p, err := settle.Find(s, []settle.Difference{d}, settle.TakeOver)
			require.NoError(t, err)
			require.Empty(t, p.Decided)
			now := evaluated(t, s.Options.Estate.Dir, p.Files).Resource(d.Full())
			is, _ := path.At(map[string]any(now.Inputs()))
			require.True(t, value.Equal(c.text, is))
			diff, err := p.Diff(s.Read)
			require.NoError(t, err)
			require.Contains(t, diff, "+medina.machine")
		})
	}
}

// TestLists: items that stay keep their text, whatever the list becomes.
func TestLists(t *testing.T) {
	for _, c := range []struct {
		list string
		is   []any
		want string
	}{
		{`["a", "b"]`, []any{"a", "c"}, `["a", "c"]`},
		{`["a", "b"]`, []any{"a", "b", "c"}, `["a", "b", "c"]`},
		{`["a", "b"]`, []any{"x", "a", "b"}, `["x", "a", "b"]`},
		{`["a", "b"]`, []any{"b"}, `["b"]`},
		{`["a", "b"]`, []any{"a"}, `["a"]`},
		{`["a", "b"]`, []any{"q"}, `["q"]`},
		{"[\n        \"a\", # one\n        \"b\" # two\n    ]", []any{"a", "b", "c"},
			"[\n        \"a\", # one\n        \"b\", # two\n        \"c\",\n    ]"},
		{"[\n        \"a\", # one\n        \"b\", # two\n    ]", []any{"b"}, "[\n        \"b\", # two\n    ]"},
		{`[x for x in ["a"]]`, []any{"c"}, ""},
	} {
		t.Run(c.want, func(t *testing.T) {
			s := sources(t, map[string]string{"shore/shore.star": "medina.record(\"r\", name = \"n\", kind = \"TXT\", values = " +
				c.list + ")\n"})
			d := difference("medina.record/r", "values", c.is)
			p, err := settle.Find(s, []settle.Difference{d}, settle.TakeOver)
			require.NoError(t, err)
			if c.want == "" {
				require.Len(t, p.Decided, 1)
				return
			}
			require.Empty(t, p.Decided)
			require.Contains(t, string(p.Files["shore/shore.star"]), "values = "+c.want)
			now := evaluated(t, s.Options.Estate.Dir, p.Files).Resource(d.Full())
			require.True(t, value.Equal(now.Inputs()["values"], any(c.is)), "%v", now.Inputs()["values"])
		})
	}
}

// TestShared: one line that gives several resources their values cannot give them different ones.
func TestShared(t *testing.T) {
	s := sources(t, map[string]string{"shore/shore.star": "for n in [\"x\", \"y\"]:\n    medina.bucket(\"b-\" + n, tags = " +
		"{\"all\": \"1\"})\n"})
	for _, path := range []string{"tags.more", "tags.all"} {
		p, err := settle.Find(s, []settle.Difference{difference("medina.bucket/b-x", path, "2"),
			difference("medina.bucket/b-y", path, "3")}, settle.TakeOver)
		require.NoError(t, err)
		require.Len(t, p.Settled, 1)
		require.ErrorContains(t, p.Decided[0].Err, "the same line gives another resource its value, too")
		p, err = settle.Find(s, []settle.Difference{difference("medina.bucket/b-x", path, "2"),
			difference("medina.bucket/b-y", path, "2")}, settle.TakeOver)
		require.NoError(t, err)
		require.Len(t, p.Settled, 2, "equal values are given once")
		require.Equal(t, 1, strings.Count(string(p.Files["shore/shore.star"]), `"2"`))
	}
}

// TestLeaveAndLetGo: care(leave = …) grows, and a declaration goes with its lines.
func TestLeaveAndLetGo(t *testing.T) {
	for _, c := range []struct {
		says, args, want string
	}{
		{"no care", "", `size = "tiny", care = care(leave = ["size"]))`},
		{"a care", ", care = care(guard = True)", `care = care(guard = True, leave = ["size"]))`},
		{"a list", ", care = care(leave = [\"notes\"])", `care = care(leave = ["notes", "size"]))`},
	} {
		t.Run(c.says, func(t *testing.T) {
			s := sources(t, map[string]string{"shore/shore.star": net + "medina.machine(\"gauge\", subnet = quay, image = " +
				"\"stone-1\", size = \"tiny\"" + c.args + ")\n"})
			p, err := settle.Find(s, []settle.Difference{difference("medina.machine/gauge", "size", "x")}, settle.Leave)
			require.NoError(t, err)
			require.Contains(t, string(p.Files["shore/shore.star"]), c.want)
			now := evaluated(t, s.Options.Estate.Dir, p.Files).Resource("shore:medina.machine/gauge")
			require.Contains(t, now.Care.Leave, value.Path{value.Key("size")})
		})
	}
	for _, c := range []struct {
		says, star, want, decides string
	}{
		{"a statement", net + "\nmedina.machine(\n    \"gauge\",\n    subnet = quay,\n    image = \"stone-1\",\n    size = \"tiny\",\n)\n\nx = 1\n",
			net + "\nx = 1\n", ""},
		{"a name that nothing uses", net + "g = medina.machine(\"gauge\", subnet = quay, image = \"stone-1\", size = \"tiny\")\n", net, ""},
		{"a name that is used", net + "g = medina.machine(\"gauge\", subnet = quay, image = \"stone-1\", size = \"tiny\")\npublish(\"a\", " +
			"g.address)\n", "", "other code names it g"},
		{"a loop", net + "for n in [\"gauge\"]:\n    medina.machine(n, subnet = quay, image = \"stone-1\", size = \"tiny\")\n", "",
			"inside another expression or a loop"},
		{"a function", "def open():\n    medina.machine(\"gauge\", subnet = quay, image = \"stone-1\", size = \"tiny\")\n" + net + "open()\n", "",
			"a function or a kit declares it"},
	} {
		t.Run(c.says, func(t *testing.T) {
			s := sources(t, map[string]string{"shore/shore.star": c.star})
			p, err := settle.Find(s, []settle.Difference{difference("medina.machine/gauge", "", nil)}, settle.TakeOver)
			require.NoError(t, err)
			if c.decides != "" {
				require.ErrorContains(t, p.Decided[0].Err, c.decides)
				return
			}
			require.Equal(t, c.want, string(p.Files["shore/shore.star"]))
		})
	}
}

// TestChoose: patterns name addresses, and paths behind them.
func TestChoose(t *testing.T) {
	report := &survey.Report{Resources: []*survey.Resource{
		{Ward: "shore", Address: "medina.machine/a.b", Verdict: survey.Differs, Differences: []survey.Difference{
			{Path: "size"}, {Path: "tags.owner"}, {Path: "notes", Accepted: &survey.Acceptance{}}}},
		{Ward: "shore", Address: "west/medina.disk/tape", Verdict: survey.Gone},
		{Ward: "shore", Address: "medina.disk/other", Verdict: survey.Matches},
	}}
	for _, c := range []struct {
		pattern, want string
	}{
		{"", "shore:medina.machine/a.b size, shore:medina.machine/a.b tags.owner, shore:west/medina.disk/tape"},
		{"medina.machine/a.b", "shore:medina.machine/a.b size, shore:medina.machine/a.b tags.owner"},
		{"medina.machine/a.b.tags", "shore:medina.machine/a.b tags.owner"},
		{"shore:medina.machine/*.size", "shore:medina.machine/a.b size"},
		{"**/tape", "shore:west/medina.disk/tape"},
		{"medina.machine/none", ""},
	} {
		t.Run(c.pattern, func(t *testing.T) {
			var patterns []string
			if c.pattern != "" {
				patterns = []string{c.pattern}
			}
			var got []string
			for _, d := range settle.Differences(report, patterns) {
				got = append(got, d.String())
			}
			require.Equal(t, c.want, strings.Join(got, ", "))
		})
	}
}

// FuzzTakeOver: whatever text a value or a key becomes, the code gives it back, and nothing else
// changes.
func FuzzTakeOver(f *testing.F) {
	for _, s := range []string{"a", "\"\"\"", "'", "\\", "\n\r\t\x00\x7f", "é灯\u2028", "%s {x}", "# no comment", "a[0].b"} {
		f.Add(s, "key")
		f.Add("value", s)
	}
	f.Fuzz(func(t *testing.T, text, key string) {
		if v, err := value.Normal(map[string]any{key: text}); err != nil || key == "" || v == nil {
			t.Skip("not a value")
		}
		s := sources(t, map[string]string{"shore/shore.star": net + "medina.machine(\"gauge\", subnet = quay, image = " +
			"\"stone-1\", size = \"tiny\", tags = {\"a\": \"1\"}) # stays\n"})
		path := value.Path{value.Key("tags"), value.Key(key)}.String()
		d := difference("medina.machine/gauge", path, text)
		p, err := settle.Find(s, []settle.Difference{d}, settle.TakeOver)
		require.NoError(t, err)
		if len(p.Decided) > 0 {
			t.Skip("a path that cannot be written")
		}
		all := evaluated(t, s.Options.Estate.Dir, p.Files)
		got := all.Resource(d.Full()).Inputs()["tags"].(map[string]any)[key]
		require.True(t, value.Equal(got, text), "%q became %q", text, got)
		require.Contains(t, string(p.Files["shore/shore.star"]), net)
		require.True(t, strings.HasSuffix(string(p.Files["shore/shore.star"]), "# stays\n"))
	})
}
