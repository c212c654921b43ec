package cli

import (
	"context"
	"flag"
	"strings"

	"kasbah/render"
)

func helpCommand() *command {
	return &command{
		Name: "help", Short: "list the commands, or explain one", Args: "[COMMAND]",
		Long:     "Without arguments it lists all commands; with one it explains that command or group.",
		Examples: [2]string{"kasbah help", "kasbah help ledger show"},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) == 0 {
				return a.overview()
			}
			if len(args) == 1 && groupLines[args[0]] != "" {
				return a.groupHelp(args[0])
			}
			cmd, rest := lookup(args)
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
	var rows [][]string
	told := map[string]bool{}
	for _, c := range commands() {
		group, _, _ := strings.Cut(c.Name, " ")
		switch {
		case groupLines[group] == "":
			rows = append(rows, []string{"  " + c.Name, c.Short})
		case !told[group]:
			told[group] = true
			rows = append(rows, []string{"  " + group + " …", groupLines[group] + ": " + strings.Join(groupNames(group), ", ")})
		}
	}
	a.out().Overview(rows)
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
		if f.Name != "C" && f.Name != "colour" {
			text = render.WithDefault(text, f.DefValue)
		}
		h.Flag(commonNames[f.Name], f.Name, word, text)
	})
	a.out().Help(h)
}
