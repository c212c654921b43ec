package kits

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

const (
	maxFiles = 2000
	maxBytes = 64 << 20
)

// Digest is that of a kit's folder: the SHA-256 of one line for each file,
// `HEX  PATH`, in the order in which the folder is walked (names in byte
// order, folders where their name stands), each line ended by a newline; HEX
// is the SHA-256 of the file's bytes and PATH has slashes. Files below .git
// do not count. Links and other odd files are errors.
func Digest(dir string) (string, error) {
	sum := sha256.New()
	err := walk(dir, func(rel string, body []byte) error {
		_, err := fmt.Fprintf(sum, "%x  %s\n", sha256.Sum256(body), rel)
		return err
	})
	return fmt.Sprintf("sha256:%x", sum.Sum(nil)), err
}

// walk reads the files of a kit's folder, each with its path below it.
func walk(dir string, each func(rel string, body []byte) error) error {
	files, bytes := 0, int64(0)
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && d.Name() == ".git":
			return fs.SkipDir
		case d.IsDir():
			return nil
		case !d.Type().IsRegular():
			return fmt.Errorf("%s is not a regular file: kits hold no links", path)
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		files, bytes = files+1, bytes+info.Size()
		if files > maxFiles || bytes > maxBytes {
			return fmt.Errorf("%s holds more than %d files or %d bytes, which no kit does", dir, maxFiles, maxBytes)
		}
		rel, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		body, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return each(filepath.ToSlash(rel), body)
	})
}
