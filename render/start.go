package render

import (
	"path/filepath"

	"kasbah/core/redact"
)

// Started writes which files of a new estate were written into a folder, what is to be known of its
// keys, and what comes next.
func (o *Out) Started(folder string, files []string, keys string, envs []string) {
	for _, f := range files {
		o.Printf("wrote %s\n", filepath.Join(folder, f))
	}
	if keys != "" {
		o.Printf("%s\n", Wrap(keys, o.Width, "  "))
	}
	env := ""
	if len(envs) > 1 {
		env = " -env " + envs[0]
	}
	o.Printf("\nNext:\n")
	if filepath.Clean(folder) != "." {
		o.Printf("  cd %s\n", redact.Quoted(folder))
	}
	o.Printf("  kasbah propose%s\n  kasbah enact%s\n", env, env)
}
