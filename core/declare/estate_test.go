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
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/demo"
	"kasbah/kits"
)

// options reads an estate from disk, with its kits and the inputs of its file.
func options(t testing.TB, dir, env string, wards ...string) declare.Options {
	e, err := estate.Load(dir)
	require.NoError(t, err)
	if wards == nil {
		wards = e.Wards
	}
	opener, err := kits.New(dir)
	require.NoError(t, err)
	o := declare.Options{Estate: e, Env: env, Wards: wards, Catalogs: catalogs(t),
		Kits: opener.Open(context.Background(), e.Kits(env)), Kinds: map[string]string{}}
	t.Cleanup(func() { kits.Close(o.Kits) })
	for _, name := range e.Drivers() {
		o.Kinds[name], _ = e.Driver(name, env)["kind"].(string)
		o.Catalogs[name] = o.Catalogs["medina"]
	}
	for _, g := range e.Inputs(env) {
		o.Inputs = append(o.Inputs, estate.Input{Ward: g.Ward, Name: g.Name, Value: g.Value, Source: g.Source,
			Position: g.Position})
	}
	return o
}

// written writes files into a new folder: a kasbah.toml is made for those
// without one, with every folder below kits as a kit.
func written(t testing.TB, files map[string]string) string {
	dir := t.TempDir()
	toml := "estate = \"lantern-coast\"\nwards = [WARDS]\n[drivers.medina]\nkind = \"medina\"\n[drivers.north]\nkind " +
		"= \"medina\"\n[env.trial.inputs]\n[kits]\n"
	wards := map[string]bool{}
	for name, body := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
		parts := strings.Split(name, "/")
		switch {
		case parts[0] == "kits" && parts[2] == "kit.star":
			toml += fmt.Sprintf("%s = \"kits/%s\"\n", parts[1], parts[1])
			if files["kits/"+parts[1]+"/kit.toml"] == "" {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "kits", parts[1], "kit.toml"),
					[]byte(fmt.Sprintf("name = %q\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\n", parts[1])), 0o644))
			}
		case len(parts) == 2 && parts[0] != "common":
			wards[parts[0]] = true
		}
	}
	var names []string
	for _, w := range value.Keys(wards) {
		names = append(names, fmt.Sprintf("%q", w))
	}
	if files["kasbah.toml"] == "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "kasbah.toml"),
			[]byte(strings.Replace(toml, "WARDS", strings.Join(names, ", "), 1)), 0o644))
	}
	return dir
}

func evaluated(t testing.TB, files map[string]string, wards ...string) (*declare.Declared, problem.List) {
	return declare.Evaluate(context.Background(), options(t, written(t, files), "trial", wards...))
}

// full writes problems with their ways, for comparisons.
func full(list problem.List) string {
	var b strings.Builder
	for _, p := range list {
		b.WriteString(p.Error())
		for _, v := range p.Via {
			b.WriteString(" " + v)
		}
		if p.Hint != "" {
			b.WriteString(" | " + p.Hint)
		}
		b.WriteString("\n")
	}
	return b.String()
}

// nest is five kits, each opening the next, with a pending value handed
// through all of them and a result handed back.
func nest(innermost string) map[string]string {
	files := map[string]string{"shore/shore.star": `load("kit:one", "one")
coast = medina.network("coast", range = "10.0.0.0/16")
quay = medina.subnet("quay", network = coast, range = "10.0.0.0/24")
way = one("a", subnet = quay, gateway = quay.gateway)
publish("way", way)
`}
	names := []string{"one", "two", "three", "four", "five"}
	for i, name := range names {
		body := fmt.Sprintf("def _%s(subnet, gateway, size):\n    return %s(%q, subnet = subnet, gateway = gateway, "+
			"size = size)\n", name, next(names, i), string(rune('b'+i)))
		head := fmt.Sprintf("load(\"kit:%s\", %q)\n", next(names, i), next(names, i))
		if i == len(names)-1 {
			head, body = "", "def _five(subnet, gateway, size):\n"+innermost
		}
		files["kits/"+name+"/kit.star"] = head + body + fmt.Sprintf(
			"%s = kit(_%s, inputs = {\"subnet\": kind.handle(\"medina.subnet\"), \"gateway\": kind.text, \"size\": "+
				"kind.text(default = \"small\")})\n", name, name)
		kitsOf := ""
		if head != "" {
			kitsOf = fmt.Sprintf("kits = [%q]\n", next(names, i))
		}
		files["kits/"+name+"/kit.toml"] = fmt.Sprintf("name = %q\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\n%s",
			name, kitsOf)
	}
	return files
}

