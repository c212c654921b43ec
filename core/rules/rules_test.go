package rules_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/value"
)

func lamp() *schema.Type {
	t := &schema.Type{Name: "lamp", ID: "id", Attributes: []*schema.Attribute{
		{Name: "power", Kind: schema.Int, Default: int64(5), HasDefault: true},
		{Name: "colour", Kind: schema.Text},
		{Name: "from", Kind: schema.Text},
		{Name: "code", Kind: schema.Text, Secret: true},
		{Name: "id", Kind: schema.Text, Output: true},
	}}
	t.Index()
	return t
}

// load evaluates rules from files below rules/; common files may be given.
func load(t testing.TB, files map[string]string, today string) (*rules.Set, string) {
	dir := t.TempDir()
	for name, body := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	e, err := estate.Parse(dir, []byte("estate = \"coast\"\nwards = [\"shore\"]\n[limits]\nsteps = "+
		"200000\n[env.trial]\n"))
	require.NoError(t, err)
	day, err := time.Parse(time.DateOnly, today)
	require.NoError(t, err)
	o := declare.Options{Estate: e, Env: "trial",
		Catalogs: map[string]*schema.Catalog{"sea": {Types: map[string]*schema.Type{"lamp": lamp()}}}}
	set, problems := rules.Load(context.Background(), o, day)
	t.Cleanup(func() { require.NoError(t, set.Close()) })
	text := ""
	for _, p := range problems {
		text += p.Error() + " " + p.Hint + "\n"
	}
	return set, text
}

func subject(name string, inputs value.Map) *rules.Subject {
	return &rules.Subject{Ward: "shore", Address: "sea.lamp/" + name, Type: "sea.lamp", Schema: lamp(), Inputs: inputs}
}

func judge(t testing.TB, s *rules.Set, stage rules.Stage, subjects ...*rules.Subject) string {
	r, err := s.Judge(context.Background(), stage, subjects, value.Map{"cost": value.Map{"change": 12.5},
		"inputs": value.Map{"shore": value.Map{"a-b": int64(1)}}})
	require.NoError(t, err)
	var b strings.Builder
	for i := range r.Findings {
		f := &r.Findings[i]
		fmt.Fprintf(&b, "%s %s: %s (blocks %v)\n", f.Verdict, f.Address, f.Message, f.Blocks())
	}
	for _, tally := range r.Tallies {
		sum := tally.Passed + tally.Broken + tally.Undecided + tally.Excused + tally.Failed
		if tally.Rule.Whole() {
			require.Equal(t, 1, sum)
		} else {
			require.Equal(t, len(subjects), sum, "everything is judged, and counted once")
		}
	}
	return b.String()
}

const strong = `def strong(r):
    if r.inputs.power > 10:
        return "too strong"
rule("strong", each = strong, level = "block", at = ["declared", "proposed"], help = "turn it down")
`

func TestJudge(t *testing.T) {
	s, problems := load(t, map[string]string{"rules/a.star": strong}, "2026-11-23")
	require.Empty(t, problems)
	pending := value.NewRef("shore:sea.lamp/other", value.Key("power"))
	require.Equal(t, `broken sea.lamp/hot: too strong (blocks true)
undecided sea.lamp/later: sea.lamp/other power is not known yet (blocks false)
`, judge(t, s, rules.Declared, subject("cold", value.Map{}), subject("hot", value.Map{"power": int64(11)}), subject("later", value.Map{"power": pending})))
	require.Empty(t, judge(t, s, rules.Live, subject("hot", value.Map{"power": int64(11)})),
		"it does not judge what is live")

	// what was undecided is judged again once it is known
	again := s.Reconsider(context.Background(), rules.Proposed, []string{"strong"},
		subject("later", value.Map{"power": int64(99)}))
	require.True(t, again.Blocks())
	require.Equal(t, "too strong (rule strong, proposed)", again.Findings[0].Sentence())
	p := again.Findings[0].Problem()
	require.Equal(t, "strong", p.Rule)
	require.Equal(t, "turn it down", p.Hint)
	require.Empty(t, s.Reconsider(context.Background(), rules.Proposed, nil, subject("x", nil)).Tallies)
}

// TestExcuses: an excuse holds through its last day and not a day longer.
func TestExcuses(t *testing.T) {
	excused := subject("hot", value.Map{"power": int64(11)})
	excused.Excuse = map[string]problem.Excuse{"strong": {Reason: "fog", Until: "2026-11-23"}}
	for _, c := range []struct{ today, want string }{
		{"2026-11-22", "excused sea.lamp/hot: too strong (blocks false)\n"},
		{"2026-11-23", "excused sea.lamp/hot: too strong (blocks false)\n"},
		{"2026-11-24", "broken sea.lamp/hot: too strong; its excuse ended on 2026-11-23 (blocks true)\n"},
	} {
		t.Run(c.today, func(t *testing.T) {
			s, _ := load(t, map[string]string{"rules/a.star": strong}, c.today)
			require.Equal(t, c.want, judge(t, s, rules.Declared, excused), c.today)
		})
	}
	s, _ := load(t, map[string]string{"rules/a.star": strong +
		"rule(\"all\", whole = lambda p: None, level = \"warn\")\n"}, "2026-11-23")
	excused.Excuse = map[string]problem.Excuse{"storng": {}, "all": {}, "strong": {}}
	list := s.Excuses([]*rules.Subject{excused})
	require.Len(t, list, 2)
	require.Contains(t, list[0].Message, "which judges everything at once")
	require.Contains(t, list[1].Hint, `did you mean "strong"?`)
}

