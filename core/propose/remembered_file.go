package propose

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"kasbah/core/disk"
	"kasbah/core/seal"
)

const rememberedFormat = "kasbah.remembered/1"

// RememberedFile keeps a remembered proposal on this machine.
type RememberedFile struct {
	Path string
	Box  *seal.Box // seals it as the ledger is sealed, for it holds published values; nil where nothing is
}

// Read reads what is remembered; nil where nothing is.
func (f RememberedFile) Read() (*Remembered, error) {
	body, err := os.ReadFile(f.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil && f.Box != nil {
		body, err = f.Box.Decrypt(body)
	}
	if err != nil {
		return nil, err
	}
	head, body, _ := bytes.Cut(body, []byte("\n"))
	if string(head) != rememberedHead(body) {
		return nil, errors.New("it is damaged, or of another form")
	}
	return readRemembered(body)
}

// Write replaces what is remembered, and removes what was of no use for a month, such as
// that of folders that are gone.
func (f RememberedFile) Write(m *Remembered) error {
	body, err := m.Encode()
	if err != nil {
		return err
	}
	body = append([]byte(rememberedHead(body)+"\n"), body...)
	if f.Box != nil {
		if body, err = seal.Encrypt(body, f.Box.Recipients); err != nil {
			return err
		}
	}
	dir := filepath.Dir(f.Path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := disk.ReplacePrivate(f.Path, body); err != nil {
		return err
	}
	return sweep(dir)
}

func rememberedHead(body []byte) string {
	return fmt.Sprintf("%s %x", rememberedFormat, sha256.Sum256(body))
}

func sweep(dir string) error {
	entries, err := os.ReadDir(dir)
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
