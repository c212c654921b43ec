// Package store is the contract between the ledger and where it lives:
// immutable objects under keys, with one strong operation. Implementations
// are in folders below; storetest holds the conformance suite that each of
// them passes.
package store

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
)

// Store keeps immutable objects under keys. Keys are texts of letters,
// digits, `-`, `_`, `.`, `~` and `/`, as CheckKey has it. Methods may be called
// from many goroutines and many programs at once.
type Store interface {
	// PutIfAbsent writes an object. Of all writers of a key, exactly one
	// succeeds; the others get ErrExists. When it returns nil the object is
	// durable. Any other error leaves the outcome unknown: the same bytes may
	// be put again until the outcome is known.
	PutIfAbsent(ctx context.Context, key string, body []byte) error
	// Get reads an object: ErrNotFound when the key was never taken, ErrBlank
	// when its body was blanked.
	Get(ctx context.Context, key string) ([]byte, error)
	// List yields the keys that begin with prefix and come after the key
	// `after`, in byte order, those of blanked objects included.
	List(ctx context.Context, prefix, after string) iter.Seq2[string, error]
	// Blank takes an object's body away. The key stays taken.
	Blank(ctx context.Context, key string) error
	// Delete frees a key. It is for checkpoints only, never for entries.
	Delete(ctx context.Context, key string) error
	// Close gives back what the store holds.
	Close() error
}

// Watcher is implemented by stores that can tell when something was put, so
// that waiting needs no asking again and again.
type Watcher interface {
	// Watch gives a channel that gets a value soon after a key that begins with
	// prefix was put. It is closed when ctx ends or the connection is lost;
	// several puts may be told as one.
	Watch(ctx context.Context, prefix string) (<-chan struct{}, error)
}

// Sweeper is implemented by stores that keep large objects in parts.
type Sweeper interface {
	// Sweep deletes parts below prefix that belong to no object. Nothing may
	// be written below it meanwhile.
	Sweep(ctx context.Context, prefix string) error
}

var (
	// ErrExists is returned for a key that is taken.
	ErrExists = errors.New("the key is taken")
	// ErrNotFound is returned for a key that was never taken.
	ErrNotFound = errors.New("not found")
	// ErrBlank is returned for an object whose body was blanked.
	ErrBlank = errors.New("the object was blanked")
)

// CheckKey is an error unless key is one that every store can hold: segments
// joined by single slashes, none of them empty, `.` or `..`.
func CheckKey(key string) error {
	if key == "" || len(key) > 512 {
		return fmt.Errorf("store: a key of %d bytes", len(key))
	}
	for _, seg := range strings.Split(key, "/") {
		if seg == "" || seg == "." || seg == ".." || strings.HasPrefix(seg, ".") {
			return fmt.Errorf("store: bad key %q", key)
		}
	}
	for _, c := range key {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', strings.ContainsRune("-_./~", c):
		default:
			return fmt.Errorf("store: bad key %q", key)
		}
	}
	return nil
}

// PrefixEnd is the first text behind all that begin with a prefix, which must not
// be empty nor end in the last byte there is; keys never do.
func PrefixEnd(prefix string) string {
	b := []byte(prefix)
	b[len(b)-1]++
	return string(b)
}
