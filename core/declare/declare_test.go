package declare_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/medina"
)

// catalogs is Medina's catalogue under the name medina.
func catalogs(t testing.TB) map[string]*schema.Catalog {
	d, err := medina.Settings{API: "embedded"}.Driver("")
	require.NoError(t, err)
	c, err := d.Describe(context.Background())
	require.NoError(t, err)
	return map[string]*schema.Catalog{"medina": c}
}

const config = `
estate = "lantern-coast"
wards = ["shore"]
[drivers.medina]
kind = "medina"
[env.trial.inputs]
`

// evaluate evaluates files of one ward. Names without a folder stand in the
// ward shore; kasbah.toml may be given too.
func evaluate(t testing.TB, files map[string]string, inputs ...estate.Input) (*declare.Declared, problem.List) {
	dir := t.TempDir()
	if files["kasbah.toml"] == "" {
		files["kasbah.toml"] = config
	}
	for name, body := range files {
		if !strings.Contains(name, "/") && name != "kasbah.toml" {
			name = "shore/" + name
		}
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	e, err := estate.Load(dir)
	require.NoError(t, err)
	var all []estate.Input
	for _, g := range e.Inputs("trial") {
		all = append(all, estate.Input{Ward: g.Ward, Name: g.Name, Value: g.Value, Source: g.Source,
			Position: g.Position})
	}
	return declare.Evaluate(context.Background(), declare.Options{Estate: e, Env: "trial", Wards: e.Wards,
		Catalogs: catalogs(t), Inputs: append(all, inputs...)})
}

func star(t testing.TB, body string, inputs ...estate.Input) (*declare.Declared, problem.List) {
	return evaluate(t, map[string]string{"shore.star": body}, inputs...)
}

const coast = "coast = medina.network(\"coast\", range = \"10.20.0.0/16\")\n"

// published evaluates an expression over a network whose id and gateway are
// pending, by publishing it.
func published(t testing.TB, expression string) (any, problem.List) {
	d, problems := star(t, coast+"gate = coast.gateway\npublish(\"x\", "+expression+")\n")
	if problems.Wrong() > 0 {
		return nil, problems
	}
	return d.Wards[0].Published["x"].Value, problems
}

// TestPendingSurvives: what only hands a pending value on keeps it, and is
// right once the value is known.
func TestPendingSurvives(t *testing.T) {
	known := func(ref value.Ref) (any, error) {
		v, _ := ref.Path.At(map[string]any{"gateway": "10.20.0.1", "id": "net-1", "tags": value.Map{"a": "b\"c"}})
		return v, nil
	}
	for _, c := range []struct {
		expression string
		want       any
	}{
		{`gate`, "10.20.0.1"},
		{`"http://%s/x" % gate`, "http://10.20.0.1/x"},
		{`"%s-%d-%s%%" % (gate, 7, coast.id)`, "10.20.0.1-7-net-1%"},
		{`"%(a)s/%(b)s" % {"a": gate, "b": 2}`, "10.20.0.1/2"},
		{`"{}:{}".format(gate, 80)`, "10.20.0.1:80"},
		{`"{1}{0}{{}}".format("a", gate)`, "10.20.0.1a{}"},
		{`"{host}".format(host = gate)`, "10.20.0.1"},
		{`"a" + gate + "b"`, "a10.20.0.1b"},
		{`gate + coast.id`, "10.20.0.1net-1"},
		{`str(gate)`, "10.20.0.1"},
		{`", ".join(["x", gate, coast.id])`, "x, 10.20.0.1, net-1"},
		{`[gate, {"k": gate}]`, []any{"10.20.0.1", value.Map{"k": "10.20.0.1"}}},
		{`json.encode({"g": gate, "n": [1, gate]})`, `{"g":"10.20.0.1","n":[1,"10.20.0.1"]}`},
		{`json.encode({"t": coast.tags})`, `{"t":{"a":"b\"c"}}`},
		{`coast.tags["a"]`, "b\"c"},
		{`"%s" % struct(a = 1)`, "struct(a = 1)"},
		{`[x for x in [gate]]`, []any{"10.20.0.1"}},
		{`("x" and gate)`, "10.20.0.1"},
		{`(gate if True else "")`, "10.20.0.1"},
		{`(lambda v: v + "!")(gate)`, "10.20.0.1!"},
		{`getattr("{}", "format")(gate)`, "10.20.0.1"},
		{`"{}".format` + `(gate)`, "10.20.0.1"},
		{`coast.range`, "10.20.0.0/16"},
		{`(coast.range + gate).format`, nil},
	} {
		t.Run(c.expression, func(t *testing.T) {
			v, problems := published(t, c.expression)
			if c.want == nil {
				require.NotZero(t, problems.Wrong(), c.expression)
				return
			}
			require.NoError(t, problems.Err(), c.expression)
			if c.expression != "coast.range" && !strings.HasPrefix(c.expression, `"%s" % struct`) {
				require.True(t, value.IsPending(v), c.expression)
			}
			decoded, err := value.Decode(value.Encode(v)) // also through a kept proposal
			require.NoError(t, err)
			got, err := value.Resolve(decoded, known)
			require.NoError(t, err)
			require.Equal(t, c.want, got, c.expression)
		})
	}
}

// TestPendingRefuses: whatever would have to look at a pending value is an
// error at its own column that names the value.
func TestPendingRefuses(t *testing.T) {
	for _, expression := range []string{
		`1 if §gate else 2`, `§gate and 1`, `§gate or 1`, `not §gate`, `gate §== "x"`, `"x" §!= gate`, `gate §== None`,
		`gate §== coast.id`,
		`[gate] §== ["x"]`, `{"a": gate} §== {"a": "x"}`, `(1, gate) §< (1, "x")`, `gate §< "x"`, `"x" §in gate`,
		`gate §in ["x"]`, `"x" §in ["y", gate]`,
		`gate not §in "abc"`, `len§(gate)`, `[x for x in §gate]`, `sorted§([gate, "x"])`, `max§("a", gate)`,
		`min§([gate])`, `any§([gate])`, `all§([gate, True])`,
		`bool§(gate)`, `gate §- 1`, `gate §* 2`, `2 §* gate`, `§-gate`, `gate §// 2`, `gate §+ 1`, `"%d" §% gate`,
		`"%r" §% gate`, `"%s" §% [gate]`, `gate §% 3`,
		`"{!r}".format§(gate)`, `"{}".format§([gate])`, `gate§.upper()`, `gate§.split(".")`, `gate§.startswith("1")`,
		`"abc".startswith§(gate)`,
		`"abc".replace§("a", gate)`, `gate§.replace("a", "b")`, `gate§.format("x")`, `gate§.join(["a"])`,
		`"a".join§(gate)`, `{gate§: 1}`, `{"a": 1}§[gate]`,
		`type§(gate)`, `repr§(gate)`, `repr§([gate])`, `int§(gate)`, `gate§[0]`, `gate[1:2]`, `["a"].index§(gate)`,
		`[gate].index§("a")`, `list§(gate)`, `tuple§(gate)`,
		`dict§(gate)`, `set§([gate])`, `zip§(gate, [1])`, `enumerate§(gate)`, `reversed§(gate)`, `range§(gate)`,
		`hash§(gate)`, `"a" if [1 for _ in [1] if §gate] else 1`,
		`[gate].count`, `json.decode§(gate)`, `hasattr§(gate, "x")`, `(lambda: gate §== 1)()`,
		`medina.network§(gate, range = "10.0.0.0/8")`,
		`getattr§(gate, "upper")`, `"%s" §% coast`, `str§(coast)`, `"x" §+ coast.free`,
	} {
		plain := strings.ReplaceAll(expression, "§", "")
		_, problems := published(t, plain)
		if !strings.Contains(expression, "§") || strings.Contains(expression, "coast.free") {
			assert.NotZero(t, problems.Wrong(), plain)
			continue
		}
		assert.Equal(t, 1, problems.Wrong(), "%s: %v", plain, problems)
		var wrong *problem.Problem
		for _, p := range problems {
			if p.Level == problem.Wrong {
				wrong = p
			}
		}
		column := len(`publish("x", `) + strings.Index(expression, "§") + 1
		assert.Equal(t, 3, wrong.Position.Line, plain)
		assert.Equal(t, column, wrong.Position.Column, "%s: %s", plain, wrong)
		assert.Contains(t, wrong.Message, "medina.network/coast", plain)
	}
}

// TestStatements: the same for what only statements can do.
func TestStatements(t *testing.T) {
	for body, at := range map[string]string{
		"if coast.id:\n    pass":                                               "2:4",
		"if \"a\" == \"b\":\n    pass\nelif coast.id:\n    pass":               "4:6",
		"for x in coast.tags:\n    pass":                                       "2:10",
		"a, b = coast.id":                                                      "2:6",
		"x = \"a\"\nx %= coast.id":                                             "",
		"x = \"%s\"\nx %= coast.id\npublish(\"x\", x)":                         "ok",
		"x = \"a\"\nx += coast.id\npublish(\"x\", x)":                          "ok",
		"x = 1\nx += coast.id":                                                 "3:3",
		"x = 1\nx *= coast.id":                                                 "3:3",
		"x = [\"%d\"]\nx[0] %= coast.id":                                       "3:6",
		"x = [\"a\"]\nx[len(x) - 1] += \"b\"":                                  "3:1",
		"x = []\nx += [coast.id]\ny = x\ny += [\"z\"]\npublish(\"n\", len(x))": "ok",
		"def f(v):\n    if v:\n        return 1\nf(coast.id)":                  "3:8",
		"f = \"{}\".format\npublish(\"x\", f(coast.id))":                       "ok",
		"l = [1]\nl.remove(coast.id)":                                          "3:9",
		"l = [1]\nl.extend(coast.id)":                                          "3:9",
	} {
		_, problems := star(t, coast+body+"\n")
		if at == "ok" {
			assert.NoError(t, problems.Err(), body)
			continue
		}
		assert.NotZero(t, problems.Wrong(), body)
		if at != "" {
			assert.Equal(t, "shore/shore.star:"+at, problems[0].Position.String(), "%s: %v", body, problems)
		}
	}
	d, problems := star(t, coast+"x = []\ny = x\ny += [\"z\"]\npublish(\"n\", len(x))\n")
	assert.NoError(t, problems.Err())
	assert.EqualValues(t, 1, d.Wards[0].Published["n"].Value, "+= grows a list in place")
}

// TestPositions: a mistake is shown at the attribute's value, outermost line
// first, also through functions, ** and loops.
func TestPositions(t *testing.T) {
	for _, c := range []struct{ body, at, words string }{
		{"medina.machine(\n  \"m\",\n  size =\n    \"smal\")", "4:5",
			`size: "smal" is not one of tiny, small, medium, large`},
		{"medina.network(\"n\", rnge = \"10.0.0.0/8\")", "1:28", `a network has no attribute "rnge"`},
		{"medina.network(\"n\")", "1:1", "range is required and missing"},
		{"medina.network(\"n\", range = 5)", "1:29", "range must be a text, not a whole number"},
		{"medina.network(\"n\", range = \"10.0.0.1/8\")", "1:29",
			"has bits set beyond its prefix; the range is 10.0.0.0/8"},
		{"medina.network(\"n\", range = \"10.0.0.0/8\", gateway = \"x\")", "1:53", "gateway is decided by the cloud"},
		{"medina.network(\"n\", range = \"10.0.0.0/8\", tags = {\"a\": 1})", "1:50", "tags.a must be a text"},
		{"medina.bucket(\"b\", public = 1)", "1:29", "public must be True or False"},
		{"medina.disk(\"d\", gigabytes = 0)", "1:30", "0 is less than 1"},
		{"medina.record(\"r\", name = \"x\", kind = \"A\", values = [])", "1:53", "at least 1"},
		{"def box(size):\n    medina.disk(\"d\", gigabytes = size)\nbox(0)", "3:5", "0 is less than 1"},
		{"def box(size):\n    medina.disk(\"d\", gigabytes = size)\nbox(size = 0)", "3:12", "0 is less than 1"},
		{"def box(size = 0):\n    medina.disk(\"d\", gigabytes = size)\nbox()", "1:16", "0 is less than 1"},
		{"def box(**more):\n    medina.disk(\"d\", **more)\nbox(gigabytes = 0)", "3:17", "0 is less than 1"},
		{"def a(**m):\n    medina.disk(\"d\", **m)\ndef b(n):\n    a(gigabytes = n)\nb(0)", "5:3", "0 is less than 1"},
		{"common = {\"gigabytes\": 0}\nmedina.disk(\"d\", **common)", "1:24", "0 is less than 1"},
		{"common = dict(gigabytes = 0)\nmedina.disk(\"d\", **common)", "1:27", "0 is less than 1"},
		{"medina.disk(\"d\", **{\"gigabytes\": 0})", "1:34", "0 is less than 1"},
		{"for g in [1, 0]:\n    medina.disk(\"d%d\" % g, gigabytes = g)", "2:40", "0 is less than 1 (with g = 0)"},
		{"[medina.disk(\"d%d\" % g, gigabytes = g) for g in [1, 0]]", "1:37", "(with g = 0)"},
		{"def f():\n    for g in [0]:\n        medina.disk(\"d\", gigabytes = g)\nf()", "3:38", "(with g = 0)"},
		{"medina.disk(\"a b\", gigabytes = 1)", "1:12", "without spaces"},
		{"\nmedina.disk(\"ä\xff\", gigabytes = 1)", "2:15", "the file holds bytes that are not UTF-8"},
		{"medina.disk(gigabytes = 1)", "1:12", "takes one name"},
		{"medina.disk(\"d\", gigabytes = 1)\nmedina.disk(\"d\", gigabytes = 1)", "2:1",
			"is declared twice; the first is at shore/shore.star:1:1"},
		{"medina.disk(\"d\", gigabytes = 1, **{\"gigabytes\": 2})", "1:30", "gigabytes is given twice"},
		{"n = medina.network(\"n\", range = \"10.0.0.0/8\")\nmedina.machine(\"m\", subnet = n, size = \"tiny\", " +
			"image = \"x\")", "2:30", "subnet must be a medina.subnet, not the handle of medina.network/n"},
		{"n = medina.network(\"n\", range = \"10.0.0.0/8\")\nmedina.machine(\"m\", subnet = n.id, size = \"tiny\", " +
			"image = \"x\")", "2:30", "must be the id of a medina.subnet"},
		{"n = medina.network(\"n\", range = \"10.0.0.0/8\")\nmedina.bucket(\"b\", name = n)", "2:27",
			"not the handle of medina.network/n: write one of its attributes"},
		{"n = medina.network(\"n\", range = \"10.0.0.0/8\")\nn.gatway", "2:2",
			`has no attribute "gatway"; did you mean "gateway"?`},
		{"medina.bukket(\"b\")", "1:7", `did you mean "bucket"?`},
		{"medna.bucket(\"b\")", "1:1", "undefined: medna"},
		{"medina.bucket(\"b\"", "2:1", "got end of file"},
		{"def f():\n    return f()\nf()", "2:12", "called recursively"},
		{"care(swap = \"sideways\")", "1:5", "must be \"create-first\" or \"drop-first\""},
		{"care(renamed_from = \"x y\")", "1:5", "must be a former address"},
		{"medina.bucket(\"b\", care = care(after = [\"medina.bucket/none\"]))", "1:27",
			"after names medina.bucket/none, which nothing declares"},
		{"medina.bucket(\"b\", name = \"same\")\nmedina.bucket(\"c\", care = 1)", "2:27", "care must be care(…)"},
		{"published(\"signal\", \"x\")", "1:10", "no ward is called \"signal\""},
		{"published(\"shore\", \"x\")", "1:10", "ward shore reads itself"},
		{"file(\"../kasbah.toml\")", "1:5", "is not in the folder shore"},
		{"file(\"/etc/passwd\")", "1:5", "is not in the folder shore"},
		{"load(\"none.star\", \"x\")", "1:1", "none.star"},
		{"load(\"shore.star\", \"x\")", "1:1", "loads itself"},
		{"load(\"kit:beam\", \"beam\")", "1:1", "names no kit \"beam\""},
		{"publish(\"a\", 1)\npublish(\"a\", 2)", "2:8", "published twice"},
		{"x = [1]\nx[0][1] = 2", "2:5", "does not support item assignment"},
	} {
		_, problems := star(t, c.body+"\n")
		assert.NotZero(t, problems.Wrong(), c.body)
		var first *problem.Problem
		for _, p := range problems {
			if p.Level == problem.Wrong && first == nil && strings.Contains(p.Message, c.words) {
				first = p
			}
		}
		if !assert.NotNil(t, first, "%s\n%v", c.body, problems) {
			continue
		}
		assert.Equal(t, "shore/shore.star:"+c.at, first.Position.String(), "%s\n%v", c.body, problems)
		assert.Contains(t, first.Message, c.words, c.body)
	}
}

// TestAllTogether: one check reports everything it can.
func TestAllTogether(t *testing.T) {
	_, problems := evaluate(t, map[string]string{
		"a.star": "medina.disk(\"d\", gigabytes = 0, size = " +
			"1)\nmedina.disk(\"e\")\nfail(\"enough\")\nmedina.disk(\"f\")\n",
		"b.star": "input(\"one\")\ninput(\"two\", kind.int, help = \"a number\")\nfor x in input(\"three\"):\n    " +
			"pass\n",
	}, estate.Input{Name: "for", Raw: "4", IsRaw: true, Source: "-input"})
	var said []string
	for _, p := range problems {
		said = append(said, p.Position.String()+" "+p.Message)
	}
	require.Equal(t, []string{
		"shore/a.star:1:30 gigabytes: 0 is less than 1",
		"shore/a.star:1:40 a disk has no attribute \"size\"",
		"shore/a.star:2:1 gigabytes is required and missing",
		"shore/a.star:3:5 fail: enough",
		"shore/a.star:3:5 the rest of shore/a.star was not checked",
		"shore/b.star:1:1 input one has no value",
		"shore/b.star:2:1 input two has no value",
		"shore/b.star:3:10 input three has no value",
		"shore/b.star:3:10 the rest of shore/b.star was not checked",
	}, said)
}

func TestInputs(t *testing.T) {
	in := func(name, raw string) estate.Input {
		return estate.Input{Name: name, Raw: raw, IsRaw: true, Source: "-input"}
	}
	for _, c := range []struct {
		declaration string
		given       []estate.Input
		want        any
		wrong       string
	}{
		{`input("x", kind.text)`, []estate.Input{in("x", "plain words")}, "plain words", ""},
		{`input("x", kind.text)`, []estate.Input{in("x", `"quoted"`)}, "quoted", ""},
		{`input("x", kind.text)`, []estate.Input{in("x", "5")}, "5", ""},
		{`input("x", kind.int)`, []estate.Input{in("x", "5")}, int64(5), ""},
		{`input("x", kind.int)`, []estate.Input{in("x", "5.5")}, nil, "x must be a whole number"},
		{`input("x", kind.int)`, []estate.Input{in("x", "five")}, nil, "is not a TOML value"},
		{`input("x", kind.int, min = 3)`, []estate.Input{in("x", "2")}, nil, "2 is less than 3"},
		{`input("x", kind.int, max = 3)`, []estate.Input{in("x", "4")}, nil, "4 is more than 3"},
		{`input("x", kind.number)`, []estate.Input{in("x", "4")}, 4.0, ""},
		{`input("x", kind.bool)`, []estate.Input{in("x", "true")}, true, ""},
		{`input("x", kind.bool)`, []estate.Input{in("x", "1")}, nil, "must be True or False"},
		{`input("x", kind.cidr)`, []estate.Input{in("x", "10.0.0.0/8")}, "10.0.0.0/8", ""},
		{`input("x", kind.cidr)`, []estate.Input{in("x", "10.0.0.0")}, nil, "is not an address range"},
		{`input("x", kind.duration)`, []estate.Input{in("x", "90s")}, "90s", ""},
		{`input("x", kind.duration)`, []estate.Input{in("x", "ninety")}, nil, "is not a duration"},
		{`input("x", kind.list(kind.int))`, []estate.Input{in("x", "[1, 2]")}, []any{int64(1), int64(2)}, ""},
		{`input("x", kind.list(kind.int))`, []estate.Input{in("x", `[1, "b"]`)}, nil, "x[1] must be a whole number"},
		{`input("x", kind.map(kind.int))`, []estate.Input{in("x", "{a = 1}")}, value.Map{"a": int64(1)}, ""},
		{`input("x", kind.record({"a": kind.int, "b": kind.text}))`, []estate.Input{in("x", `{a = 1, b = "c"}`)},
			value.Map{"a": int64(1), "b": "c"}, ""},
		{`input("x", kind.record({"a": kind.int}))`, []estate.Input{in("x", `{b = 1}`)}, nil, `x has no field "b"`},
		{`input("x", one_of = ["a", "b"])`, []estate.Input{in("x", "c")}, nil, `"c" is not one of a, b`},
		{`input("x", kind.text, min_length = 2)`, []estate.Input{in("x", "a")}, nil, "at least 2"},
		{`input("x", kind.text, max_length = 2)`, []estate.Input{in("x", "abc")}, nil, "at most 2"},
		{`input("x", kind.text, matches = "^a")`, []estate.Input{in("x", "b")}, nil, "does not match ^a"},
		{`input("x", default = 7)`, nil, int64(7), ""},
		{`input("x", kind.int, default = "a")`, nil, nil, "the default of input x must be a whole number"},
		{`input("x", default = 7)`, []estate.Input{{Name: "x", Value: int64(1), Source: "kasbah.toml [inputs]"},
			{Ward: "shore", Name: "x", Value: int64(2), Source: "kasbah.toml"}, in("x", "3")}, int64(3), ""},
		{`input("x", default = 7)`, []estate.Input{in("y", "3"), in("x", "2")}, nil,
			`no input in this estate is called "y"`},
		{`input("x", secret = True)`, nil, nil, "publish it with secret = True"},
		{`input("x", kind.number, min = 0.5, max = 2)`, []estate.Input{in("x", "0.25")}, nil, "0.25 is less than 0.5"},
		{`input("x", kind.number, min = 0.5, max = 2)`, []estate.Input{in("x", "3")}, nil, "3 is more than 2"},
		{`input("x", kind.list(kind.text), min_length = 1)`, []estate.Input{in("x", "[]")}, nil,
			"x has 0 items, and at least 1 are wanted"},
		{`input("x", kind.map(kind.int), max_length = 1)`, []estate.Input{in("x", "{a = 1, b = 2}")}, nil,
			"x has 2 keys, and at most 1 are allowed"},
		{`input("x", kind.map(kind.int(min = 1)))`, []estate.Input{in("x", "{a = 0}")}, nil, "x.a: 0 is less than 1"},
		{`input("x", kind.list(kind.text(matches = "^a")))`, []estate.Input{in("x", `["b"]`)}, nil,
			`x[0]: "b" does not match ^a`},
		{`input("x", kind.int(min = 1, default = 4))`, nil, int64(4), ""},
		{`input("x", kind.int(min = 1, default = 4), default = 5)`, nil, int64(5), ""},
		{`input("x", kind.record({"a": kind.int, "b": kind.text(default = "c")}))`, []estate.Input{in("x", "{a = 1}")},
			value.Map{"a": int64(1), "b": "c"}, ""},
		{`input("x", kind.record({"a": kind.int, "b": kind.text(default = "c")}))`,
			[]estate.Input{in("x", "{b = 'd'}")}, nil, "x.a is required and missing"},
		{`input("x", kind.list(kind.record({"a": kind.int(default = 2)})))`, []estate.Input{in("x", "[{}]")},
			[]any{value.Map{"a": int64(2)}}, ""},
		{`input("x", kind.any)`, []estate.Input{in("x", "{a = [1]}")}, value.Map{"a": []any{int64(1)}}, ""},
		{`input("x", kind.text, one_of = ["a"], default = "b")`, nil, nil,
			`the default of input x: "b" is not one of a`},
		{`input("x", kind.text, min = 1)`, nil, nil, "min is for numbers, and the kind is text"},
		{`input("x", kind.int, matches = "a")`, nil, nil, "matches is for texts, and the kind is int"},
		{`input("x", kind.int, min_length = 1)`, nil, nil, "min_length and max_length are for texts, lists and maps"},
		{`input("x", kind.int, min = "a")`, nil, nil, "min must be a number, not a string"},
		{`input("x", kind.int, one_of = 5)`, nil, nil, "one_of must be a list of known values"},
		{`input("x", kind.handle("medina.subnet"))`, nil, nil, "an input from outside cannot be a handle"},
		{`input("x", kind.handle("subnet"))`, nil, nil, "needs a type with its driver"},
		{`input("x", kind.list("text"))`, nil, nil, "kind.list must be a kind, not a string"},
		{`input("x", kind.int(3))`, nil, nil, "kind.int takes constraints by name"},
		{`input("x", "text")`, nil, nil, "kind must be a kind such as kind.text, not a string"},
		{`input("X")`, nil, nil, "is not a valid name for an input"},
		{`input("x", matches = "(", default = "a")`, nil, nil, "matches:"},
	} {
		t.Run(c.declaration, func(t *testing.T) {
			d, problems := star(t, "publish(\"v\", "+c.declaration+")\n", c.given...)
			if c.wrong != "" {
				require.NotZero(t, problems.Wrong(), c.declaration)
				require.Contains(t, problems.Error(), c.wrong, c.declaration)
				return
			}
			require.NoError(t, problems.Err(), c.declaration)
			require.Equal(t, c.want, d.Wards[0].Published["v"].Value, c.declaration)
		})
	}
	d, problems := star(t, `publish("v", input("x"))`, estate.Input{Name: "x", Value: int64(1), Source: "one"},
		estate.Input{Name: "x", Value: int64(2), Source: "two"})
	require.NoError(t, problems.Err())
	require.Equal(t, "two", d.Wards[0].Taken["x"].Source)
	require.Equal(t, []string{"one"}, d.Wards[0].Taken["x"].Beaten)
}

func TestNames(t *testing.T) {
	d, problems := star(t, coast+strings.Join([]string{
		`medina.network("` + strings.Repeat("long", 20) + `", range = "10.0.0.0/8")`,
		`medina.network("given", name = "my-own", range = "10.0.0.0/8")`,
		`medina.record("r", name = "r.example", kind = "A", values = ["10.0.0.1"])`,
	}, "\n"))
	require.NoError(t, problems.Err())
	require.Equal(t, "trial-shore-coast", d.Resources[0].MadeName)
	require.Len(t, d.Resources[1].MadeName, 63, "a name too long is cut")
	require.Regexp(t, `^trial-shore-(long)+.*-[0-9a-f]{6}$`, d.Resources[1].MadeName)
	require.Empty(t, d.Resources[2].MadeName)
	require.Empty(t, d.Resources[3].MadeName, "a required name has no default")
	toml := strings.Replace(config, "wards", "names = \"{name}\"\nwards", 1)
	toml = strings.Replace(toml, `["shore"]`, `["shore", "signal"]`, 1)
	one := "medina.network(\"n\", range = \"10.0.0.0/8\")\n"
	_, problems = evaluate(t, map[string]string{"kasbah.toml": toml, "a.star": one, "signal/b.star": one})
	require.ErrorContains(t, problems.Err(),
		`the name pattern gives it the name "n", as it does shore:medina.network/n (shore/a.star:1)`)
}

// TestLibrary: load, file, cidr and the names of where we are.
func TestLibrary(t *testing.T) {
	d, problems := evaluate(t, map[string]string{
		"a.star": "load(\"tags.star\", \"TAGS\", \"shout\")\nmedina.bucket(\"b\", tags = TAGS)\npublish(\"s\", " +
			"shout(env + \".\" + ward + \".\" + estate))\n",
		"tags.star": "TAGS = {\"owner\": \"keepers\"}\ndef shout(s):\n    return s.upper()\n",
		"c.star":    "f = file(\"page.html\")\npublish(\"f\", [f.text, f.sha256[:8], f.size, f.media_type])\n",
		"page.html": "<p>hello</p>",
		"d.star": "publish(\"c\", [cidr.slice(\"10.20.0.0/16\", 24, 5), cidr.slice(\"fd00::/8\", 64, 3), " +
			"cidr.host(\"10.0.0.0/30\", 2), cidr.host(\"fd00::/64\", 258)])\n" +
			"publish(\"m\", [math.floor(2.5), json.decode(\"[1]\"), len(struct(a = [1]).a)])\n",
		"sub/ignored.star": "fail(\"subfolders are not read\")\n",
	})
	require.NoError(t, problems.Err())
	p := d.Wards[0].Published
	require.Equal(t, "TRIAL.SHORE.LANTERN-COAST", p["s"].Value)
	require.Equal(t, []any{"<p>hello</p>", "4b10a1b7", int64(12), "text/html; charset=utf-8"}[0],
		p["f"].Value.([]any)[0])
	require.Equal(t, int64(12), p["f"].Value.([]any)[2])
	require.Equal(t, "text/html; charset=utf-8", p["f"].Value.([]any)[3])
	require.Equal(t, []any{"10.20.5.0/24", "fd00:0:0:3::/64", "10.0.0.2", "fd00::102"}, p["c"].Value)
	require.Equal(t, []any{int64(2), []any{int64(1)}, int64(1)}, p["m"].Value)
	require.Len(t, d.Wards[0].Files, 5)
	for _, c := range []struct{ body, words string }{
		{`medina.bucket("b", tags = {file("raw").text: "b"})`, "a key with bytes that are not UTF-8"},
		{`medina.bucket("b", name = file("raw").text)`, "name holds bytes that are not UTF-8"},
		{`medina.bucket(file("raw").text)`, "a printable text without spaces"},
		{`load("tags.star", "T")` + "\nT.append(1)", "frozen"},
		{`cidr.slice("10.0.0.0/24", 25, 2)`, "has no slice 2"},
		{`cidr.slice("10.0.0.0/24", 23, 0)`, "does not lie between 24 and 32"},
		{`cidr.host("10.0.0.0/30", 4)`, "has no address 4"},
		{`json.decode("` + strings.Repeat("[", 200) + `")`, "deeper than 100 levels"},
		{`range(100000000)`, "goes over the limit"},
		{"x = 3\n[x for i in range(40)]\ndef _f():\n    x = 3\n    for i in range(60):\n        x = x * x\n_f()",
			"a whole number of more than 65536 bits goes over the limit"},
		{"def _f():\n    x = 3\n    for i in range(60):\n        x *= x\n_f()",
			"a whole number of more than 65536 bits goes over the limit"},
		{"def _f():\n    x = 3\n    for i in range(1000):\n        x = x << 500\n_f()",
			"a whole number of more than 65536 bits goes over the limit"},
		{"def _f():\n    x = 3\n    for i in range(1000):\n        x <<= 500\n_f()",
			"a whole number of more than 65536 bits goes over the limit"},
		{`int("9" * 10000000)`, "goes over the limit of a whole number"},
		{`"x" * 100000000`, "goes over the limit"},
		{`[0] * 100000000`, "goes over the limit"},
		{`("x" * 60000000).replace("x", "yyyy")`, "over the limit"},
		{`x = "x" * 40000000` + "\nx += x", "goes over the limit"},
		{`def f():` + "\n    for _ in range(10000000):\n        for _ in range(100):\n            pass\nf()", "steps"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, problems := evaluate(t, map[string]string{"a.star": c.body + "\n", "tags.star": "T = [1]\n",
				"raw": "x\xff"})
			require.ErrorContains(t, problems.Err(), c.words, c.body)
		})
	}
}

