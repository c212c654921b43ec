package render

import (
	"fmt"
	"strings"
)

// Rows are lines of a table under a heading.
type Rows struct {
	Head string
	Rows [][]string
}

// Overview writes all commands by the day, each with what it does, and the pages that there are.
func (o *Out) Overview(groups []Rows, pages []string) {
	o.Printf("Kasbah keeps cloud resources as code: declare, check, propose, enact, survey.\n\n")
	o.Printf("kasbah [-C DIR] COMMAND [flags] [arguments]\n")
	const indent = 22
	for _, g := range groups {
		o.Printf("\n%s\n", o.Paint(Grey, g.Head))
		for _, row := range g.Rows {
			o.Printf("%-*s%s\n", indent, row[0], Wrap(row[1], o.Width-indent, strings.Repeat(" ", indent)))
		}
	}
	o.Printf("\n%s\n", Wrap("`kasbah COMMAND -h` explains one, `kasbah help ledger` a group. `kasbah help PAGE` shows one of "+strings.Join(pages, ", ")+". "+
		"`kasbah` alone in an estate shows its state. `kasbah demo` shows everything in a minute.", o.Width, ""))
}

// CommonFlags explains the flags that all commands share.
func (o *Out) CommonFlags(h Help) {
	o.Printf("flags that all commands take, those without an estate only some\n\n")
	o.Sheet(h.own)
}

// Help is what explains a command.
type Help struct {
	Name, Short, Args, Long string
	Examples                []string

	Common []string // flags that all commands share, by name

	own [][]string // flags
}

// Flag adds a flag with the word for its value; "" for none.
func (h *Help) Flag(name, word, text string) {
	h.own = append(h.own, []string{strings.TrimRight("  -"+name+" "+word, " "), text})
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
	if h.own != nil {
		o.Printf("\n%s\n", o.Paint(Grey, "flags"))
		o.Sheet(h.own)
	}
	if h.Common != nil {
		o.Printf("\n%s\n", Wrap("`kasbah help flags` explains the common ones: "+strings.Join(h.Common, " "), o.Width, ""))
	}
	o.Printf("\n%s\n  %s\n", o.Paint(Grey, "examples"), strings.Join(h.Examples, "\n  "))
}
