package cli

import (
	"context"
	"flag"
	"fmt"

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
			if len(args) == 1 && help.About(args[0]) != "" {
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
				return help.Unknown(args, helpLines())
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
	for _, g := range help.Overview(helpLines()) {
		groups = append(groups, render.Rows(g))
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

// helpLines are all commands with what each is for.
func helpLines() (out []help.Line) {
	for _, c := range commands() {
		out = append(out, help.Line{Name: c.Name, Short: c.Short})
	}
	return out
}

// groupHelp lists the commands of a group.
func (a *app) groupHelp(group string) error {
	if err := a.prepareOutput(); err != nil {
		return err
	}
	out := a.out()
	out.Printf("kasbah %s: %s.\n\n", group, help.About(group))
	out.Sheet(help.Below(group, helpLines()))
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
