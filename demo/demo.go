// Package demo holds the estates that the program writes: the small one of
// `kasbah start` and Lantern Coast, the one of `kasbah demo` and of the docs.
package demo

import (
	"embed"
	"io/fs"
)

//go:embed all:start all:lantern-coast all:parts
var files embed.FS

// Start is the small estate of `kasbah start`.
func Start() fs.FS { return sub("start") }

// LanternCoast is the estate of the demo.
func LanternCoast() fs.FS { return sub("lantern-coast") }

// Parts are pieces that `kasbah start` adds when they are asked for.
func Parts() fs.FS { return sub("parts") }

func sub(dir string) fs.FS {
	f, err := fs.Sub(files, dir)
	if err != nil {
		panic(err) // only for a malformed name
	}
	return f
}
