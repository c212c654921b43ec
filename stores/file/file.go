// Package file is a store in a folder. An object is a file; the final name is
// given to it by a hard link, which the file system refuses when the name is
// taken, so two programs on one folder are safe. A blanked object is an empty
// file: a written one never is, because each begins with a byte of its own.
package file

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"

	"github.com/oklog/ulid/v2"

	"kasbah/core/store"
)

// mark is the first byte of every object's file.
const mark = 'K'

// Store keeps objects below a folder.
type Store struct {
	root  string
	ahead ahead
}

var _ store.Store = (*Store)(nil)

// Open uses a folder, which is made at the first write.
func Open(root string) (*Store, error) {
	abs, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	return &Store{root: abs}, nil
}

func (s *Store) path(ctx context.Context, key string) (string, error) {
	if err := store.CheckKey(key); err != nil {
		return "", err
	}
	return filepath.Join(s.root, filepath.FromSlash(key)), ctx.Err()
}

// PutIfAbsent writes a file that has no name yet, brings it to disk, links it to its
// final name and brings the folder to disk. Where the system has no files without
// names, it has a temporary one.
func (s *Store) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	path, err := s.path(ctx, key)
	if err != nil {
		return err
	}
	dir := filepath.Dir(path)
	done, err := s.putNameless(dir, path, body)
	if err == nil && !done {
		err = putNamed(dir, path, body)
	}
	if err != nil {
		return err
	}
	return syncDir(dir)
}

// putNameless writes an object's file before it has a name, and gives it its own. It reports false where that cannot
// be.
func (s *Store) putNameless(dir, path string, body []byte) (done bool, err error) {
	f := s.ahead.take(dir)
	if f == nil {
		return false, nil
	}
	if err := fill(f, body); err != nil {
		var at *fs.PathError
		if errors.As(err, &at) {
			at.Path = path
		}
		return false, errors.Join(err, f.Close())
	}
	err = name(f, path)
	if closeErr := f.Close(); closeErr != nil {
		return false, closeErr
	}
	switch {
	case errors.Is(err, fs.ErrExist):
		return false, store.ErrExists
	case err != nil:
		s.ahead.giveUp()
	}
	return err == nil, nil
}

// putNamed gives an object's file a temporary name first.
func putNamed(dir, path string, body []byte) error {
	temp := filepath.Join(dir, ".new-"+ulid.Make().String())
	err := writeFile(temp, body)
	if errors.Is(err, fs.ErrNotExist) {
		if err = makeDir(dir); err == nil {
			err = writeFile(temp, body)
		}
	}
	if err != nil {
		return errors.Join(err, removeQuietly(temp))
	}
	defer os.Remove(temp) // a leftover begins with a dot and is never listed
	err = os.Link(temp, path)
	if errors.Is(err, fs.ErrExist) {
		return store.ErrExists
	}
	return err
}

func removeQuietly(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func writeFile(path string, body []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(fill(f, body), f.Close())
}

// fill writes an object's file and brings it to disk.
func fill(f *os.File, body []byte) error {
	if _, err := f.Write(append([]byte{mark}, body...)); err != nil {
		return err
	}
	return f.Sync()
}

// makeDir makes a folder and those above it, and brings them to disk.
func makeDir(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	parent := filepath.Dir(dir)
	if parent != dir {
		if err := makeDir(parent); err != nil {
			return err
		}
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return syncDir(parent)
}

// syncDir brings the names in a folder to disk. Windows has no such call and
// keeps names in order by itself.
func syncDir(dir string) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// Get reads an object.
func (s *Store) Get(ctx context.Context, key string) ([]byte, error) {
	path, err := s.path(ctx, key)
	if err != nil {
		return nil, err
	}
	body, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, store.ErrNotFound
	case err != nil:
		return nil, err
	case len(body) == 0:
		return nil, store.ErrBlank
	case body[0] != mark:
		return nil, fmt.Errorf("%s is not an object of a store", path)
	}
	return body[1:], nil
}

// List yields keys in byte order. Folders are read as they are reached, and
// those that cannot hold a wanted key are left out.
func (s *Store) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) { s.walk(ctx, "", prefix, after, yield) }
}

// walk lists the folder of the keys that begin with base, which is empty or
// ends in a slash. It reports whether to go on.
func (s *Store) walk(ctx context.Context, base, prefix, after string, yield func(string, error) bool) bool {
	entries, err := unsorted(filepath.Join(s.root, filepath.FromSlash(base)))
	if errors.Is(err, fs.ErrNotExist) {
		return true
	}
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		yield("", err)
		return false
	}
	// A log can have 100 000 entries. Most readers want only the last few, so only what is wanted is sorted.
	var names []string
	for _, e := range entries {
		switch {
		case strings.HasPrefix(e.Name(), "."):
		case e.IsDir():
			names = append(names, e.Name()+"/") // keys below it sort by this
		case begins(base, e.Name(), prefix) && behind(base, e.Name(), after):
			names = append(names, e.Name())
		}
	}
	sort.Strings(names)
	for _, name := range names {
		key := base + name
		if !strings.HasSuffix(name, "/") {
			if !yield(key, nil) {
				return false
			}
			continue
		}
		wanted := strings.HasPrefix(key, prefix) || strings.HasPrefix(prefix, key)
		past := after >= key && !strings.HasPrefix(after, key)
		if wanted && !past && !s.walk(ctx, key, prefix, after, yield) {
			return false
		}
	}
	return true
}

// begins reports whether base+name begins with a prefix.
func begins(base, name, prefix string) bool {
	if rest, longer := strings.CutPrefix(prefix, base); longer {
		return strings.HasPrefix(name, rest)
	}
	return strings.HasPrefix(base, prefix)
}

// behind reports whether base+name is greater than a key.
func behind(base, name, key string) bool {
	if rest, longer := strings.CutPrefix(key, base); longer {
		return name > rest
	}
	return base > key
}

// unsorted is os.ReadDir without its sorting: a log can have 100 000 entries, and their keys are
// sorted anyway.
func unsorted(folder string) ([]fs.DirEntry, error) {
	f, err := os.Open(folder)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.ReadDir(-1)
}

// Blank puts an empty file in the object's place.
func (s *Store) Blank(ctx context.Context, key string) error {
	path, err := s.path(ctx, key)
	if err != nil {
		return err
	}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return store.ErrNotFound
	}
	temp := filepath.Join(filepath.Dir(path), ".blank-"+ulid.Make().String())
	f, err := os.OpenFile(temp, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close(), os.Rename(temp, path)); err != nil {
		return errors.Join(err, removeQuietly(temp))
	}
	return syncDir(filepath.Dir(path))
}

// Delete removes an object's file.
func (s *Store) Delete(ctx context.Context, key string) error {
	path, err := s.path(ctx, key)
	if err != nil {
		return err
	}
	err = os.Remove(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return syncDir(filepath.Dir(path))
}

// Close lets go of what was made ahead.
func (s *Store) Close() error { return s.ahead.close() }