// TestWatchdog: time and memory are bounded as well, and a built-in that
// cannot be stopped is told about.
func TestWatchdog(t *testing.T) {
	limits := config + "\n[limits]\nseconds = 1\nheap_bytes = 200000000\nsteps = 100000000000\n"
	loop := "def f():\n    for _ in range(10000000):\n        for _ in range(10000000):\n            pass\nf()\n"
	_, problems := evaluate(t, map[string]string{"kasbah.toml": limits, "a.star": loop})
	require.ErrorContains(t, problems.Err(), "the ward takes more than 1 s")
	hoard := "def f():\n    x = []\n    for i in range(1000):\n        x.append(\"%d\" % i * 1000000)\nf()\n"
	// memory ends it, however slow the machine
	patient := strings.Replace(limits, "seconds = 1\n", "seconds = 300\n", 1)
	_, problems = evaluate(t, map[string]string{"kasbah.toml": patient, "a.star": hoard})
	require.ErrorContains(t, problems.Err(), "bytes of memory")

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "shore"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "shore", "a.star"), []byte(loop), 0o644))
	e, err := estate.Parse(dir, []byte(config))
	require.NoError(t, err)
	_, problems = declare.Evaluate(ctx, declare.Options{Estate: e, Env: "trial", Wards: e.Wards, Catalogs: catalogs(t)})
	require.ErrorContains(t, problems.Err(), "interrupted")
}

