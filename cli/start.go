package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"kasbah/demo"
)

func startCommand() *command {
	return &command{
		name: "start", line: "write a small working estate with Medina embedded", args: "DIR",
		examples: [2]string{"kasbah start lantern-coast", "kasbah start ."},
		run: func(_ context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return usage("start wants one folder")
			}
			dir := args[0]
			if !filepath.IsAbs(dir) {
				dir = filepath.Join(a.dir, dir)
			}
			files, err := writeEstate(dir, demo.Start())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.start/1", "dir": dir, "files": files})
			}
			out := a.out()
			for _, f := range files {
				out.Printf("wrote %s\n", filepath.Join(args[0], f))
			}
			out.Printf("\nNext:\n  cd %s\n  kasbah propose\n  kasbah enact\n", args[0])
			return nil
		},
	}
}

// writeEstate writes an embedded estate into a folder and overwrites nothing.
func writeEstate(dir string, from fs.FS) ([]string, error) {
	var files []string
	err := fs.WalkDir(from, ".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files = append(files, path)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if _, err := os.Lstat(filepath.Join(dir, f)); err == nil {
			return nil, usage("%s is there already; nothing is written over", filepath.Join(dir, f))
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	for _, f := range files {
		body, err := fs.ReadFile(from, f)
		if err != nil {
			return nil, err
		}
		path := filepath.Join(dir, f)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, body, 0o644); err != nil {
			return nil, err
		}
	}
	return files, nil
}
