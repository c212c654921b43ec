package render

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/core/why"
)

func finding(verdict rules.Verdict, address string, level rules.Level) rules.Finding {
	return rules.Finding{Rule: "sealed", Level: level, At: rules.Proposed, Verdict: verdict, Ward: "shore",
		Address: address, Message: "it is open", Help: "close it", Until: "2031-12-31", Reason: "a fair",
		Position: at(4), RuleAt: problem.Position{File: "rules/house.star", Line: 9, Column: 1}}
}

// TestSARIF: every kind of problem makes a log that the standard's schema
// accepts, with places, levels, open results and suppressions.
func TestSARIF(t *testing.T) {
	var list problem.List
	for _, f := range []rules.Finding{finding(rules.Broken, "medina.bucket/a", rules.Block),
		finding(rules.Broken, "medina.bucket/b", rules.Warn), finding(rules.Undecided, "medina.bucket/c", rules.Block),
		finding(rules.Excused, "medina.bucket/d", rules.Block), finding(rules.Failed, "", rules.Warn)} {
		list = append(list, f.Problem())
	}
	list = append(list,
		problem.At(problem.Position{File: "shore/a b.star", Line: 2}, "odd\x1b[31m words"),
		problem.At(problem.Position{File: "kit:gate/kit.star", Line: 1, Column: 5}, "in a kit"),
		problem.At(problem.Position{}, "nowhere"))
	list.Add(errors.New("plain"))
	for _, l := range []problem.List{list, nil} {
		body, err := SARIF(l, "0.1.0")
		require.NoError(t, err)
		log, err := sarif.FromBytes(body)
		require.NoError(t, err)
		log.Runs[0].NewlineSequences = []string{"\n"} // which it would write empty
		require.NoError(t, log.Validate())
		require.Len(t, log.Runs[0].Results, len(l))
	}
	body, err := SARIF(list, "0.1.0")
	require.NoError(t, err)
	var log struct {
		Runs []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level, Kind string
				Suppressions        []struct{ Kind string }
				Message             struct{ Text string }
				Locations           []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(body, &log))
	run := log.Runs[0]
	var rows []string
	for _, r := range run.Results {
		where := ""
		if len(r.Locations) > 0 {
			l := r.Locations[0].PhysicalLocation
			where = fmt.Sprintf("%s:%d", l.ArtifactLocation.URI, l.Region.StartLine)
		}
		rows = append(rows, fmt.Sprintf("%s %s %s %d %s", r.RuleID, r.Level, r.Kind, len(r.Suppressions), where))
	}
	require.Equal(t, []string{
		"sealed error fail 0 shore/shore.star:4", "sealed warning fail 0 shore/shore.star:4",
		"sealed none open 0 shore/shore.star:4",
		"sealed note fail 1 shore/shore.star:4", "sealed error fail 0 shore/shore.star:4",
		"check error fail 0 shore/a%20b.star:2", "check error fail 0 kit:gate/kit.star:1", "check error fail 0 ",
		"check error fail 0 ",
	}, rows)
	require.Len(t, run.Tool.Driver.Rules, 2, "each rule once")
	require.NotContains(t, string(body), "\\u001b")
}

// TestAlike: where a rule says the same of many, three are told and the rest
// is counted; nothing else is ever left out.
func TestAlike(t *testing.T) {
	var list problem.List
	for i := range 50 {
		f := finding(rules.Broken, fmt.Sprintf("medina.bucket/b%d", i), rules.Warn)
		list = append(list, f.Problem(), problem.At(at(i+1), "number %d", i))
	}
	out := text(100, func(o *Out) { o.Problems(list) })
	require.Equal(t, 3, strings.Count(out, "it is open (rule sealed, proposed)"))
	require.Contains(t, out, "and 47 more resources break rule sealed in the same way (-json lists them)")
	require.Equal(t, 50, strings.Count(out, "number "))
}

func TestRulesOfProposal(t *testing.T) {
	p := example()
	p.RuleCounts = propose.RuleCounts{Passed: 7, Broken: 2, Undecided: 5, Excused: 1}
	p.Rules = append(p.Rules, finding(rules.Broken, "medina.bucket/a", rules.Warn),
		finding(rules.Broken, "medina.bucket/b", rules.Block), finding(rules.Excused, "medina.bucket/x", rules.Block))
	for i := range 5 {
		p.Rules = append(p.Rules, finding(rules.Undecided, fmt.Sprintf("medina.bucket/u%d", i), rules.Block))
	}
	told := finding(rules.Excused, "medina.bucket/x", rules.Block)
	told.At = rules.Declared
	p.Rules = append(p.Rules, told)
	p.Blocked = append(p.Blocked, propose.Block{Address: "medina.bucket/b",
		Because: "it is open (rule sealed, proposed)", Position: at(4), Rule: "sealed"})
	p.Cost = &propose.Cost{Was: 86.1, WillBe: 98.5, Change: 12.4, Unknown: 2}
	p.Finds = []propose.Found{{Address: "find(medina.network name old)", ID: "net-7", From: propose.FromLive}}
	out := text(100, func(o *Out) { o.Proposal(p, ProposalOptions{}) })
	for _, want := range []string{
		"Looked up: medina.network name old is net-7, live.\n",
		"Costs 12.40 more a month (86.10 now). The price of 2 resources is not known.\n",
		"Warning: medina.bucket/a: it is open (rule sealed, proposed).\n",
		"Excused: medina.bucket/x from sealed until 2031-12-31.\n",
		"Rule sealed is undecided until values are known: medina.bucket/u0, medina.bucket/u1,\n  medina.bucket/u2 " +
			"and 2 more.\n",
		"Rules: 7 passed, 2 broken, 5 undecided, 1 excused.\n",
		"Refused: shore/shore.star:4: medina.bucket/b: it is open (rule sealed, proposed).\n",
	} {
		require.Contains(t, out, want)
	}
	require.Equal(t, 1, strings.Count(out, "medina.bucket/x"), "told once")
}

