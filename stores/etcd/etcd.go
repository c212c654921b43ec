// Package etcd is a store in etcd, through its own client. A key is taken by a transaction
// that compares its create revision with 0. A write whose outcome is open is never sent
// again behind our back.
//
// An object's first byte says what follows: its body (K), the list of the parts
// that hold it (P), or nothing, because it was blanked (B). Objects are below
// `kasbah/`, parts below `kasbah.part/`.
package etcd

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"path"
	"strings"

	clientv3 "go.etcd.io/etcd/client/v3"

	"kasbah/core/store"
)

// Settings say where the servers are.
type Settings struct {
	Endpoints      []string // URLs, all of http or all of https
	User, Password string
	CA             string // PEM file of the authorities that are trusted, instead of the system's
	Cert, Key      string // PEM files of a client certificate
}

const (
	objects = "kasbah/"
	parts   = "kasbah.part/"

	whole   = 'K'
	inParts = 'P'
	blanked = 'B'

	// partBytes is how much one request may hold: the server's own limit is
	// 1.5 MiB, unless somebody has changed it.
	partBytes = 1 << 20
)

// Store keeps objects in etcd.
type Store struct{ c *client }

var (
	_ store.Store   = (*Store)(nil)
	_ store.Watcher = (*Store)(nil)
	_ store.Sweeper = (*Store)(nil)
)

// Open names the servers. Nothing is connected before the first use.
func Open(s Settings) (*Store, error) {
	c, err := newClient(s)
	if err != nil {
		return nil, err
	}
	return &Store{c}, nil
}

// manifest lists the parts of a large object.
type manifest struct {
	Parts  []string `json:"parts"`
	SHA256 string   `json:"sha256"`
}

// PutIfAbsent writes an object. The parts of a large one go first; those of a
// put that lost the race are deleted again.
func (s *Store) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	if len(body) < partBytes {
		return s.take(ctx, key, append([]byte{whole}, body...))
	}
	if there, err := s.c.get(ctx, objects+key); err != nil || there != nil { // spares the parts
		return errors.Join(err, taken(there))
	}
	m := manifest{SHA256: fmt.Sprintf("%x", sha256.Sum256(body))}
	base := parts + path.Dir(key) + "/" + rand.Text()
	for n := 0; len(body) > 0; n++ {
		part := body[:min(len(body), partBytes)]
		body = body[len(part):]
		name := fmt.Sprintf("%s/%06d", base, n)
		if err := s.c.put(ctx, name, part); err != nil {
			return err
		}
		m.Parts = append(m.Parts, name)
	}
	list, err := json.Marshal(m)
	if err != nil {
		return err
	}
	err = s.take(ctx, key, append([]byte{inParts}, list...))
	if errors.Is(err, store.ErrExists) {
		return errors.Join(err, s.c.remove(ctx, base+"/", store.PrefixEnd(base+"/")))
	}
	return err
}

func taken(v *kv) error {
	if v == nil {
		return nil
	}
	return store.ErrExists
}

// take is the one strong operation.
func (s *Store) take(ctx context.Context, key string, v []byte) error {
	won, err := s.c.putIf(ctx, objects+key, clientv3.Compare(clientv3.CreateRevision(objects+key), "=", 0), v)
	if err == nil && !won {
		return store.ErrExists
	}
	return err
}

// Get reads an object and, where it is in parts, these.
func (s *Store) Get(ctx context.Context, key string) ([]byte, error) {
	if err := store.CheckKey(key); err != nil {
		return nil, err
	}
	for range 3 { // its parts may go while they are read
		v, err := s.c.get(ctx, objects+key)
		if err != nil {
			return nil, err
		}
		if v == nil {
			return nil, store.ErrNotFound
		}
		if len(v.Value) == 0 {
			return nil, fmt.Errorf("what etcd holds under %s%s is not an object of a store", objects, key)
		}
		switch v.Value[0] {
		case whole:
			return v.Value[1:], nil
		case blanked:
			return nil, store.ErrBlank
		case inParts:
			body, err := s.join(ctx, key, v.Value[1:])
			if !errors.Is(err, store.ErrNotFound) {
				return body, err
			}
		default:
			return nil, fmt.Errorf("what etcd holds under %s%s is not an object of a store", objects, key)
		}
	}
	return nil, fmt.Errorf("a part of %s is missing", key)
}

