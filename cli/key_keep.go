package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"

	"kasbah/core/problem"
	"kasbah/home"
	"kasbah/session"
)

// keyKeepCommand keeps a credential that kasbah.toml then names as { key = … }.
func keyKeepCommand() *command {
	return &command{
		Name: "key keep", Short: "keep a credential or a secret on this machine, typed without echo", Args: "NAME",
		Long: "Keeps a credential or a secret in your configuration folder. kasbah.toml refers to it as { " +
			"key = \"NAME\" }.",
		Examples: [2]string{"kasbah key keep ledger-password", "kasbah key keep beacon-token < token.txt"},
		Takes:    exactly(1, "one name"),
		Run: func(_ context.Context, a *app, args []string) error {
			if err := home.CheckName(args[0]); err != nil {
				return problem.Usage("%v", err)
			}
			var text string
			var err error
			if a.interactive() {
				text, err = a.hidden("Text of " + args[0] + ":")
			} else {
				text, err = bufio.NewReader(a.stdin).ReadString('\n')
				if text != "" && !errors.Is(err, fs.ErrClosed) {
					err = nil
				}
			}
			if err != nil {
				return fmt.Errorf("nothing was typed: %w", err)
			}
			if text, err = session.NonEmpty(text); err != nil {
				return err
			}
			home, err := a.home()
			if err != nil {
				return err
			}
			if err := home.Keep(args[0], text); err != nil {
				return err
			}
			a.say("Kept. kasbah.toml names it as { key = %q }.", args[0])
			return nil
		},
	}
}
