// Package storetest is the conformance suite of store.Store: what a new
// implementation must pass.
package storetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"github.com/anishathalye/porcupine"
	"github.com/stretchr/testify/require"

	"kasbah/core/store"
)

// Run runs the suite. open gives a store on the same place each time it is
// called within one test, empty at first.
func Run(t *testing.T, open func(t *testing.T) func() store.Store) {
	for name, f := range map[string]func(*testing.T, func() store.Store){
		"put and get": putAndGet, "one winner": oneWinner, "list": list, "blank": blank, "delete": deletes,
		"durable": durable, "large": large, "keys": keys, "cancelled": cancelled, "linearizable": linearizable,
	} {
		t.Run(name, func(t *testing.T) { f(t, open(t)) })
	}
}

func collect(t *testing.T, s store.Store, prefix, after string) []string {
	var out []string
	for k, err := range s.List(context.Background(), prefix, after) {
		require.NoError(t, err)
		out = append(out, k)
	}
	return out
}

func putAndGet(t *testing.T, open func() store.Store) {
	ctx, s := context.Background(), open()
	_, err := s.Get(ctx, "a/log/0000000001")
	require.ErrorIs(t, err, store.ErrNotFound)
	body := []byte("a body")
	require.NoError(t, s.PutIfAbsent(ctx, "a/log/0000000001", body))
	body[0] = 'X' // the store must have its own copy
	got, err := s.Get(ctx, "a/log/0000000001")
	require.NoError(t, err)
	require.Equal(t, "a body", string(got))
	require.ErrorIs(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("a body")), store.ErrExists)
	require.ErrorIs(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("another")), store.ErrExists)
	require.NoError(t, s.PutIfAbsent(ctx, "a/log/0000000002", nil))
	got, err = s.Get(ctx, "a/log/0000000002")
	require.NoError(t, err, "an empty object is not a blank one")
	require.Empty(t, got)
}

func oneWinner(t *testing.T, open func() store.Store) {
	ctx := context.Background()
	for round := range 20 {
		key := fmt.Sprintf("w/log/%010d", round+1)
		var wins sync.Map
		var wg sync.WaitGroup
		for i := range 16 {
			s := open()
			wg.Go(func() {
				switch err := s.PutIfAbsent(ctx, key, fmt.Appendf(nil, "writer %d", i)); {
				case err == nil:
					wins.Store(i, true)
				case !errors.Is(err, store.ErrExists):
					t.Errorf("writer %d: %v", i, err)
				}
			})
		}
		wg.Wait()
		var winners []string
		wins.Range(func(k, _ any) bool { winners = append(winners, fmt.Sprintf("writer %d", k)); return true })
		require.Len(t, winners, 1)
		got, err := open().Get(ctx, key)
		require.NoError(t, err)
		require.Equal(t, winners[0], string(got))
	}
}

func list(t *testing.T, open func() store.Store) {
	ctx, s := context.Background(), open()
	require.Empty(t, collect(t, s, "a/", ""))
	for _, k := range []string{"a/log/0000000010", "a/log/0000000009", "a/checkpoint/0000000009", "a-b/log/0000000001",
		"a/log/0000000011", "b/log/0000000001"} {
		require.NoError(t, s.PutIfAbsent(ctx, k, []byte(k)))
	}
	require.Equal(t, []string{"a/log/0000000009", "a/log/0000000010", "a/log/0000000011"}, collect(t, s, "a/log/", ""))
	require.Equal(t, []string{"a/log/0000000011"}, collect(t, s, "a/log/", "a/log/0000000010"))
	require.Equal(t, []string{"a/log/0000000010", "a/log/0000000011"}, collect(t, s, "a/log/", "a/log/00000000095"),
		"after need not be there")
	require.Equal(t, []string{"a-b/log/0000000001", "a/checkpoint/0000000009", "a/log/0000000009"},
		collect(t, s, "a", "")[:3], "byte order: - before /")
	for range s.List(ctx, "a/log/", "") {
		break // stopping early must not hang or leak
	}
	// whatever is asked for, it is the sorted keys that begin with the prefix and are behind a key
	all := collect(t, s, "", "")
	require.Len(t, all, 6)
	for _, prefix := range []string{"", "a", "a-", "a/", "a/l", "a/log/", "a/log/00000000", "a/log/0000000011", "b", "c"} {
		for _, after := range append([]string{"", "A", "a", "a-", "a-b/log/~", "a/", "a/checkpoint", "a/log", "a/log/", "a/log/00000000095",
			"a/m", "b", "c"}, all...) {
			var want []string
			for _, k := range all {
				if strings.HasPrefix(k, prefix) && k > after {
					want = append(want, k)
				}
			}
			require.Equal(t, want, collect(t, s, prefix, after), "%q behind %q", prefix, after)
		}
	}
}

func blank(t *testing.T, open func() store.Store) {
	ctx, s := context.Background(), open()
	require.ErrorIs(t, s.Blank(ctx, "a/log/0000000001"), store.ErrNotFound)
	require.NoError(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("x")))
	require.NoError(t, s.Blank(ctx, "a/log/0000000001"))
	require.NoError(t, s.Blank(ctx, "a/log/0000000001"))
	_, err := s.Get(ctx, "a/log/0000000001")
	require.ErrorIs(t, err, store.ErrBlank)
	require.ErrorIs(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("y")), store.ErrExists)
	require.Equal(t, []string{"a/log/0000000001"}, collect(t, s, "a/", ""))
}

