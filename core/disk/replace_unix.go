//go:build !windows

package disk

import (
	"io/fs"
	"path/filepath"

	"github.com/google/renameio/v2"
)

// replace writes into a file beside the old one, which then takes its place.
func replace(path string, body []byte, mode fs.FileMode, private bool) error {
	options := []renameio.Option{renameio.WithTempDir(filepath.Dir(path))}
	if private {
		options = append(options, renameio.WithStaticPermissions(mode))
	}
	return renameio.WriteFile(path, body, mode, options...)
}