// TestWhatRulesSee: left out is the schema's default, else None; odd names,
// secrets, stages.
func TestWhatRulesSee(t *testing.T) {
	see := func(expression string, stage rules.Stage, r *rules.Subject) string {
		s, problems := load(t, map[string]string{"rules/a.star": "def f(r):\n    return str(" + expression +
			")\nrule(\"see\", each = f, level = \"warn\", at = [\"declared\", \"proposed\", \"live\"])\n"},
			"2026-11-23")
		require.Empty(t, problems)
		return judge(t, s, stage, r)
	}
	r := subject("x", value.Map{"colour": "red", "from": "west", "code": "hidden"})
	r.Kit, r.Action, r.Was, r.Live = "station", "edit", value.Map{"colour": "green"}, value.Map{"id": "lamp-1"}
	for _, c := range []struct{ expression, want string }{
		{"r.inputs.colour", "red"},
		{"r.inputs.power", "5"},
		{"r.inputs.from_", "west"},
		{"r.name", "x"},
		{"r.type", "sea.lamp"},
		{"r.address", "sea.lamp/x"},
		{"r.ward", "shore"},
		{"r.kit", "station"},
		{"r.guarded", "False"},
		{"env", "trial"},
		{"estate", "coast"},
	} {
		t.Run(c.expression, func(t *testing.T) {
			require.Contains(t, see(c.expression, rules.Declared, r), ": "+c.want+" (", c.expression)
		})
	}
	require.Contains(t, see("r.inputs.colour", rules.Declared, subject("y", value.Map{})), ": None (")
	require.Contains(t, see("r.action + r.was.colour", rules.Proposed, r), ": editgreen (")
	require.Contains(t, see("r.was", rules.Proposed, subject("new", value.Map{})), ": None (")
	require.Contains(t, see("r.live.id", rules.Live, r), ": lamp-1 (")
	secret := see("r.inputs.code == \"hidden\"", rules.Declared, r)
	require.Contains(t, secret, "undecided")
	require.NotContains(t, secret, "hidden")
	require.Contains(t, see("r.action", rules.Declared, r), "at the stage declared a resource has no .action; it has "+
		"address")
	require.Contains(t, see("r.inputs.colur", rules.Declared, r), `did you mean "colour"?`)

	s, _ := load(t, map[string]string{"rules/a.star": "rule(\"whole\", whole = lambda p: \"%s %s %d\" % " +
		"(p.cost.change, p.inputs[\"shore\"][\"a-b\"], len(p.actions)), at = [\"proposed\"], level = \"warn\")\n"},
		"2026-11-23")
	require.Equal(t, "broken : 12.5 1 2 (blocks false)\n", judge(t, s, rules.Proposed, r, r))

	s, _ = load(t, map[string]string{"rules/a.star": "rule(\"sum\", whole = lambda p: \"much\" if [r for r in " +
		"p.resources if r.inputs.power > 9] else None, level = \"block\")\n"}, "2026-11-23")
	require.Equal(t, "undecided : sea.lamp/other power is not known yet (blocks false)\n",
		judge(t, s, rules.Declared, r, subject("later", value.Map{"power": value.NewRef("shore:sea.lamp/other",
			value.Key("power"))})))
}