func next(names []string, i int) string { return names[min(i+1, len(names)-1)] }

func TestNestOfKits(t *testing.T) {
	d, problems := evaluated(t, nest(`    m = medina.machine("gate", subnet = subnet, size = size, image = "stone-1", notes = "via " + gateway)
    return m.address
`))
	require.Empty(t, problems.Wrong(), full(problems))
	m := d.Find("shore:a/b/c/d/e/medina.machine/gate")
	require.NotNil(t, m)
	require.Equal(t, "via {medina.subnet/quay gateway}", m.Inputs()["notes"].(*value.Pending).String(),
		"the pending value came through all levels")
	require.Equal(t, "from a/b/c/d/e/medina.machine/gate address", value.Plain(d.Wards[0].Published["way"].Value))
	require.Equal(t, "trial-shore-a-b-c-d-e-gate", m.MadeName)
	pos, via := m.Position()
	require.Equal(t, "shore/shore.star:4", pos.Short())
	require.Equal(t, []string{"by kit:one/kit.star:3", "by kit:two/kit.star:3", "by kit:three/kit.star:3",
		"by kit:four/kit.star:3", "by kit:five/kit.star:2"}, via)
	var names []string
	for _, in := range m.Within {
		names = append(names, in.Name+" of "+in.Kit)
	}
	require.Equal(t, "a of one, b of two, c of three, d of four, e of five", strings.Join(names, ", "))

	// what is wrong inside shows the kit's line and the caller's
	_, problems = evaluated(t, nest("    return medina.machine(\"gate\", subnet = subnet, size = \"smal\", image = "+
		"\"stone-1\")\n"))
	text := full(problems)
	require.Contains(t, text,
		`kit:five/kit.star:2:59: a/b/c/d/e/medina.machine/gate: size: "smal" is not one of tiny, small, medium, large by shore/shore.star:4 by kit:one/kit.star:3`)
	require.Contains(t, text, `did you mean "small"?`)
	_, problems = evaluated(t, nest("    return medina.machine(\"gate\", subnet = subnet, sise = size, size = size, "+
		"image = \"stone-1\")\n"))
	require.Contains(t, full(problems),
		`kit:five/kit.star:2:59: a/b/c/d/e/medina.machine/gate: a machine has no attribute "sise" by shore/shore.star:4`, "a wrong name is wrong where it is written")
	_, problems = evaluated(t, nest("    return 1 // 0\n"))
	text = full(problems)
	require.Contains(t, text, "kit:five/kit.star:2:14: floored division by zero by kit:four/kit.star:3")
	require.Contains(t, text, "by shore/shore.star:4")
	_, problems = evaluated(t, nest("    return 1 if gateway else 2\n"))
	require.Contains(t, full(problems), "kit:five/kit.star:2:17: a condition must look at medina.subnet/quay "+
		"gateway, which is not known yet")
	files := nest("    return medina.machine(\"gate\", subnet = subnet, size = size, image = \"stone-1\")\n")
	files["shore/shore.star"] = strings.Replace(files["shore/shore.star"], "gateway = quay.gateway)",
		"gateway = quay.gateway, size = \"hugh\")", 1)
	_, problems = evaluated(t, files)
	require.Contains(t, full(problems),
		`shore/shore.star:4:62: a/b/c/d/e/medina.machine/gate: size: "hugh" is not one of`,
		"at the outermost line that wrote it")
}

const gate = `def _gate(subnet, size, tags, many):
    return [medina.machine("gate-%d" % i, subnet = subnet, size = size, image = "stone-1", tags = tags) for i in range(many)]
gate = kit(_gate, inputs = {
    "subnet": kind.handle("medina.subnet"),
    "size": kind.text(default = "small", one_of = ["tiny", "small"], help = "of the machine"),
    "tags": kind.map(kind.text, default = {}),
    "many": kind.int(default = 1, min = 1, max = 3),
}, help = "a gate")
`

const quay = "load(\"kit:gate\", \"gate\")\ncoast = medina.network(\"coast\", range = \"10.0.0.0/16\")\nquay = " +
	"medina.subnet(\"quay\", network = coast, range = \"10.0.0.0/24\")\n"

