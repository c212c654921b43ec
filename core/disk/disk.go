// Package disk reads and replaces files on this machine: whole or not at all, and never more
// than expected.
package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// TooLargeError says that a file is larger than it can be.
type TooLargeError struct {
	Path string
	Most int64 // bytes
}

// Error names the file and the limit.
func (e *TooLargeError) Error() string {
	return fmt.Sprintf("%s is larger than %d bytes", e.Path, e.Most)
}

// Read reads a file of at most so many bytes. A larger one is a *TooLargeError; of a file that
// grows meanwhile no more is read.
func Read(path string, most int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	body, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil {
		return nil, err
	}
	if int64(len(body)) > most {
		return nil, &TooLargeError{Path: path, Most: most}
	}
	return body, nil
}

// Replace writes a file whole or not at all: a reader meets the old text or the new one. A
// file that is there keeps its mode, as with os.WriteFile.
func Replace(path string, body []byte, mode fs.FileMode) error {
	return named(path, replace(path, body, mode, false))
}

// ReplacePrivate is Replace for what only its owner may read, whatever mode it had.
func ReplacePrivate(path string, body []byte) error {
	return named(path, replace(path, body, 0o600, true))
}

// named is an error about a path in place of one about its temporary file, of which nobody
// knows.
func named(path string, err error) error {
	var at *fs.PathError
	var moved *os.LinkError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &at):
		err = at.Err
	case errors.As(err, &moved):
		err = moved.Err
	}
	return fmt.Errorf("%s could not be written: %w", path, err)
}
