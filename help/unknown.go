package help

import (
	"fmt"
	"strings"

	"kasbah/core/nearest"
	"kasbah/core/problem"
)

// Unknown is the error for words that no command begins with, and says what was meant.
func Unknown(args []string, all []Line) error {
	var names, subs []string
	for _, c := range all {
		first, second, two := strings.Cut(c.Name, " ")
		names = append(names, first)
		if two && first == args[0] {
			subs = append(subs, second)
		}
	}
	if len(subs) > 0 {
		e := &problem.UsageError{Message: fmt.Sprintf("kasbah %s needs one of these: %s", args[0],
			strings.Join(subs, ", ")), Hint: "`kasbah help` lists all commands"}
		if len(args) > 1 && !strings.HasPrefix(args[1], "-") {
			e.Message = fmt.Sprintf("there is no command %q", args[0]+" "+args[1])
			e.Hint = nearest.Hint(args[1], subs)
			if e.Hint == "" {
				e.Hint = "there is " + strings.Join(subs, ", ")
			}
		}
		return e
	}
	e := &problem.UsageError{Message: fmt.Sprintf("there is no command %q", args[0]), Hint: nearest.Hint(args[0],
		names)}
	if meant := Meant(args[0]); meant != "" {
		e.Hint = meant
	}
	if e.Hint == "" {
		e.Hint = "`kasbah help` lists all commands"
	}
	return e
}