func TestMistakes(t *testing.T) {
	for _, c := range []struct{ body, words string }{
		{`rule("X", each = lambda r: None, level = "warn")`, "is not a valid name for a rule"},
		{`rule("x", level = "warn")`, "needs one function"},
		{`rule("x", each = lambda r: None, whole = lambda p: None, level = "warn")`, "needs one function"},
		{`rule("x", each = 5, level = "warn")`, "needs one function"},
		{`rule("x", each = lambda r: None, level = "loud")`, `must be "warn" or "block"`},
		{`rule("x", each = lambda r: None)`, `level is "", and must be`},
		{`rule("x", each = lambda r: None, level = "warn", at = ["later"])`, "knows declared, proposed and live"},
		{"rule(\"x\", each = lambda r: None, level = \"warn\")\nrule(\"x\", each = lambda r: None, level = \"warn\")",
			"rule x is there twice; the first is at rules/a.star:1:1"},
		{`sea.lamp("x")`, "undefined: sea"},
		{`input("x")`, "undefined: input"},
		{`load("/common/x.star", "x")`, "common/x.star: no such file"},
		{"x = 1 // 0", "rules/a.star:1:7: floored division by zero"},
		{"x = [i for i in range(100000000)]", "goes over the limit"},
		{"def f():\n    for i in range(9999999):\n        pass\nf()", "takes more than 200000 steps"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, problems := load(t, map[string]string{"rules/a.star": c.body + "\n"}, "2026-11-23")
			require.Contains(t, problems, c.words, c.body)
		})
	}
	for _, c := range []struct{ answer, words string }{
		{"5", "a value of type int came back"},
		{"[\"a\", 5]", "a list with an int in it came back"},
		{"[\"a\", \"b\"]", "broken sea.lamp/x: a (blocks false)\nbroken sea.lamp/x: b (blocks false)"},
		{"1 // 0", "failed sea.lamp/x: rules/a.star:2:14: floored division by zero (blocks true)"},
		{"fail(\"enough\")", "failed sea.lamp/x: rules/a.star:2:16: fail: enough (blocks true)"},
	} {
		t.Run(c.answer, func(t *testing.T) {
			s, problems := load(t, map[string]string{"rules/a.star": "def f(r):\n    return " + c.answer +
				"\nrule(\"x\", each = f, level = \"warn\")\n"}, "2026-11-23")
			require.Empty(t, problems)
			r, err := s.Judge(context.Background(), rules.Declared, []*rules.Subject{subject("x", nil)}, nil)
			require.NoError(t, err)
			var all []string
			for i := range r.Findings {
				all = append(all, fmt.Sprintf("%s %s: %s (blocks %v)", r.Findings[i].Verdict, r.Findings[i].Address,
					r.Findings[i].Message, r.Findings[i].Blocks()))
			}
			require.Contains(t, strings.Join(all, "\n"), c.words, c.answer)
		})
	}
}

func TestTests(t *testing.T) {
	s, problems := load(t, map[string]string{"rules/a.star": strong, "rules/a_test.star": `passes("strong", resource("sea.lamp"))
breaks("strong", resource("sea.lamp", power = 11), "too strong")
breaks("strong", resource("sea.lamp", power = 11), "too weak")
undecided("strong", resource("sea.lamp", power = unknown()))
passes("strong", resource("sea.lamp", from_ = "x", power = 20))
`}, "2026-11-23")
	require.Empty(t, problems, "tests are not read with the rules")
	out, wrong := s.Test(context.Background())
	require.Empty(t, wrong)
	require.Equal(t, 3, out.Passed)
	require.Equal(t, `rules/a_test.star:3:1: rule strong should break with "too weak", and it says "too strong"
rules/a_test.star:5:1: rule strong should pass, and it says "too strong"`, out.Failed.Error())
	for _, c := range []struct{ body, words string }{
		{`passes("strng", resource("sea.lamp"))`, `did you mean "strong"?`},
		{`resource("sea.lmp")`, "no driver has the type sea.lmp"},
		{`resource("sea.lamp", powr = 1)`, `did you mean "power"?`},
		{`resource("sea.lamp", name_ = 5)`, "name_ must be a text"},
	} {
		t.Run(c.body, func(t *testing.T) {
			s, _ := load(t, map[string]string{"rules/a.star": strong, "rules/b_test.star": c.body + "\n"}, "2026-11-23")
			_, wrong := s.Test(context.Background())
			require.Contains(t, wrong.Error(), c.words, c.body)
		})
	}
}

// FuzzRules: no text makes rules panic, or judge for ever.
func FuzzRules(f *testing.F) {
	f.Add(strong)
	f.Add("rule(\"a\", whole = lambda p: p.resources[0].inputs, level = \"warn\")\n")
	f.Add("def f(r):\n    return [r.inputs.colour * 9999999] + f(r)\nrule(\"a\", each = f, level = \"block\")\n")
	f.Fuzz(func(t *testing.T, body string) {
		s, problems := load(t, map[string]string{"rules/a.star": body}, "2026-11-23")
		if problems != "" {
			return
		}
		_, err := s.Judge(context.Background(), rules.Declared,
			[]*rules.Subject{subject("x", value.Map{"colour": value.NewRef("a:b.c/d", value.Key("e"))})}, nil)
		require.NoError(t, err)
	})
}

// TestBuiltinAsRule: a rule may be one of the language's own functions, with no line of code around it.
func TestBuiltinAsRule(t *testing.T) {
	for _, f := range []string{"print", "care", "rule", "input", "secret", "sorted", "fail", "breaks", "resource", "json.encode"} {
		set, text := load(t, map[string]string{"rules/a.star": "rule(\"a\", each = " + f + ", level = \"warn\")\n"}, "2026-11-30")
		if text != "" {
			continue // it is not there in rules, and that is said
		}
		_, err := set.Judge(context.Background(), rules.Declared, []*rules.Subject{subject("east", value.Map{})}, nil)
		require.NoError(t, err, f)
	}
}