func TestKitInputs(t *testing.T) {
	for _, c := range []struct{ call, wants string }{
		{`gate("west", subnet = quay, many = 2)`, ""},
		{`gate("west", subnet = quay, size = None, tags = {"a": "b"})`, ""},
		{`gate("west")`, "4:1: kit gate west: subnet is required and missing"},
		{`gate("west", subnet = coast)`, "4:23: kit gate west: subnet must be the handle of a medina.subnet, not " +
			"that of a medina.network"},
		{`gate("west", subnet = quay.id)`, "subnet must be the handle of a medina.subnet, not a pending"},
		{`gate("west", subnet = quay, many = 4, size = "big")`, "4:36: kit gate west: many: 4 is more than 3"},
		{`gate("west", subnet = quay, many = 4, size = "big")`, "4:46: kit gate west: size: \"big\" is not one of " +
			"tiny, small"},
		{`gate("west", subnet = quay, man = 1)`, "4:35: kit gate west: it has no input \"man\" of " +
			"kit:gate/kit.star:1 | did you mean \"many\"?"},
		{`gate("west", subnet = quay, tags = {"a": 1})`, "tags.a must be a text, not a whole number"},
		{`gate(subnet = quay)`, "kit gate takes one name for the instance"},
		{`gate("West", subnet = quay)`, "cannot name an instance"},
		{`gate(quay.gateway, subnet = quay)`, "an instance's name must look at medina.subnet/quay gateway"},
		{"gate(\"west\", subnet = quay)\ngate(\"west\", subnet = quay)",
			"5:5: the instance west is opened twice; the first is at shore/shore.star:4:1"},
		{`gate("west", subnet = quay, drivers = {"medina": north})`, "must be the handle of a north.subnet, not that " +
			"of a medina.subnet"},
		{`gate("west", subnet = quay, drivers = {"moon": north})`, "4:39: kit gate west: driver north is of kind " +
			"medina, not moon"},
		{`gate("west", subnet = quay, care = 1)`, "care must be care(…), not a value of type int"},
		{"[gate(\"w-%d\" % i, subnet = quay, many = i) for i in [1, 5]]", "many: 5 is more than 3 (with i = 5)"},
	} {
		t.Run(c.call, func(t *testing.T) {
			d, problems := evaluated(t, map[string]string{"kits/gate/kit.star": gate, "shore/shore.star": quay +
				c.call +
				"\n"})
			if c.wants == "" {
				require.Empty(t, problems.Wrong(), c.call+"\n"+full(problems))
				require.NotNil(t, d.Find("shore:west/medina.machine/gate-0"))
				return
			}
			require.Contains(t, full(problems), c.wants, c.call)
		})
	}
}

func TestKitRules(t *testing.T) {
	shore := map[string]string{"shore/shore.star": "load(\"kit:gate\", \"gate\")\ngate(\"west\")\n"}
	for _, c := range []struct{ body, wants string }{
		{"def _g():\n    input(\"x\")\ngate = kit(_g)\n", "kit:gate/kit.star:2:10: a kit takes no input from outside"},
		{"def _g():\n    publish(\"x\", 1)\ngate = kit(_g)\n", "a kit publishes nothing"},
		{"def _g():\n    published(\"a\", \"x\")\ngate = kit(_g)\n", "a kit reads no ward"},
		{"medina.network(\"n\", range = \"10.0.0.0/16\")\n", "kit:gate/kit.star defines functions and values; it " +
			"declares no resource while it is loaded"},
		{"load(\"/common/x.star\", \"x\")\n", "which is not in its folder"},
		{"load(\"../other.star\", \"x\")\n", "leads out of kit:gate"},
		{"load(\"kit:other\", \"x\")\n", "which its kit.toml does not name under kits"},
		{"def _g(a):\n    pass\ngate = kit(_g)\n", "_g takes a, and inputs does not say of which kind it is"},
		{"def _g(a):\n    pass\ngate = kit(_g, inputs = {\"b\": kind.int})\n", "_g takes no b"},
		{"def _g(*a):\n    pass\ngate = kit(_g)\n", "takes *args or **kwargs"},
		{"def _g(a):\n    pass\ngate = kit(_g, inputs = {\"a\": kind.int(default = \"x\")})\n",
			"the default of a must be a whole number, not a text"},
		{"def _g(care):\n    pass\ngate = kit(_g, inputs = {\"care\": kind.any})\n", "no input can be called care"},
		{"x = file(\"/etc/passwd\")\n", "is not in the folder kit:gate"},
		{"x = file(\"../../kasbah.toml\")\n", "is not in the folder kit:gate"},
	} {
		t.Run(c.body, func(t *testing.T) {
			files := map[string]string{"kits/gate/kit.star": c.body, "common/x.star": "x = 1\n"}
			for k, v := range shore {
				files[k] = v
			}
			_, problems := evaluated(t, files)
			require.Contains(t, full(problems), c.wants, c.body)
		})
	}
}

