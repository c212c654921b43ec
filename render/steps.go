package render

import (
	"fmt"
	"strings"

	"kasbah/core/rules"
	"kasbah/core/steps"
)

// Steps writes the estate's steps, or what one of them found.
func (o *Out) Steps(d *steps.Document) {
	if len(d.Ran) > 0 {
		o.Problems(rules.Problems(d.Findings))
		o.StepsRan(d.Ran)
		return
	}
	if len(d.Steps) == 0 {
		o.Printf("This estate has no steps: [[step]] in kasbah.toml names a program that has a say.\n")
		return
	}
	rows := [][]string{{"step", "level", "at", "runs", "program"}}
	for _, s := range d.Steps {
		runs := "yes"
		if !s.Runs {
			runs = "not in " + d.Env
		} else if len(s.Wards) > 0 {
			runs = strings.Join(s.Wards, ", ")
		}
		rows = append(rows, []string{Clean(s.Name), s.Level, strings.Join(s.At, ", "), Clean(runs),
			Clean(strings.Join(s.Run, " "))})
	}
	o.Table(rows, o.HeadGrey)
}

// StepsRan writes on one line which steps ran and how each ended; nothing where none did.
func (o *Out) StepsRan(ran []steps.Ran) {
	if text := StepsSaid(ran); text != "" {
		o.Printf("%s\n", Wrap(text, o.Width-2, "  "))
	}
}

// StepsSaid says which steps ran and how each ended; "" where none did.
func StepsSaid(ran []steps.Ran) string {
	var all []string
	for _, r := range ran {
		all = append(all, Clean(r.String()))
	}
	if all == nil {
		return ""
	}
	return fmt.Sprintf("Steps: %s.", strings.Join(all, ", "))
}
