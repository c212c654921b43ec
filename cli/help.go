package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"kasbah/core/problem"
	"kasbah/help"
	"kasbah/render"
)

func helpCommand() *command {
	return &command{
		Name: "help", Short: "list the commands, or explain one", Args: "[COMMAND]",
		Long:     "Without arguments it lists all commands; with one it explains that command or group, or shows a page.",
		Examples: [2]string{"kasbah help ledger show", "kasbah help exit-codes"},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) == 0 {
				return a.overview()
			}
			if len(args) == 1 && groupLines[args[0]] != "" {
				return a.groupHelp(args[0])
			}
			if len(args) == 1 {
				if args[0] == "flags" {
					return a.flagsHelp()
				}
				if page, is := help.Page(args[0]); is {
					_, err := a.buffer.Write([]byte(page))
					return err
				}
			}
			cmd, rest := lookup(args)
			if page := help.NearPage(args[0]); cmd == nil && page != "" {
				return &problem.UsageError{Message: fmt.Sprintf("there is no page %q", args[0]), Hint: fmt.Sprintf("did you mean %q?", page)}
			}
			if cmd == nil || len(rest) > 0 {
				return unknownCommand(args)
			}
			_, err := a.parse(cmd, []string{"-h"})
			return err
		},
	}
}

// overview lists the commands.
func (a *app) overview() error {
	if err := a.prepareOutput(); err != nil {
		return err
	}
	var groups []render.Rows
	for _, g := range help.Groups() {
		group := render.Rows{Head: g.Name}
		for _, first := range g.Commands {
			if line := groupLines[first]; line != "" {
				group.Rows = append(group.Rows, []string{"  " + first + " …", line + ": " + strings.Join(groupNames(first), ", ")})
				continue
			}
			for _, c := range commands() {
				if c.Name == first || strings.HasPrefix(c.Name, first+" ") {
					group.Rows = append(group.Rows, []string{"  " + c.Name, c.Short})
				}
			}
		}
		groups = append(groups, group)
	}
	names, _ := help.Pages()
	a.out().Overview(groups, append(names, "flags"))
	return nil
}

// flagsHelp explains the flags that all commands share.
func (a *app) flagsHelp() error {
	if err := a.prepareOutput(); err != nil {
		return err
	}
	fs := flag.NewFlagSet("", flag.ContinueOnError)
	a.commonFlags(fs, true)
	h := render.Help{}
	fs.VisitAll(func(f *flag.Flag) {
		word, text := flag.UnquoteUsage(f)
		h.Flag(f.Name, word, text)
	})
	a.out().CommonFlags(h)
	return nil
}

// groupLines say what commands with a common first word are for.
var groupLines = map[string]string{
	"kit": "reusable parts", "ledger": "recorded state and its history",
	"key": "credentials, and who can read and write the ledger", "medina": "the simulated cloud",
}

// groupNames are the second words of a group's commands.
func groupNames(group string) []string {
	var out []string
	for _, c := range commands() {
		if name, ok := strings.CutPrefix(c.Name, group+" "); ok {
			out = append(out, name)
		}
	}
	return out
}

// groupHelp lists the commands of a group.
func (a *app) groupHelp(group string) error {
	if err := a.prepareOutput(); err != nil {
		return err
	}
	out := a.out()
	out.Printf("kasbah %s: %s.\n\n", group, groupLines[group])
	var rows [][]string
	for _, c := range commands() {
		if strings.HasPrefix(c.Name, group+" ") {
			rows = append(rows, []string{"  " + c.Name, c.Short})
		}
	}
	out.Sheet(rows)
	out.Printf("\n`kasbah %s NAME -h` explains one.\n", group)
	return nil
}

// commandHelp explains one command.
func (a *app) commandHelp(cmd *command, fs *flag.FlagSet) {
	if a.prepareOutput() != nil {
		a.colour = "auto"
	}
	h := render.Help{Name: cmd.Name, Short: cmd.Short, Args: cmd.Args, Long: cmd.Long, Examples: cmd.Examples[:]}
	fs.VisitAll(func(f *flag.Flag) {
		word, text := flag.UnquoteUsage(f)
		if !commonNames[f.Name] {
			h.Flag(f.Name, word, render.WithDefault(text, f.DefValue))
		} else {
			h.Common = append(h.Common, "-"+f.Name)
		}
	})
	a.out().Help(h)
}
