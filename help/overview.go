package help

import (
	"strings"
)

// Line is a command and what it is for.
type Line struct{ Name, Short string }

// Rows are lines of the overview under a heading.
type Rows struct {
	Head string
	Rows [][]string
}

// groups say what commands with a common first word are for.
var groups = map[string]string{
	"kit": "reusable parts", "ledger": "recorded state and its history",
	"key": "credentials, and who can read and write the ledger", "medina": "the simulated cloud",
}

// About says what the commands of a group are for; "" for what is not a group.
func About(group string) string { return groups[group] }

// Below are the commands of a group, a row each.
func Below(group string, all []Line) (rows [][]string) {
	for _, c := range all {
		if strings.HasPrefix(c.Name, group+" ") {
			rows = append(rows, []string{"  " + c.Name, c.Short})
		}
	}
	return rows
}

// Overview puts commands together by the day. A group is one line.
func Overview(all []Line) (out []Rows) {
	for _, g := range Groups() {
		part := Rows{Head: g.Name}
		for _, first := range g.Commands {
			if about := groups[first]; about != "" {
				var names []string
				for _, row := range Below(first, all) {
					names = append(names, strings.TrimPrefix(row[0], "  "+first+" "))
				}
				part.Rows = append(part.Rows, []string{"  " + first + " …", about + ": " + strings.Join(names, ", ")})
				continue
			}
			for _, c := range all {
				if c.Name == first || strings.HasPrefix(c.Name, first+" ") {
					part.Rows = append(part.Rows, []string{"  " + c.Name, c.Short})
				}
			}
		}
		out = append(out, part)
	}
	return out
}