func (s *Store) join(ctx context.Context, key string, list []byte) ([]byte, error) {
	var m manifest
	if err := json.Unmarshal(list, &m); err != nil {
		return nil, fmt.Errorf("the list of the parts of %s: %w", key, err)
	}
	var out bytes.Buffer
	for _, name := range m.Parts {
		v, err := s.c.get(ctx, name)
		if err != nil {
			return nil, err
		}
		if v == nil {
			return nil, store.ErrNotFound
		}
		out.Write(v.Value)
	}
	if fmt.Sprintf("%x", sha256.Sum256(out.Bytes())) != m.SHA256 {
		return nil, fmt.Errorf("the parts of %s are not what was written", key)
	}
	return out.Bytes(), nil
}

// List reads the keys a page at a time; etcd orders them by bytes.
func (s *Store) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		from := objects + prefix
		if after != "" {
			from = max(from, objects+after+"\x00")
		}
		for {
			keys, more, err := s.c.keys(ctx, from, store.PrefixEnd(objects+prefix))
			if err != nil {
				yield("", err)
				return
			}
			for _, k := range keys {
				if !yield(strings.TrimPrefix(k, objects), nil) {
					return
				}
			}
			if !more || len(keys) == 0 {
				return
			}
			from = keys[len(keys)-1] + "\x00"
		}
	}
}

// Blank puts a mark in the object's place and deletes its parts.
func (s *Store) Blank(ctx context.Context, key string) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	list, err := s.parts(ctx, key)
	if err != nil {
		return err
	}
	there, err := s.c.putIf(ctx, objects+key, clientv3.Compare(clientv3.CreateRevision(objects+key), ">", 0),
		[]byte{blanked})
	if err == nil && !there {
		err = store.ErrNotFound
	}
	if err != nil {
		return err
	}
	return s.drop(ctx, list)
}

// Delete deletes the object, and then its parts.
func (s *Store) Delete(ctx context.Context, key string) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	list, err := s.parts(ctx, key)
	if err != nil {
		return err
	}
	if err := s.c.remove(ctx, objects+key, ""); err != nil {
		return err
	}
	return s.drop(ctx, list)
}

// parts are those of an object, if it has any.
func (s *Store) parts(ctx context.Context, key string) ([]string, error) {
	v, err := s.c.get(ctx, objects+key)
	if err != nil || v == nil || len(v.Value) == 0 || v.Value[0] != inParts {
		return nil, err
	}
	var m manifest
	if err := json.Unmarshal(v.Value[1:], &m); err != nil {
		return nil, fmt.Errorf("the list of the parts of %s: %w", key, err)
	}
	return m.Parts, nil
}

func (s *Store) drop(ctx context.Context, names []string) error {
	for _, name := range names {
		if !strings.HasPrefix(name, parts) {
			return fmt.Errorf("%q is not a part of an object", name)
		}
		if err := s.c.remove(ctx, name, ""); err != nil {
			return err
		}
	}
	return nil
}

// Sweep deletes parts that a put has left which never came to its end.
func (s *Store) Sweep(ctx context.Context, prefix string) error {
	used := map[string]bool{}
	for key, err := range s.List(ctx, prefix, "") {
		if err != nil {
			return err
		}
		list, err := s.parts(ctx, key)
		if err != nil {
			return err
		}
		for _, name := range list {
			used[name] = true
		}
	}
	for from := parts + prefix; ; {
		keys, more, err := s.c.keys(ctx, from, store.PrefixEnd(parts+prefix))
		if err != nil {
			return err
		}
		for _, k := range keys {
			if !used[k] {
				if err := s.c.remove(ctx, k, ""); err != nil {
					return err
				}
			}
			from = k + "\x00"
		}
		if !more || len(keys) == 0 {
			return nil
		}
	}
}

// Watch listens for puts.
func (s *Store) Watch(ctx context.Context, prefix string) (<-chan struct{}, error) {
	return s.c.watch(ctx, objects+prefix, store.PrefixEnd(objects+prefix))
}

// Close ends the connections.
func (s *Store) Close() error { return s.c.close() }
