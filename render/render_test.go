package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
	"github.com/muesli/termenv"
	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
)

func at(line int) problem.Position {
	return problem.Position{File: "shore/shore.star", Line: line, Column: 1}
}

func change(path string, was, willBe any) propose.Change {
	return propose.Change{Path: path, Was: value.Any{V: was}, WillBe: value.Any{V: willBe}}
}

func text(width int, draw func(*Out)) string {
	var b bytes.Buffer
	draw(NewOut(&b, width, termenv.Ascii))
	return b.String()
}

// example is the proposal that the reference shows.
func example() *propose.Proposal {
	return &propose.Proposal{
		Wards:  []propose.WardAt{{Ward: "shore", Entry: 14}},
		Counts: propose.Counts{New: 1, Edit: 1, Swap: 1, Drop: 1, Same: 15},
		Actions: []*propose.Action{
			{Ward: "shore", Address: "medina.disk/tape", Type: "medina.disk", Kind: propose.Swap,
				Because: "kind is fixed", Position: at(15), Changes: []propose.Change{change("kind", "spinning",
					"solid")}},
			{Ward: "shore", Address: "medina.machine/gauge", Type: "medina.machine", Kind: propose.Edit,
				Position: at(9), Changes: []propose.Change{change("size", "small", "medium")}},
			{Ward: "shore", Address: "medina.record/old-lamp", Type: "medina.record", Kind: propose.Drop,
				Because: "no longer declared"},
			{Ward: "shore", Address: "medina.subnet/quay-merrow", Type: "medina.subnet", Kind: propose.New,
				Position: at(6), Changes: []propose.Change{
					change("network", nil, value.NewRef("shore:medina.network/coast", value.Key("id"))),
					change("range", nil, "10.20.1.0/24")}},
			{Ward: "shore", Address: "medina.network/coast", Type: "medina.network", Kind: propose.Same},
		},
		Head:     propose.Head{Env: "trial"},
		Findings: propose.Findings{Data: []string{"shore:medina.disk/tape"}},
	}
}

func TestProposal(t *testing.T) {
	require.Equal(t, `shore, trial: from ledger entry 14, live read just now

new   medina.subnet/quay-merrow                                                   shore/shore.star:6
        network  from medina.network/coast id
        range    10.20.1.0/24
edit  medina.machine/gauge                                                        shore/shore.star:9
        size  medium  was small
swap  medina.disk/tape           because kind is fixed                           shore/shore.star:15
        kind  solid  was spinning
drop  medina.record/old-lamp     no longer declared

4 of 19 resources would change: 1 new, 1 edited, 1 swapped, 1 dropped. 15 stay as they are.
Loses data: medina.disk/tape.
`, text(100, func(o *Out) { o.Proposal(example(), ProposalOptions{}) }))
}

// TestWidths: nothing is wider than the terminal, and nothing is lost on a
// narrow one.
func TestWidths(t *testing.T) {
	p := example()
	p.Warnings = []string{"shore is locked by keeper-2 on tower-3 (kasbah enact shore -env trial); what that run " +
		"still does is not in this preview"}
	p.Left = []propose.LeftAlone{{Ward: "shore", Address: "medina.machine/gauge", Path: "notes"}}
	for _, width := range []int{40, 60, 80, 100} {
		out := text(width, func(o *Out) { o.Proposal(p, ProposalOptions{}) })
		for _, line := range strings.Split(out, "\n") {
			require.LessOrEqual(t, runewidth.StringWidth(line), width+2, "%q", line)
		}
		for _, want := range []string{"medina.subnet/quay-merrow", "shore/shore.star:15", "kind is fixed",
			"was spinning", "tower-3"} {
			require.Contains(t, strings.Join(strings.Fields(out), " "), want, "at %d columns", width)
		}
	}
}

// TestColours: the palette, and nothing said by colour alone.
func TestColours(t *testing.T) {
	var b bytes.Buffer
	NewOut(&b, 100, termenv.TrueColor).Proposal(example(), ProposalOptions{})
	for _, c := range []string{"0;113;178", "230;159;0", "204;121;167", "213;94;0"} {
		require.Contains(t, b.String(), "38;2;"+c)
	}
	plain := text(100, func(o *Out) { o.Proposal(example(), ProposalOptions{}) })
	require.NotContains(t, plain, "\x1b")
}

// TestHostileText: what a cloud or a file says cannot move the cursor.
func TestHostileText(t *testing.T) {
	p := example()
	p.Actions[1].Changes[0].WillBe.V = "\x1b[2J\x1b]0;title\x07\u202eevil\r\n"
	p.Actions[1].Address = "medina.machine/\x1b[31mred"
	out := text(100, func(o *Out) { o.Proposal(p, ProposalOptions{}) })
	require.NotContains(t, out, "\x1b")
	require.NotContains(t, out, "\u202e")
	require.NotContains(t, out, "\r")
	out = text(100, func(o *Out) {
		o.Problem(&problem.Problem{Message: "a\x1b[31mb", Hint: "c\x07", Via: []string{"by \x1b"}})
	})
	require.NotContains(t, out, "\x1b")
}

