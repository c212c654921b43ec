package disk

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// replace writes into a file beside the old one, which then takes its place.
func replace(path string, body []byte, mode fs.FileMode, _ bool) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(body)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}
