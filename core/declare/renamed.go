package declare

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/value"
)

// RenamedFrom are the resources of some wards that those declared here say they were once:
// former full address -> present one.
func (d *Declared) RenamedFrom(wards []string) map[string]string {
	out := map[string]string{}
	for _, r := range d.Resources {
		for _, former := range r.Former {
			if ward, _ := value.SplitWard(former); slices.Contains(wards, ward) {
				out[former] = r.Full()
			}
		}
	}
	return out
}

// SpeakOfRenaming reports whether any *.star file of a folder, or below it, speaks of
// renaming. It is a quick look that spares an evaluation.
func SpeakOfRenaming(dir string) (bool, error) {
	found := false
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && strings.HasPrefix(e.Name(), ".") && path != dir:
			return filepath.SkipDir
		case e.IsDir() || !strings.HasSuffix(path, ".star"):
			return nil
		}
		body, err := os.ReadFile(path)
		if found = err == nil && bytes.Contains(body, []byte("renamed_from")); found {
			return filepath.SkipAll
		}
		return err
	})
	return found, err
}
