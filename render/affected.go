package render

import (
	"fmt"
	"strings"

	"kasbah/core/declare"
)

// Lines writes words, one a line.
func (o *Out) Lines(words []string) {
	for _, w := range words {
		o.Printf("%s\n", Clean(w))
	}
}

// Affected writes which wards declare something else than at a commit.
func (o *Out) Affected(d *declare.AffectedDocument) {
	since := Clean(d.Since)
	if short := d.Commit[:min(len(d.Commit), 10)]; !strings.HasPrefix(d.Commit, d.Since) {
		since += " (" + short + ")"
	}
	for _, env := range d.Envs {
		if len(env.Wards) == 0 {
			o.Printf("%s: no ward is affected since %s.\n", env.Env, since)
			continue
		}
		o.Printf("%s\n", o.Bold(fmt.Sprintf("%s: %s affected since %s", env.Env, are(len(env.Wards), "ward"), since)))
		for _, w := range env.Wards {
			o.affectedWard(w)
		}
	}
}

func are(n int, what string) string {
	if n == 1 {
		return "1 " + what + " is"
	}
	return fmt.Sprintf("%d %ss are", n, what)
}

func (o *Out) affectedWard(w *declare.Affected) {
	var counts []string
	rows := [][]string{}
	for _, kind := range []struct {
		name string
		of   []string
	}{{"new", w.New}, {"edit", w.Edit}, {"drop", w.Drop}} {
		if len(kind.of) > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", len(kind.of), kind.name))
		}
		for i, address := range kind.of {
			if i == shownAffected && len(kind.of) > shownAffected+1 {
				rows = append(rows, []string{"    " + kind.name, fmt.Sprintf("and %d more", len(kind.of)-i)})
				break
			}
			rows = append(rows, []string{"    " + kind.name, Clean(address)})
		}
	}
	for _, name := range w.Published {
		rows = append(rows, []string{"    publishes", Clean(name)})
	}
	if len(w.Published) > 0 {
		counts = append(counts, Count(len(w.Published), "published value"))
	}
	if len(counts) > 0 {
		o.Printf("  %s: %s\n", Clean(w.Ward), strings.Join(counts, ", "))
	} else {
		o.Printf("  %s\n", Clean(w.Ward))
	}
	o.Sheet(rows)
	for _, because := range w.Because {
		o.Printf("    %s\n", Wrap(Clean(because), o.Width-4, "    "))
	}
}

// shownAffected is how many addresses of each kind are listed of a ward.
const shownAffected = 10
