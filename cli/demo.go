package cli

import "context"

func demoCommand() *command {
	return &command{name: "demo", line: "the whole story on Lantern Coast, told step by step", examples: [2]string{"kasbah demo", "kasbah demo -keep lantern-coast"},
		run: func(ctx context.Context, a *app, args []string) error { return nil }}
}
