// Package memory is a store that lives as long as the program, for tests.
package memory

import (
	"context"
	"iter"
	"slices"
	"strings"
	"sync"

	"kasbah/core/store"
)

// Store keeps objects in a map.
type Store struct {
	mu      sync.Mutex
	objects map[string][]byte // nil body: blanked
	keys    []string          // of objects, in order
}

// New makes an empty store.
func New() *Store { return &Store{objects: map[string][]byte{}} }

var _ store.Store = (*Store)(nil)

// PutIfAbsent writes an object unless its key is taken.
func (s *Store) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if err := check(ctx, key); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.objects[key]; ok {
		return store.ErrExists
	}
	s.objects[key] = append([]byte{}, body...)
	at, _ := slices.BinarySearch(s.keys, key)
	s.keys = slices.Insert(s.keys, at, key)
	return nil
}

func check(ctx context.Context, key string) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	return ctx.Err()
}

// Get reads an object.
func (s *Store) Get(ctx context.Context, key string) ([]byte, error) {
	if err := check(ctx, key); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	body, ok := s.objects[key]
	switch {
	case !ok:
		return nil, store.ErrNotFound
	case body == nil:
		return nil, store.ErrBlank
	}
	return slices.Clone(body), nil
}

// List yields keys in byte order, as they were when it began.
func (s *Store) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		s.mu.Lock()
		from, _ := slices.BinarySearch(s.keys, max(prefix, after))
		var keys []string
		for _, k := range s.keys[from:] {
			if !strings.HasPrefix(k, prefix) {
				break
			}
			if k > after {
				keys = append(keys, k)
			}
		}
		s.mu.Unlock()
		for _, k := range keys {
			if err := ctx.Err(); err != nil {
				yield("", err)
				return
			}
			if !yield(k, nil) {
				return
			}
		}
	}
}

// Blank takes an object's body away.
func (s *Store) Blank(ctx context.Context, key string) error {
	if err := check(ctx, key); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.objects[key]; !ok {
		return store.ErrNotFound
	}
	s.objects[key] = nil
	return nil
}

// Delete frees a key.
func (s *Store) Delete(ctx context.Context, key string) error {
	if err := check(ctx, key); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if at, there := slices.BinarySearch(s.keys, key); there {
		delete(s.objects, key)
		s.keys = slices.Delete(s.keys, at, at+1)
	}
	return nil
}

// Close does nothing.
func (s *Store) Close() error { return nil }
