package cli

import (
	"context"
	"runtime"
	"runtime/debug"
)

func versionCommand() *command {
	return &command{
		Name: "version", Short: "print the version",
		Long:     "Prints the version and the commit that the program was built from.",
		Examples: [2]string{"kasbah version", "kasbah version -json"},
		Takes:    noArguments(),
		Run: func(_ context.Context, a *app, _ []string) error {
			if a.json {
				return a.document(map[string]string{"format": "kasbah.version/1", "version": version(),
					"go": runtime.Version(), "system": runtime.GOOS + "/" + runtime.GOARCH})
			}
			a.out().Printf("kasbah %s\n", version())
			return nil
		},
	}
}

// release is set at release builds.
var release = "0.1.0"

func version() string {
	v := release
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 9 {
				v += "+" + s.Value[:9]
			}
		}
	}
	return v
}