// TestOutside: nothing outside the estate can be read, links included.
func TestOutside(t *testing.T) {
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret.txt")
	require.NoError(t, os.WriteFile(secret, []byte("hidden words"), 0o644))
	estateDir := filepath.Join(dir, "estate")
	require.NoError(t, os.MkdirAll(filepath.Join(estateDir, "shore"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(estateDir, "kasbah.toml"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(estateDir, "shore", "a.star"),
		[]byte("publish(\"x\", file(\"link.txt\").text)\n"), 0o644))
	require.NoError(t, os.Symlink(secret, filepath.Join(estateDir, "shore", "link.txt")))
	e, err := estate.Load(estateDir)
	require.NoError(t, err)
	_, problems := declare.Evaluate(context.Background(), declare.Options{Estate: e, Env: "trial", Wards: e.Wards,
		Catalogs: catalogs(t)})
	require.NotZero(t, problems.Wrong())
	require.NotContains(t, problems.Error(), "hidden words")
}

// FuzzStar: no text of a ward makes the program panic, and a wrong one has a
// position.
func FuzzStar(f *testing.F) {
	for _, s := range []string{coast, "x = 1 if coast.id else 2", "medina.disk(\"d\", **{\"a\": [1, {}]})",
		"for a, b in {1: 2}.items(): x = a % b", "care(leave = [\"a[\"])",
		"input(\"a\", kind.list(kind.map(kind.int)), default = [{}])", "a.b.c += 1", "(lambda *a, **k: k)(1, b = 2)",
		"[x for y in [[1]] for x in y if not x or x and x in y]"} {
		f.Add(s)
	}
	all := catalogs(f)
	dir := f.TempDir()
	require.NoError(f, os.MkdirAll(filepath.Join(dir, "shore"), 0o755))
	toml := config + "\n[limits]\nsteps = 100000\nrange = 10000\ntext_bytes = 100000\nseconds = 2\n"
	f.Fuzz(func(t *testing.T, body string) {
		e, err := estate.Parse(dir, []byte(toml))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "shore", "a.star"), []byte(coast+body), 0o644))
		_, problems := declare.Evaluate(context.Background(), declare.Options{Estate: e, Env: "trial", Wards: e.Wards,
			Catalogs: all})
		for _, p := range problems {
			require.NotEmpty(t, p.Position.File)
		}
	})
}