// TestKitDriver: an instance that is handed another driver declares with it,
// and so do the kits inside.
func TestKitDriver(t *testing.T) {
	d, problems := evaluated(t, map[string]string{
		"kits/pair/kit.star": "load(\"kit:lamp\", \"lamp\")\ndef _pair():\n    lamp(\"left\")\n    lamp(\"right\", " +
			"care = care(guard = True))\npair = kit(_pair)\n",
		"kits/pair/kit.toml": "name = \"pair\"\nversion = \"2.0.0\"\ndrivers = [\"medina\"]\nkits = [\"lamp\"]\n",
		"kits/lamp/kit.star": "def _lamp():\n    medina.bucket(\"b\")\nlamp = kit(_lamp)\n",
		"shore/shore.star": "load(\"kit:pair\", \"pair\")\npair(\"home\")\npair(\"away\", drivers = {\"medina\": " +
			"north}, care = care(excuse = {\"tidy\": \"new, until 2031-01-01\"}))\n",
		"common/not-read.txt": "",
	})
	require.Empty(t, problems.Wrong(), full(problems))
	var all []string
	for _, r := range d.Resources {
		all = append(all, fmt.Sprintf("%s %v %v", r.Address, r.Care.Guard, len(r.Care.Excuse)))
	}
	require.Equal(t, []string{"home/left/medina.bucket/b false 0", "home/right/medina.bucket/b true 0",
		"away/left/north.bucket/b false 1", "away/right/north.bucket/b true 1"}, all)
}

func TestWardsReadEachOther(t *testing.T) {
	files := map[string]string{
		"signal/signal.star": "ids = published(\"shore\", \"quays\")\nmedina.machine(\"m\", subnet = " +
			"ids[\"west\"][0], size = \"tiny\", image = \"s\", notes = published(\"shore\", \"plain\")[\"a\"])\n",
		"shore/shore.star": "coast = medina.network(\"coast\", range = \"10.0.0.0/16\")\nquay = " +
			"medina.subnet(\"q\", network = coast, range = \"10.0.0.0/24\")\npublish(\"quays\", {\"west\": " +
			"[quay.id]})\npublish(\"plain\", {\"a\": \"b\"})\n",
	}
	d, problems := evaluated(t, files)
	require.Empty(t, problems.Wrong(), full(problems))
	m := d.Find("signal:medina.machine/m")
	require.Equal(t, "from shore:medina.subnet/q id", value.PlainIn("signal", m.Inputs()["subnet"]))
	require.Equal(t, "b", m.Inputs()["notes"])
	require.Equal(t, "shore:medina.subnet/q", m.Needs[0].Address)
	require.Equal(t, []string{"shore quays", "shore plain"}, []string{d.Wards[1].Reads[0].String(),
		d.Wards[1].Reads[1].String()})

	// alone, the same declaration over what the ledger has: same meaning
	o := options(t, written(t, files), "trial", "signal")
	o.Published = func(string) (value.Map, error) {
		return value.Map{"quays": value.Map{"west": []any{value.NewRef("shore:medina.subnet/q", value.Key("id"))}},
			"plain": value.Map{"a": "b"}}, nil
	}
	alone, problems := declare.Evaluate(context.Background(), o)
	require.Empty(t, problems.Wrong(), full(problems))
	require.True(t, value.Equal(m.Inputs(), alone.Resources[0].Inputs()))

	for _, c := range []struct{ shore, signal, wants string }{
		{"published(\"signal\", \"b\")\npublish(\"a\", 1)\n", "published(\"shore\", \"a\")\npublish(\"b\", 1)\n",
			"wards read each other: shore reads signal b (shore/shore.star:1), signal reads shore a " +
				"(signal/signal.star:1)"},
		{"publish(\"quays\", 1)\n", "published(\"shore\", \"quay\")\n",
			"ward shore publishes no \"quay\"; did you mean \"quays\"?"},
		{"", "published(\"sure\", \"quay\")\n", "no ward is called \"sure\"; did you mean \"shore\"?"},
		{"x = 1 // 0\n", "published(\"shore\", \"quay\")\n", "shore/shore.star:1:7: floored division by zero"},
		{"publish(\"n\", medina.network(\"n\", range = \"10.0.0.0/16\").id)\n",
			"medina.machine(\"m\", subnet = published(\"shore\", \"n\"), size = \"tiny\", image = \"s\")\n",
			"subnet must be the id of a medina.subnet, not the id of shore:medina.network/n, a network"},
	} {
		t.Run(c.shore, func(t *testing.T) {
			_, problems := evaluated(t, map[string]string{"shore/shore.star": c.shore, "signal/signal.star": c.signal})
			require.Contains(t, full(problems), c.wants)
		})
	}
}