func TestCost(t *testing.T) {
	p := example()
	p.Actions[0].Cost, p.Actions[0].Kit = &propose.Cost{Was: 10, WillBe: 12.5, Change: 2.5}, "station"
	p.Actions[1].Cost = &propose.Cost{Was: 3, WillBe: 3}
	d := propose.NewCosts(p)
	require.Equal(t, propose.Cost{Was: 13, WillBe: 15.5, Change: 2.5, Unknown: 3}, d.Total)
	require.Equal(t, propose.Cost{Was: 10, WillBe: 12.5, Change: 2.5}, d.Kits["station"])
	require.Equal(t, `                       now  proposed     change    not known
ward shore           13.00     15.50  2.50 more  3 resources
type medina.disk     10.00     12.50  2.50 more
type medina.machine   3.00      3.00       same
type medina.network   0.00      0.00       same   1 resource
type medina.record    0.00      0.00       same   1 resource
type medina.subnet    0.00      0.00       same   1 resource
kit station          10.00     12.50  2.50 more
all                  13.00     15.50  2.50 more  3 resources

A price is not known where the driver's description states none, or where it depends on a value
still pending.
`, text(100, func(o *Out) { o.Cost(d) }))
}

func TestWhyText(t *testing.T) {
	d := &why.Document{Env: "trial", Ward: "shore", Address: "sallow/medina.machine/gauge", Path: "subnet",
		Value: why.Value{
			Declared: &value.Any{V: value.NewRef("shore:sallow/medina.subnet/quay", value.Key("id"))},
			Recorded: &value.Any{V: "sub-0001"},
			Origin: &declare.Origin{Kind: declare.FromName, What: "quay = a medina.subnet", Position: at(2),
				From: []*declare.Origin{{Kind: declare.FromCloud, What: strings.Repeat("long ", 40), Position: at(3)}}},
		}, Last: &ledger.RunSummary{Run: "01M8DSX7B3", Who: "keeper-1", Began: time.Now().Add(-3 * time.Minute),
			Command: "kasbah enact -yes"}}
	out := text(80, func(o *Out) { o.Why(d) })
	require.Contains(t, out, "declared  from sallow/medina.subnet/quay id\nrecorded  sub-0001\n")
	require.Contains(t, out, "Last changed by run M8DSX7B3 of keeper-1, 3 min ago: kasbah enact -yes.")
	for _, line := range strings.Split(out, "\n") {
		require.LessOrEqual(t, width(line), 80, line)
	}
	d.Last, d.Secret = nil, true
	out = text(80, func(o *Out) { o.Why(d) })
	require.NotContains(t, out, "sub-0001", "a secret is never shown")
	require.Contains(t, out, "No run has set it yet.")
}

func TestKits(t *testing.T) {
	low, high := 1.0, 500.0
	f := declare.KitFunction{Name: "gate", Help: "opens a gate", Inputs: []declare.KitInput{
		{Attr: &schema.Attribute{Name: "gigabytes", Kind: schema.Int, Min: &low, Max: &high, Help: "of its disk"},
			Default: int64(20), HasDefault: true},
		{Attr: &schema.Attribute{Name: "sizes", Kind: schema.List, Elem: &schema.Attribute{Kind: schema.Text}}},
	}}
	k := declare.KitDoc{Name: "gate", Version: "1.0.0", Help: "a gate", Source: "kits/gate",
		Drivers:   []string{"medina"},
		Functions: []declare.FunctionDoc{declare.NewFunctionDoc(f)}}
	require.Equal(t, `gate 1.0.0: a gate

source   kits/gate
drivers  medina

gate: opens a gate

  gigabytes  int         default 20  of its disk; 1 to 500
  sizes      list(text)  required

  load("kit:gate", "gate")
  gate("NAME", sizes = …)
`, text(100, func(o *Out) { o.Kit(k) }))
	broken := declare.KitDoc{Name: "lamp", Source: "../lamp", Problem: "it is not pinned"}
	out := text(100, func(o *Out) { o.Kits(declare.KitList{Kits: []declare.KitDoc{k, broken}}) })
	require.Contains(t, out, "gate  1.0.0    in the estate  kits/gate\nlamp  ?        no             ../lamp\n")
	require.Contains(t, out, "lamp: it is not pinned")
}