// TestGroups: alike actions are told once, with three names; swaps, drops and
// what touches security are always told alone.
func TestGroups(t *testing.T) {
	p := &propose.Proposal{
		Wards: []propose.WardAt{{Ward: "shore", Entry: 1}},
		Head:  propose.Head{Env: "live"},
	}
	for i := range 380 {
		p.Actions = append(p.Actions, &propose.Action{Ward: "shore", Address: fmt.Sprintf("medina.machine/gauge-%03d",
			i), Type: "medina.machine", Kind: propose.Edit, Changes: []propose.Change{change("size", "small",
			"medium")}})
	}
	for i := range 6 {
		p.Actions = append(p.Actions, &propose.Action{Ward: "shore", Address: fmt.Sprintf("medina.bucket/old-%d", i),
			Type: "medina.bucket", Kind: propose.Drop, Because: "no longer declared"})
		security := change("public", false, true)
		security.Security = true
		p.Actions = append(p.Actions, &propose.Action{Ward: "shore", Address: fmt.Sprintf("medina.bucket/open-%d", i),
			Type: "medina.bucket", Kind: propose.Edit, Changes: []propose.Change{security}})
	}
	p.Counts = propose.Counts{Edit: 386, Drop: 6}
	out := text(100, func(o *Out) { o.Proposal(p, ProposalOptions{}) })
	require.Contains(t, out, "edit  380 medina.machine\n        medina.machine/gauge-000, medina.machine/gauge-001, "+
		"medina.machine/gauge-002 and 377 more\n        (-full lists them)\n        size  medium  was small\n")
	require.Equal(t, 6, strings.Count(out, "drop  "))
	require.Equal(t, 6, strings.Count(out, "(security)"))
	require.Less(t, strings.Count(out, "\n"), 40)
	full := text(100, func(o *Out) { o.Proposal(p, ProposalOptions{Full: true}) })
	require.Equal(t, 386, strings.Count(full, "edit  "))

	// many that differ in their values are told by what they have in common
	p.Actions = nil
	for i := range 500 {
		p.Actions = append(p.Actions, &propose.Action{Ward: "shore", Address: fmt.Sprintf("medina.subnet/q%03d", i),
			Type: "medina.subnet", Kind: propose.New, Changes: []propose.Change{change("zone", nil, "north-1"),
				change("range", nil, fmt.Sprintf("10.0.%d.0/24", i))}})
	}
	p.Counts = propose.Counts{New: 500}
	out = text(100, func(o *Out) { o.Proposal(p, ProposalOptions{}) })
	require.Contains(t, out, "new   500 medina.subnet")
	require.Contains(t, out, "zone  north-1")
	require.Contains(t, out, "each its own: range")
	require.Less(t, strings.Count(out, "\n"), 20)
}

func TestSummaries(t *testing.T) {
	for _, c := range []struct {
		want string
		p    *propose.Proposal
	}{
		{"Nothing is declared and nothing is recorded.\n", &propose.Proposal{}},
		{"Nothing to do: the one resource is as declared.\n", &propose.Proposal{Counts: propose.Counts{Same: 1}}},
		{"Nothing to do: all 19 resources are as declared.\n", &propose.Proposal{Counts: propose.Counts{Same: 19}}},
		{"1 of 1 resource would change: 1 new. None stays as it is.\n",
			&propose.Proposal{Counts: propose.Counts{New: 1}}},
		{"2 of 3 resources would change: 1 adopted, 1 renamed. 1 stays as it is.\n-only left out 1 resource.\n",
			&propose.Proposal{
				Counts:   propose.Counts{Adopt: 1, Rename: 1, Same: 1},
				Findings: propose.Findings{LeftOut: 1},
			}},
		{"Nothing to do: the one resource is as declared.\nRefused: shore/shore.star:3: medina.bucket/a: it is " +
			"guarded, and would be dropped.\n", &propose.Proposal{
			Counts: propose.Counts{Same: 1},
			Findings: propose.Findings{Blocked: []propose.Block{{Address: "medina.bucket/a",
				Because: "it is guarded, and would be dropped", Position: at(3)}}},
		}},
	} {
		t.Run(c.want, func(t *testing.T) {
			require.Equal(t, c.want, text(100, func(o *Out) { o.Summary(c.p, ProposalOptions{}) }))
		})
	}
	for _, c := range []struct {
		want string
		d    time.Duration
	}{
		{"just now", time.Second},
		{"30 s ago", 30 * time.Second},
		{"5 min ago", 5 * time.Minute},
		{"3 h ago", 3 * time.Hour},
		{"4 days ago", 100 * time.Hour},
	} {
		t.Run(c.want, func(t *testing.T) {
			require.Equal(t, c.want, Ago(c.d))
		})
	}
}

