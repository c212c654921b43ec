package file_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kasbah/core/store"
	"kasbah/stores/file"
	"kasbah/stores/storetest"
)

func TestConformance(t *testing.T) {
	for name, open := range map[string]func(string) (*file.Store, error){"as the system is": file.Open,
		"named": file.OpenNamed} {
		t.Run(name, func(t *testing.T) {
			storetest.Run(t, func(t *testing.T) func() store.Store {
				dir := t.TempDir()
				return func() store.Store {
					s, err := open(dir)
					require.NoError(t, err)
					return s
				}
			})
		})
	}
}

// Puts that follow each other have their files made ahead: by many at once, into folders that go and come again, and
// after the store was closed. A folder holds the objects and nothing else, even where the store is not closed.
func TestAhead(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, err := file.Open(dir)
	require.NoError(t, err)
	for round := range 3 {
		var g errgroup.Group
		won := make([]int, 4)
		for by := range won {
			g.Go(func() error {
				for i := range 50 {
					err := s.PutIfAbsent(ctx, fmt.Sprintf("a/log/%010d", i), fmt.Appendf(nil, "%d of %d", i, by))
					if err == nil {
						won[by]++
					} else if !errors.Is(err, store.ErrExists) {
						return err
					}
				}
				return nil
			})
		}
		require.NoError(t, g.Wait())
		require.Equal(t, 50, won[0]+won[1]+won[2]+won[3])
		there, err := os.ReadDir(filepath.Join(dir, "a/log"))
		require.NoError(t, err)
		require.Len(t, there, 50)
		for i, e := range there {
			require.Equal(t, fmt.Sprintf("%010d", i), e.Name())
			body, err := s.Get(ctx, "a/log/"+e.Name())
			require.NoError(t, err)
			require.True(t, strings.HasPrefix(string(body), fmt.Sprintf("%d of ", i)))
		}
		if round == 0 {
			require.NoError(t, s.Close())
		}
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "a")))
	}
}

// A program that died while it wrote leaves a temporary file, which is no
// object; a file that is not ours is an error and not an object.
func TestStrangeFiles(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, err := file.Open(dir)
	require.NoError(t, err)
	require.NoError(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("x")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a/log/.new-01"), []byte("half"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a/log/0000000002"), []byte("not ours"), 0o600))
	var keys []string
	for k, err := range s.List(ctx, "a/log/", "") {
		require.NoError(t, err)
		keys = append(keys, k)
	}
	require.Equal(t, []string{"a/log/0000000001", "a/log/0000000002"}, keys)
	_, err = s.Get(ctx, "a/log/0000000002")
	require.ErrorContains(t, err, "is not an object of a store")
}

// A full or read-only place is an error of the put, and nothing is taken.
func TestCannotWrite(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ledger"), []byte("a file, no folder"), 0o600))
	s, err := file.Open(filepath.Join(dir, "ledger"))
	require.NoError(t, err)
	require.Error(t, s.PutIfAbsent(context.Background(), "a/log/0000000001", []byte("x")))
}
