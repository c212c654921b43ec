package render

import (
	"fmt"
	"strings"

	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/value"
)

// RulesAndFindings writes what the rules say, and the rules as a table.
func (o *Out) RulesAndFindings(d rules.Document, problems problem.List) {
	if len(d.Rules) == 0 {
		o.Printf("The estate has no rules: they belong in %s/*.star.\n", rules.Folder)
		return
	}
	shown := rules.Once(problems)
	o.Problems(shown)
	if len(shown) > 0 {
		o.Printf("\n")
	}
	o.rules(d)
}

// rules writes the rules as a table.
func (o *Out) rules(d rules.Document) {
	rows := [][]string{{"rule", "level", "at", "passed", "broken", "undecided", "excused", "failed"}}
	for _, r := range d.Rules {
		var at []string
		for _, s := range r.At {
			at = append(at, string(s))
		}
		row := []string{r.Name, string(r.Level), strings.Join(at, ", ")}
		for _, n := range []int{r.Passed, r.Broken, r.Undecided, r.Excused, r.Failed} {
			row = append(row, fmt.Sprint(n))
		}
		rows = append(rows, row)
	}
	o.Table(rows, o.HeadGrey)
}

// rulesOf writes what the rules said of a proposal, above its summary. What
// they said of the declarations was told before. What a rule is undecided
// about is on one line.
func (o *Out) rulesOf(p *propose.Proposal) {
	again := map[string]bool{} // what is told at both stages is told once
	for _, f := range p.Rules {
		if f.At == rules.Proposed {
			again[f.Rule+" "+f.Ward+" "+f.Address] = true
		}
	}
	undecided := map[string][]string{}
	told := map[string]int{}
	var excused []string
	for _, f := range p.Rules {
		declared := f.At == rules.Declared && (f.Verdict == rules.Broken || again[f.Rule+" "+f.Ward+" "+f.Address])
		if f.Blocks() || declared && !f.Step { // those were told before the proposal was made
			continue
		}
		if f.Verdict == rules.Undecided {
			undecided[f.Rule] = append(undecided[f.Rule], whole(f.Address))
			continue
		}
		if f.Verdict == rules.Excused { // check and rules tell why
			excused = append(excused, fmt.Sprintf("%s from %s until %s", whole(f.Address), f.Rule, f.Until))
			continue
		}
		if told[f.Rule+" "+f.Message]++; told[f.Rule+" "+f.Message] > Alike {
			continue
		}
		head := ""
		if f.Verdict == rules.Broken {
			head = "Warning: "
		}
		if f.Step && f.Position.File != "" {
			head += Clean(f.Position.Short()) + ": "
		}
		if f.Address != "" {
			head += Clean(f.Address) + ": "
		}
		o.Printf("%s\n", Wrap(head+Clean(f.Sentence())+".", o.Width-2, "  "))
	}
	if excused != nil {
		o.Printf("%s\n", Wrap("Excused: "+Clean(fewOf(excused))+".", o.Width-2, "  "))
	}
	for _, rule := range value.Keys(undecided) {
		o.Printf("%s\n", Wrap(fmt.Sprintf("Rule %s is undecided until values are known: %s.", rule,
			Clean(fewOf(undecided[rule]))), o.Width-2, "  "))
	}
	c := p.RuleCounts
	if n := c.Passed + c.Broken + c.Undecided + c.Excused + c.Failed; n > 0 {
		o.Printf("Rules: %s.\n", strings.Join(tally(c), ", "))
	}
}

// fewOf are the first few of a list, and how many more there are.
func fewOf(list []string) string {
	text := strings.Join(list[:min(Alike, len(list))], ", ")
	if n := len(list) - Alike; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}

// whole is an address, or what a rule judges that looks at everything.
func whole(address string) string {
	if address == "" {
		return "the whole"
	}
	return address
}

func tally(c propose.RuleCounts) []string {
	var out []string
	for _, x := range []struct {
		n    int
		word string
	}{{c.Passed, "passed"}, {c.Broken, "broken"}, {c.Undecided, "undecided"}, {c.Excused, "excused"},
		{c.Failed, "failed"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", x.n, x.word))
		}
	}
	return out
}