func deletes(t *testing.T, open func() store.Store) {
	ctx, s := context.Background(), open()
	require.NoError(t, s.Delete(ctx, "a/checkpoint/0000000001"), "what is not there is deleted")
	require.NoError(t, s.PutIfAbsent(ctx, "a/checkpoint/0000000001", []byte("x")))
	require.NoError(t, s.Delete(ctx, "a/checkpoint/0000000001"))
	require.Empty(t, collect(t, s, "a/", ""))
	require.NoError(t, s.PutIfAbsent(ctx, "a/checkpoint/0000000001", []byte("y")))
}

func durable(t *testing.T, open func() store.Store) {
	ctx, s := context.Background(), open()
	require.NoError(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("x")))
	require.NoError(t, s.Close())
	got, err := open().Get(ctx, "a/log/0000000001")
	require.NoError(t, err)
	require.Equal(t, "x", string(got))
}

func large(t *testing.T, open func() store.Store) {
	ctx, s := context.Background(), open()
	body := bytes.Repeat([]byte("0123456789abcdef"), 10<<20/16)
	require.NoError(t, s.PutIfAbsent(ctx, "a/checkpoint/0000000001", body))
	got, err := s.Get(ctx, "a/checkpoint/0000000001")
	require.NoError(t, err)
	require.True(t, bytes.Equal(body, got))
}

func keys(t *testing.T, open func() store.Store) {
	ctx, s := context.Background(), open()
	for _, k := range []string{"", "/", "a/", "/a", "a//b", "../a", "a/../b", "a/./b", "a b", "a\nb", "a\x00b",
		".hidden", "ä", string(bytes.Repeat([]byte("k"), 600))} {
		require.Error(t, s.PutIfAbsent(ctx, k, []byte("x")), "%q", k)
		_, err := s.Get(ctx, k)
		require.Error(t, err, "%q", k)
	}
	for _, k := range []string{"a", "A", "a.b", "a_b-c/0", "x/y/z/w/v", "b/~c/0"} {
		require.NoError(t, s.PutIfAbsent(ctx, k, []byte(k)), "%q", k)
	}
	got, err := s.Get(ctx, "A")
	require.NoError(t, err)
	require.Equal(t, "A", string(got), "capitals and small letters are told apart")
}

func cancelled(t *testing.T, open func() store.Store) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	s := open()
	require.Error(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("x")))
	_, err := s.Get(ctx, "a/log/0000000001")
	require.ErrorIs(t, err, context.Canceled)
	require.Empty(t, collect(t, s, "a/", ""), "a cancelled put that failed at once has written nothing")
}

// call is an operation of a history: a put or a get on one key.
type call struct {
	key, body string
	put       bool
}

type answer struct {
	won, found bool
	body       string
}

// linearizable checks random concurrent histories against a map in which a
// key is written once (porcupine; Herlihy and Wing 1990).
func linearizable(t *testing.T, open func() store.Store) {
	ctx := context.Background()
	model := porcupine.Model{
		Partition: func(history []porcupine.Operation) [][]porcupine.Operation {
			by := map[string][]porcupine.Operation{}
			for _, o := range history {
				k := o.Input.(call).key
				by[k] = append(by[k], o)
			}
			var out [][]porcupine.Operation
			for _, h := range by {
				out = append(out, h)
			}
			return out
		},
		Init: func() any { return answer{} },
		Step: func(state, in, out any) (bool, any) {
			s, c, a := state.(answer), in.(call), out.(answer)
			if !c.put {
				return a.found == s.found && a.body == s.body, s
			}
			if s.found {
				return !a.won, s
			}
			return a.won, answer{found: true, body: c.body}
		},
	}
	var mu sync.Mutex
	var history []porcupine.Operation
	var clock int64
	tick := func() int64 {
		mu.Lock()
		defer mu.Unlock()
		clock++
		return clock
	}
	var wg sync.WaitGroup
	for client := range 8 {
		s := open()
		rnd := rand.New(rand.NewPCG(uint64(client), 3))
		wg.Go(func() {
			for i := range 40 {
				c := call{key: fmt.Sprintf("h/%d", rnd.IntN(12)), put: rnd.IntN(2) == 0, body: fmt.Sprintf("%d-%d",
					client, i)}
				began := tick()
				var a answer
				if c.put {
					err := s.PutIfAbsent(ctx, c.key, []byte(c.body))
					a.won = err == nil
					if err != nil && !errors.Is(err, store.ErrExists) {
						t.Errorf("put: %v", err)
					}
				} else if body, err := s.Get(ctx, c.key); err == nil {
					a.found, a.body = true, string(body)
				} else if !errors.Is(err, store.ErrNotFound) {
					t.Errorf("get: %v", err)
				}
				ended := tick()
				mu.Lock()
				history = append(history, porcupine.Operation{ClientId: client, Input: c, Call: began, Output: a,
					Return: ended})
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	require.True(t, porcupine.CheckOperations(model, history), "the history is not linearizable")
}
