package cli

import (
	"context"
	"flag"
	"io"
	"strings"

	"kasbah/complete"
	"kasbah/help"
	"kasbah/session"
)

func completionCommand() *command {
	return &command{
		Name: "completion", Short: "finish words in a shell", Args: "SHELL", Takes: atLeast(1,
			"a shell: bash, fish, powershell or zsh"),
		Long: "Prints a script for bash, fish, powershell or zsh that finishes commands, flags, environments, wards, " +
			"addresses, runs, kits and types. It reads the estate's files, the last proposal and ledgers on this machine, and no cloud.",
		Examples: [2]string{"source <(kasbah completion bash)", "kasbah completion fish | source"},
		Run: func(ctx context.Context, a *app, args []string) error {
			script, err := complete.Script(args[0])
			if err != nil {
				return err
			}
			if len(args) < 2 || args[1] != "words" {
				_, err := io.WriteString(a.buffer, script)
				return err
			}
			line := args[2:]
			if args[0] == "bash" { // the whole line, with the program's name
				line = complete.Split(strings.Join(line, " "))[1:]
			}
			if len(line) == 0 {
				line = []string{""}
			}
			var list []complete.Command
			for _, c := range commands() {
				fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
				if c.Flags != nil {
					c.Flags(fs)
				}
				newApp(a.stdin, io.Discard, io.Discard).commonFlags(fs, c.Estate)
				list = append(list, complete.Command{Name: c.Name, Short: c.Short, Args: c.Args, Flags: fs})
			}
			pages, _ := help.Pages()
			answer := complete.Line(list, pages, line, session.Words(ctx, a.config("", nil)))
			_, err = io.WriteString(a.buffer, answer.Write(args[0], line[len(line)-1]))
			return err
		},
	}
}
