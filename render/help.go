package render

import (
	"fmt"
	"strings"
)

// Overview writes all commands, each with what it does.
func (o *Out) Overview(rows [][]string) {
	o.Printf("Kasbah keeps cloud resources as code: declare, check, propose, enact, survey.\n\n")
	o.Printf("kasbah [-C DIR] COMMAND [flags] [arguments]\n\n")
	for _, row := range rows {
		row[1] = Wrap(row[1], o.Width-15, strings.Repeat(" ", 15))
	}
	o.Sheet(rows)
	o.Printf("\n%s\n", Wrap("`kasbah COMMAND -h` explains one, `kasbah help ledger` a group. `kasbah` alone in an estate shows "+
		"its state. `kasbah demo` shows everything in a minute.", o.Width, ""))
}

// Help is what explains a command.
type Help struct {
	Name, Short, Args, Long string
	Examples                []string

	own, common [][]string // flags
}

// Flag adds a flag, of this command or of all, with the word for its value; "" for none.
func (h *Help) Flag(common bool, name, word, text string) {
	row := []string{strings.TrimRight("  -"+name+" "+word, " "), text}
	if common {
		h.common = append(h.common, row)
	} else {
		h.own = append(h.own, row)
	}
}

// WithDefault is what a flag does, with its value where it is not given.
func WithDefault(text, value string) string {
	switch value {
	case "", "false", "0", "0s":
		return text
	}
	return fmt.Sprintf("%s (%s)", text, value)
}

// Help explains a command.
func (o *Out) Help(h Help) {
	o.Printf("%s\n\n", Wrap("kasbah "+h.Name+": "+h.Short+".", o.Width-2, "  "))
	o.Printf("kasbah %s\n", strings.TrimSpace(h.Name+" [flags] "+h.Args))
	if h.Long != "" {
		o.Printf("\n%s\n", Wrap(h.Long, min(o.Width, 92), ""))
	}
	for _, group := range []struct {
		head string
		rows [][]string
	}{{"flags", h.own}, {"common flags", h.common}} {
		if group.rows != nil {
			o.Printf("\n%s\n", o.Paint(Grey, group.head))
			o.Sheet(group.rows)
		}
	}
	o.Printf("\n%s\n  %s\n", o.Paint(Grey, "examples"), strings.Join(h.Examples, "\n  "))
}
