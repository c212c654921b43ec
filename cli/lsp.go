package cli

import (
	"context"
	"errors"
	"io"

	"kasbah/editor"
	"kasbah/home"
	"kasbah/session"
)

func lspCommand() *command {
	return &command{
		Name: "lsp", Short: "serve an editor", Estate: true, Takes: noArguments(),
		Long: "Serves an editor by the language server protocol, over standard input and output: mistakes while " +
			"typing, completion, explanations, renaming and more. The editor starts it; editors/ has a page for each. " +
			"It reads ledgers and no cloud, and writes nothing. Without -env it checks all environments.",
		Examples: [2]string{"kasbah lsp", "kasbah lsp -env trial"},
		Run: func(ctx context.Context, a *app, _ []string) error {
			if a.interactive() {
				a.say("An editor starts this and speaks with it; editors/README.md says how. End with Ctrl-C.")
			}
			return editor.Serve(ctx, standard{a.stdin, a.stdout}, editor.Options{Dir: a.dir, Env: a.env, Version: version(),
				Open: func(ctx context.Context, dir, env string, texts map[string][]byte) (*session.Session, error) {
					c := a.config(env, nil)
					c.Dir, c.Overlay, c.Lenient, c.Tell = dir, texts, true, nil
					c.Home = func() (*home.Home, error) {
						return home.Open(func(string) (string, error) { return "", errors.New("an editor is not asked for a passphrase") })
					}
					return session.Open(ctx, c)
				},
				Log: func(line string) { a.say("%s", line) }})
		},
	}
}

// standard is the connection over the standard streams.
type standard struct {
	io.Reader
	io.Writer
}

func (standard) Close() error { return nil } // the program ends