func TestCommonFiles(t *testing.T) {
	for _, c := range []struct{ body, wants string }{
		{"def f():\n    return medina.bucket(\"b\")\n", ""},
		{"medina.bucket(\"b\")\ndef f():\n    pass\n", "common/x.star defines functions and values; " +
			"it declares no resource while it is loaded"},
		{"def f():\n    input(\"x\")\n", "input is for the files of wards; " +
			"common/x.star is shared by them"},
		{"def f():\n    publish(\"x\", 1)\n", "publish is for the files of wards"},
		{"y = medina.bucket.find(name = \"b\")\ndef f():\n    pass\n", "it looks nothing up while it is loaded"},
		{"L = [1]\ndef f():\n    L.append(2)\n", "cannot append to frozen list"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, problems := evaluated(t, map[string]string{"common/x.star": c.body,
				"shore/shore.star": "load(\"/common/x.star\", \"f\")\nf()\n"})
			if c.wants == "" {
				require.Empty(t, problems.Wrong(), full(problems))
			} else {
				require.Contains(t, full(problems), c.wants)
			}
		})
	}
	_, problems := evaluated(t, map[string]string{"signal/x.star": "y = 1\n",
		"shore/shore.star": "load(\"/signal/x.star\", \"y\")\n"})
	require.Contains(t, full(problems), "signal/x.star belongs to the ward signal: its values are read by "+
		"published(\"signal\", …)")
	_, problems = evaluated(t, map[string]string{"shore/shore.star": "load(\"/../x.star\", \"y\")\n"})
	require.Contains(t, full(problems), "x.star: no such file")
}

func TestFindAndSecrets(t *testing.T) {
	d, problems := evaluated(t, map[string]string{"shore/shore.star": `net = medina.network.find(name = "old", range = "10.0.0.0/16")
quay = medina.subnet("quay", network = net, range = "10.0.1.0/24")
near = medina.machine.find(name = quay.gateway)
medina.machine("m", subnet = quay, size = "tiny", image = "s", notes = "%s %s" % (secret("token"), near.address))
publish("token", secret("token"), secret = True)
word = input("word", secret = True, min_length = 8, help = "the keepers' word")
medina.bucket("b", tags = {"w": "x" + word})
`})
	require.Empty(t, problems.Wrong(), full(problems))
	q := d.Find("shore:medina.subnet/quay")
	require.Equal(t, "from find(medina.network name old, range 10.0.0.0/16) id", value.PlainIn("shore",
		q.Inputs()["network"]))
	require.Empty(t, q.Needs, "a thing that is found is not a resource")
	m := d.Find("shore:medina.machine/m")
	require.Equal(t, []declare.Need{{Address: "shore:medina.subnet/quay", Why: "subnet"}}, m.Needs,
		"what a look-up is found by is needed")
	require.True(t, value.IsSecret(m.Inputs()["notes"]))
	require.True(t, value.IsSecret(d.Find("shore:medina.bucket/b").Inputs()["tags"]))
	require.Len(t, d.Finds, 2)
	require.Equal(t, []string{"token", "word"}, value.Keys(d.Wards[0].Secrets))
	again, err := value.Decode(value.Encode(m.Inputs()["notes"]))
	require.NoError(t, err)
	require.True(t, value.IsSecret(again), "secrecy is kept through JSON")

	for _, c := range []struct{ body, wants string }{
		{"publish(\"t\", secret(\"t\"))", "holds a secret: publish it with secret = True"},
		{"publish(\"t\", \"clear\", secret = True)", "is written in the code"},
		{"x = secret(\"t\") == \"a\"", "must look at secret(t), which is not known yet: it is " +
			"a secret"},
		{"x = input(\"t\", secret = True, default = \"a\")", "a secret input has no default"},
		{"x = input(\"t\", kind.int, secret = True)", "a secret input is a text"},
		{"x = secret(\"No\")", "is not a valid name for a secret"},
		{"x = medina.network.find()", "takes attribute = value"},
		{"x = medina.network.find(\"a\")", "takes attribute = value"},
		{"x = medina.network.find(nam = \"a\")", "did you mean \"name\"?"},
		{"x = medina.network.find(range = \"10.0.0.1/16\")", "bits set beyond its prefix"},
		{"x = \"a\" + str(medina.network.find(name = \"a\"))", "is a handle, not a text"},
		{"medina.machine(\"m\", subnet = medina.network.find(name = \"a\"), size = \"tiny\", image = \"s\")",
			"must be a medina.subnet, not the handle of find(medina.network name a), a medina.network"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, problems := evaluated(t, map[string]string{"shore/shore.star": c.body + "\n"})
			require.Contains(t, full(problems), c.wants, c.body)
		})
	}
	o := options(t, written(t, map[string]string{"shore/shore.star": "x = input(\"t\", secret = True)\n"}), "trial")
	o.Inputs = append(o.Inputs, estate.Input{Name: "t", Raw: "clear-words", IsRaw: true, Source: "-input"})
	_, problems = declare.Evaluate(context.Background(), o)
	require.Contains(t, full(problems), "t is secret and is never given in clear (given by -input)")
	require.NotContains(t, full(problems), "clear-words")
}

