package render

import (
	"strings"

	"kasbah/core/problem"
)

// Alike is how many equal findings are told in full.
const Alike = 3

// Problems writes problems one below the other, each with its hint. Where a
// house rule says the same of many resources, the rest is counted.
func (o *Out) Problems(list problem.List) {
	type words struct{ rule, message string }
	told, last := map[words]int{}, map[words]int{}
	for i, p := range list {
		if p.Rule != "" {
			last[words{p.Rule, p.Message}] = i
		}
	}
	for i, p := range list {
		w := words{p.Rule, p.Message}
		if told[w]++; p.Rule == "" || told[w] <= Alike {
			o.Problem(p)
		}
		if n := told[w] - Alike; p.Rule != "" && last[w] == i && n > 0 {
			more := strings.Replace(Count(n, "resource"), " ", " more ", 1)
			verb := "break"
			if n == 1 {
				verb = "breaks"
			}
			o.Printf("    and %s %s rule %s in the same way (-json lists them)\n", more, verb, p.Rule)
		}
	}
}

// Problem writes one problem.
func (o *Out) Problem(p *problem.Problem) {
	text := Clean(p.Error())
	switch p.Level {
	case problem.Warning:
		text = "warning: " + text
	case problem.Note:
		text = "note: " + text
	}
	o.Printf("%s\n", Wrap(text, o.Width-4, "    "))
	if p.Hint != "" {
		o.Printf("    %s\n", Wrap(Clean(p.Hint), o.Width-4, "    "))
	}
	for _, v := range p.Via {
		o.Printf("    %s\n", o.Paint(Grey, Clean(v)))
	}
}

// CheckDocument is the JSON form of a check.
type CheckDocument struct {
	Format   string       `json:"format"`
	Problems problem.List `json:"problems"`
}

// NewCheckDocument is the document of some problems.
func NewCheckDocument(list problem.List) CheckDocument {
	return CheckDocument{Format: "kasbah.check/1", Problems: append(problem.List{}, list...)}
}
