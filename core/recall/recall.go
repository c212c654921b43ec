// Package recall keeps on this machine what can be made again: proposals in which nothing changes, and what wards
// declared.
package recall

import (
	"bytes"
	"encoding/gob"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/cespare/xxhash/v2"

	"kasbah/core/seal"
)

const format = "kasbah.remembered/2"

// File keeps one thing. It may be deleted at any time.
type File struct {
	Path    string
	Program string    // identifies the program that reads and writes it: another one's is of no use
	Box     *seal.Box // seals it as the ledger is sealed, for it holds published values; nil where nothing is
}

// Read reads what is kept. There is nothing where no program, or another one, has written it.
func (f File) Read(into any) (there bool, err error) {
	body, err := os.ReadFile(f.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err == nil && f.Box != nil {
		body, err = f.Box.Decrypt(body)
	}
	if err != nil {
		return false, err
	}
	head, body, _ := bytes.Cut(body, []byte("\n"))
	sum, by, _ := bytes.Cut(bytes.TrimPrefix(head, []byte(format+" ")), []byte(" "))
	if string(sum) != digest(body) {
		return false, errors.New("it is damaged, or of another form")
	}
	if string(by) != f.Program {
		return false, nil
	}
	return true, gob.NewDecoder(bytes.NewReader(body)).Decode(into)
}

// buffers are used again: what the wards of a large estate declared is written one after the other, megabytes each.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// Write replaces what is kept.
func (f File) Write(is any) error {
	b := buffers.Get().(*bytes.Buffer)
	defer buffers.Put(b)
	b.Reset()
	if err := gob.NewEncoder(b).Encode(is); err != nil {
		return err
	}
	parts := [][]byte{[]byte(format + " " + digest(b.Bytes()) + " " + f.Program + "\n"), b.Bytes()}
	if f.Box != nil {
		sealed, err := seal.Encrypt(slices.Concat(parts...), f.Box.Recipients)
		if err != nil {
			return err
		}
		parts = [][]byte{sealed}
	}
	dir := filepath.Dir(f.Path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	to, err := os.CreateTemp(dir, "new-*") // for its owner alone
	if err != nil {
		return err
	}
	// it need not be durable: what a crash leaves of it is seen to be damaged
	for _, part := range parts {
		if err == nil {
			_, err = to.Write(part)
		}
	}
	if err = errors.Join(err, to.Close()); err == nil {
		err = os.Rename(to.Name(), f.Path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(to.Name()))
	}
	return nil
}

// digest is against damage alone: who may write here is the person themselves, or the file is sealed.
func digest(body []byte) string { return fmt.Sprintf("%x", xxhash.Sum64(body)) }

// Sweep removes what was of no use for a month, such as what is kept of folders that are gone.
func Sweep(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && time.Since(info.ModTime()) > 30*24*time.Hour {
			err = os.Remove(filepath.Join(dir, e.Name()))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // another run was faster
			return err
		}
	}
	return nil
}
