package cli

import (
	"context"
	"runtime"

	"kasbah/core/problem"
)

func versionCommand() *command {
	return &command{
		name: "version", line: "print the version",
		examples: [2]string{"kasbah version", "kasbah version -json"},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) > 0 {
				return problem.Usage("version takes no arguments")
			}
			if a.json {
				return a.document(map[string]string{"format": "kasbah.version/1", "version": version(), "go": runtime.Version(), "system": runtime.GOOS + "/" + runtime.GOARCH})
			}
			a.out().Printf("kasbah %s\n", version())
			return nil
		},
	}
}