// TestWhy: every attribute of every resource of Lantern Coast has an origin
// that ends at a line, an input, the schema or the cloud.
func TestWhy(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, demo.LanternCoast()))
	for _, env := range []string{"trial", "live"} {
		d, problems := declare.Evaluate(context.Background(), options(t, dir, env))
		require.Empty(t, problems.Wrong(), full(problems))
		count := 0
		for _, r := range d.Resources {
			for _, a := range r.Type.Attributes {
				o, err := d.Why(r, value.Path{value.Key(a.Name)})
				require.NoError(t, err)
				known(t, o, r.Full()+" "+a.Name)
				count++
			}
			o, err := d.Why(r, nil)
			require.NoError(t, err)
			known(t, o, r.Full())
		}
		require.Greater(t, count, 100)
	}
	d, _ := declare.Evaluate(context.Background(), options(t, dir, "live"))
	o, err := d.Why(d.Find("shore:merrow/medina.machine/gauge"), value.Path{value.Key("size")})
	require.NoError(t, err)
	require.Equal(t, "size, handed on", o.What)
	require.Equal(t, "input gauge_size, given by kasbah.toml [env.live.ward.shore.inputs]", o.From[0].What)
	require.Equal(t, "kasbah.toml", o.From[0].Position.File)
}

// known wants every step to say something and, but for what the language
// brings along, to have a line.
func known(t *testing.T, o *declare.Origin, of string) {
	require.NotContains(t, o.What, "while the file runs", of)
	require.NotContains(t, o.What, "an expression", of)
	require.NotEmpty(t, o.What, of)
	require.NotEmpty(t, o.Position.Line, of+": "+o.What)
	for _, f := range o.From {
		known(t, f, of)
	}
}

// FuzzKitCode: no text makes the code of a kit panic, or go on for ever.
func FuzzKitCode(f *testing.F) {
	f.Add(gate)
	f.Add("gate = kit(lambda a = 1: gate(\"b\"), inputs = {\"a\": kind.list(kind.map(kind.int(min = 2)))})\n")
	f.Add("def g(x):\n    return medina.network.find(name = x).id + secret(\"a\")\ngate = kit(g, inputs = {\"x\": " +
		"kind.record({\"a\": kind.any})})\n")
	f.Fuzz(func(t *testing.T, body string) {
		_, problems := evaluated(t, map[string]string{"kits/gate/kit.star": body,
			"shore/shore.star": "load(\"kit:gate\", \"gate\")\nx = gate(\"w\", x = {\"a\": 1}, subnet = 5, many = " +
				"\"a\" * 10)\npublish(\"x\", x)\n"})
		for _, p := range problems {
			require.NotContains(t, p.Message, "panic")
		}
	})
}