func TestEvents(t *testing.T) {
	counts := enact.Counts{Total: 40, Done: 12}
	for _, c := range []struct {
		want string
		e    enact.Event
	}{
		{"new   medina.network/coast  done in 2.5 s  12 of 40\n", enact.Event{Kind: enact.EventDone,
			Action:  propose.New,
			Address: "medina.network/coast", Seconds: 2.5, Counts: counts}},
		{"swap  medina.disk/tape (the old one)  done in 0.0 s  12 of 40\n", enact.Event{Kind: enact.EventDone,
			Action:  propose.Swap,
			Address: "medina.disk/tape", Half: "remove", Counts: counts}},
		{"failed  drop  medina.disk/tape\n", enact.Event{Kind: enact.EventFailed,
			Action: propose.Drop, Address: "medina.disk/tape"}},
		{"again edit  medina.disk/tape  too busy\n", enact.Event{Kind: enact.EventRetry,
			Action: propose.Edit, Address: "medina.disk/tape", Err: fmt.Errorf("too busy")}},
		{"", enact.Event{Kind: enact.EventStart, Action: propose.New, Address: "x"}},
	} {
		t.Run(c.want, func(t *testing.T) {
			require.Equal(t, c.want, text(100, func(o *Out) { o.Event(c.e) }))
		})
	}
	var b bytes.Buffer
	bar := NewBar(NewOut(&b, 64, termenv.Ascii), propose.Forecast{})
	bar.Event(enact.Event{Kind: enact.EventStart, Ward: "shore", Address: "medina.machine/gauge", Counts: counts})
	bar.Event(enact.Event{Kind: enact.EventDone, Ward: "shore", Address: "medina.network/coast", Action: propose.New,
		Counts: counts})
	bar.Close()
	shown := string(Visible(b.Bytes()))
	require.Contains(t, shown, "[======              ] 12/40")
	require.Contains(t, shown, "medina.machine/gauge 0s")
	for _, line := range strings.Split(strings.ReplaceAll(shown, "\r\x1b[K", "\n"), "\n") {
		require.Less(t, runewidth.StringWidth(line), 64)
	}
}

func TestWrapAndFit(t *testing.T) {
	require.Equal(t, "one two\n  three", Wrap("one two three", 8, "  "))
	require.Equal(t, "onewordthatistoolong\nx", Wrap("onewordthatistoolong x", 5, ""))
	require.Equal(t, "灯台 a\nb", Wrap("灯台 a b", 6, ""), "wide characters count twice")
	require.Equal(t, "then\n  `kasbah check`\n  `now and long\n  then`", Wrap("then `kasbah check` `now and long then`",
		15, "  "), "a command stays whole where it fits")
	require.Equal(t, "long…", Fit("longer", 5))
	require.Equal(t, "灯台  ", pad("灯台", 6))
}

// TestVisible: of all characters that show nothing or change how others are shown, only
// those get through that the program means; JSON keeps them, as escapes.
func TestVisible(t *testing.T) {
	o := NewOut(nil, 80, termenv.TrueColor)
	require.Equal(t, "\x1b[1mbold\x1b[0m", string(Visible([]byte(o.Bold("bold")))))
	require.Equal(t, "\x1b[1m\ufffd[2Jbold\x1b[0m", string(Visible([]byte(o.Bold("\ufffd[2Jbold")))))
	for r := rune(0); r <= 0xe01ff; r++ {
		if !utf8.ValidRune(r) || !hidden(r) {
			continue
		}
		text := "a" + string(r) + "b"
		if r != '\n' && r != '\t' {
			require.Equal(t, "a\ufffdb", string(Visible([]byte(text))), "%U", r)
		}
		require.NotContains(t, Clean(text), string(r), "%U", r)
		require.Regexp(t, "^a[ \ufffd]b$", Clean(text), "%U", r)
		body, err := json.Marshal(text)
		require.NoError(t, err)
		var again string
		require.NoError(t, json.Unmarshal(Escaped(body), &again))
		require.Equal(t, text, again)
		require.Equal(t, string(Escaped(body)), string(Visible(Escaped(body))), "%U", r)
	}
	require.Equal(t, "a\ufffdb", string(Visible([]byte("a\x9bb"))), "not UTF-8")
	require.Equal(t, "\ufffd[31mred", string(Visible([]byte("\x1b[31mred"))))
	require.Equal(t, "灯台 é\n\tb", string(Visible([]byte("灯台 é\n\tb"))))
}

// TestMarkdownIsText: nothing from outside is a mention, a link, a picture or markup.
func TestMarkdownIsText(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"a @keepers/all.star:1 b", "a `@keepers/all.star:1` b"},
		{"see https://coast.example/x", "see `https://coast.example/x`"},
		{"www.coast.example", "`www.coast.example`"},
		{"![x](http://y)", "`![x](http://y)`"},
		{"# `a` <b> *c* [d]", "\\# \\`a\\` &lt;b> \\*c\\* \\[d\\]"},
		{"mail keeper@coast.example, now", "mail `keeper@coast.example,` now"},
		{"``@x``", ""},
	} {
		t.Run(c.in, func(t *testing.T) {
			if strings.HasPrefix(c.in, "``") {
				require.Regexp(t, "^```+ ``@x`` ```+$", markdownText(c.in))
				return
			}
			require.Equal(t, c.want, markdownText(c.in), c.in)
		})
	}
}
