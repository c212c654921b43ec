package render

import (
	"strings"

	"kasbah/core/settle"
)

// Diff writes a unified diff.
func (o *Out) Diff(diff string) {
	for _, line := range strings.Split(strings.TrimSuffix(diff, "\n"), "\n") {
		if diff == "" {
			return
		}
		text := Clean(line)
		switch {
		case strings.HasPrefix(line, "+++") || strings.HasPrefix(line, "---"):
			text = o.Bold(text)
		case strings.HasPrefix(line, "+"):
			text = o.Paint(green, text)
		case strings.HasPrefix(line, "-"):
			text = o.Paint(vermilion, text)
		case strings.HasPrefix(line, "@@"):
			text = o.Paint(Grey, text)
		}
		o.Printf("%s\n", text)
	}
}

// SettleChanges writes what cannot be settled as it was asked, and how files would change.
func (o *Out) SettleChanges(decided []settle.Decided, diff string) {
	for _, d := range decided {
		o.Printf("left  %s\n", Wrap(Clean(d.Difference.String())+": "+Clean(d.Err.Error()), o.Width-6, "      "))
	}
	o.Diff(diff)
}

// Difference writes differences that are alike, for a question about them.
func (o *Out) Difference(g []settle.Difference) {
	d := g[0]
	head := d.String()
	if len(g) > 1 {
		head = Count(len(g), d.Resource.Type) + ": " + d.Path
	}
	text := "is gone"
	if x := d.Of(); x != nil {
		text = "expected " + shown(d.Expected, false) + ", found " + shown(d.Found, false)
		if x.By != "" {
			text += ", " + by(x.By, x.At)
		}
	} else if d.Resource.By != "" {
		text += ", " + by(d.Resource.By, d.Resource.At)
	}
	o.Printf("\n%s  %s\n", o.Bold(Clean(head)), Wrap(Clean(text), o.Width-4, "    "))
}

// Settled writes what was settled and what is left.
func (o *Out) Settled(d *settle.Document) {
	count := map[settle.Resolution]int{}
	for _, x := range d.Settled {
		count[x.Resolution]++
	}
	for _, file := range d.Files {
		o.Printf("wrote %s\n", file)
	}
	if len(d.Settled)+len(d.Left) == 0 && d.Diff == "" {
		o.Printf("Nothing that is asked for has drifted in %s.\n", d.Env)
		return
	}
	var parts []string
	for _, x := range []struct {
		r    settle.Resolution
		word string
	}{{settle.TakeOver, "taken over"}, {settle.PutBack, "put back"}, {settle.Leave, "left to others"},
		{settle.LetGo, "let go"}, {settle.Accept, "accepted"}} {
		if n := count[x.r]; n > 0 {
			parts = append(parts, Count(n, "difference")+" "+x.word)
		}
	}
	if len(parts) == 0 && len(d.Files) == 0 && d.Diff != "" {
		return // only shown
	}
	if len(parts) == 0 {
		parts = append(parts, "nothing was settled")
	}
	end := "nothing is left"
	if n := len(d.Left); n > 0 {
		end = Count(n, "difference") + " left"
	}
	text := strings.Join(parts, ", ") + "; " + end + "."
	o.Printf("%s\n", strings.ToUpper(text[:1])+text[1:])
}

// codeAround is how many lines before and behind a line are shown.
const codeAround = 2

// Code writes the lines of a file around one of them, with their numbers.
func (o *Out) Code(file, text string, line int) {
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	o.Printf("    %s\n", o.Paint(Grey, Clean(file)))
	for i := max(1, line-codeAround); i <= min(len(lines), line+codeAround); i++ {
		mark := " "
		if i == line {
			mark = ">"
		}
		o.Printf("  %s %4d  %s\n", mark, i, Clean(lines[i-1]))
	}
}