// TestMarkdown: nothing that a cloud or a file says becomes markup, secrets
// stay secret, and what is shortened is counted.
func TestMarkdown(t *testing.T) {
	p := example()
	p.Actions[1].Address = "medina.machine/`x`|y"
	p.Actions[1].Changes = []propose.Change{change("tags.a|b", "<img src=x>", "`code` | *bold*\n# head"),
		{Path: "notes", WillBe: value.Any{V: "hidden"}, Secret: true, Security: true}}
	p.Warnings = []string{"[click](http://evil.example) <b>"}
	out := string(Markdown(p, ProposalOptions{}, 0))
	require.NotContains(t, out, "hidden")
	require.Contains(t, out, "| `notes` (security) | `(secret)` | `(secret)` |")
	require.Contains(t, out, "`[click](http://evil.example)` &lt;b>")
	require.Contains(t, out, "### edit ``shore:medina.machine/`x`|y``\n")
	for _, line := range strings.Split(out, "\n") {
		if strings.HasPrefix(line, "|") {
			bars := strings.Count(line, "|") - strings.Count(line, `\|`)
			require.Equal(t, 4, bars, line)
		}
		require.False(t, strings.HasPrefix(line, "# "), line)
	}
	require.Less(t, strings.Index(out, "### drop"), strings.Index(out, "### swap"), "what hurts stands first")
	require.Less(t, strings.Index(out, "### edit"), strings.Index(out, "### new"))
	for fit := 300; fit < len(out)+300; fit += 50 {
		short := string(Markdown(p, ProposalOptions{}, fit))
		told := strings.Count(short, "\n### ")
		if told < 4 {
			require.LessOrEqual(t, len(short), max(fit, strings.Index(out, "\n### ")+100))
			require.Contains(t, short, Count(4-told, "harmless action")+" left out to fit.")
		}
	}
	one := string(Markdown(p, ProposalOptions{Show: func(a *propose.Action) bool { return a.Kind == propose.Swap }}, 0))
	require.Equal(t, 1, strings.Count(one, "\n### "))
	require.NotContains(t, string(Markdown(p, ProposalOptions{Summary: true}, 0)), "\n### ")
}

func TestForecastText(t *testing.T) {
	seconds := func(s float64) *float64 { return &s }
	chain := []string{"shore:a.b/coast", "shore:a.b/quay"}
	for _, c := range []struct {
		want string
		f    propose.Forecast
	}{
		{"", propose.Forecast{}},
		{"Longest chain, 2 deep: coast, quay.", propose.Forecast{Chain: chain, Unknown: 2}},
		{"Longest chain, 3 deep: coast, machine/gauge, record/gauge.",
			propose.Forecast{Chain: []string{"shore:a.b/coast",
				"shore:west/medina.machine/gauge", "shore:names.record/gauge"}, Unknown: 3}},
		{"Takes about 40 s; longest chain, 2 deep: coast, quay.", propose.Forecast{Seconds: seconds(40.2),
			Chain: chain}},
		{"Takes about a second.", propose.Forecast{Seconds: seconds(0.2), Chain: chain[:1]}},
		{"Takes about 3 min, without 1 action of a kind not seen yet.", propose.Forecast{Seconds: seconds(181),
			Unknown: 1}},
		{"Takes about 3 h.", propose.Forecast{Seconds: seconds(3 * 3600)}},
	} {
		t.Run(c.want, func(t *testing.T) {
			require.Equal(t, c.want, forecastText(c.f))
		})
	}
}

// TestTextDiff: a long text that changes in one line shows that line and its
// neighbours, and no secret or control character.
func TestTextDiff(t *testing.T) {
	was := "one\ntwo\nthree\nfour\nfive\nsix\n"
	p := example()
	p.Actions[1].Changes = []propose.Change{change("notes", was, strings.Replace(was, "four", "4\x1b[2J", 1)),
		change("size", "small", "medium")}
	out := text(100, func(o *Out) { o.Proposal(p, ProposalOptions{}) })
	require.Contains(t, out, "        notes  differs\n          same  three\n          was   four\n          now   "+
		"4\ufffd[2J\n          same  five\n")
	require.NotContains(t, out, "same  one")
	require.Contains(t, out, "size   medium  was small")
	p.Actions[1].Changes[0].Secret = true
	require.NotContains(t, text(100, func(o *Out) { o.Proposal(p, ProposalOptions{}) }), "was   four")

	long := strings.Repeat("line\n", 30)
	lines := textDiff(long, strings.ReplaceAll(long, "line", "word"))
	require.Len(t, lines, diffLines+1)
	require.Equal(t, "and 48 lines more", lines[diffLines])
	require.Equal(t, []string{"30000 lines become 1 line"}, textDiff(strings.Repeat("x\n", 30000), "y"))
	require.Nil(t, textDiff("a", "b"), "short enough to be shown whole")
	require.Nil(t, textDiff(nil, long), "something new is not a difference")
}
