//go:build !windows

package disk

import (
	"errors"
	"io/fs"
	"path/filepath"

	"github.com/google/renameio/v2"
)

// replace writes into a file beside the old one, which then takes its place.
func replace(path string, body []byte, mode fs.FileMode, private bool) error {
	options := []renameio.Option{renameio.WithTempDir(filepath.Dir(path)), renameio.WithPermissions(mode),
		renameio.WithExistingPermissions()}
	if private {
		options = []renameio.Option{renameio.WithTempDir(filepath.Dir(path)), renameio.WithStaticPermissions(mode)}
	}
	f, err := renameio.NewPendingFile(path, options...)
	if err != nil {
		return err
	}
	_, err = f.Write(body)
	if err != nil {
		return errors.Join(err, f.Cleanup())
	}
	return f.CloseAtomicallyReplace()
}
