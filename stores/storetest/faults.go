package storetest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/stores/servertest"
)

// Faults runs what a store over a network must stand besides: answers that are
// lost after the effect, a server that is killed and comes back, and one that
// is slow. open gives a store that reaches the server at an address.
func Faults(t *testing.T, server *servertest.Server, open func(t *testing.T, address string) store.Store) {
	t.Run("lost answers", func(t *testing.T) { lostAnswers(t, server, open) })
	t.Run("restarts", func(t *testing.T) { restarts(t, server, open) })
	t.Run("slow answers", func(t *testing.T) { slowAnswers(t, server, open) })
	t.Run("watch", func(t *testing.T) { watch(t, open(t, server.Address)) })
}

// wire is between a store and its server.
type wire struct {
	net.Listener
	to string

	mu   sync.Mutex
	cut  func() bool // whether the next answer is lost, and its connection with it
	slow time.Duration
}

func newWire(t *testing.T, to string) *wire {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &wire{Listener: l, to: to}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go w.carry(c)
		}
	}()
	return w
}

func (w *wire) carry(c net.Conn) {
	defer c.Close()
	s, err := net.Dial("tcp", w.to)
	if err != nil {
		return
	}
	defer s.Close()
	go func() {
		_, _ = io.Copy(s, c) // what is asked always arrives
		s.Close()
	}()
	buf := make([]byte, 32<<10)
	for {
		n, err := s.Read(buf)
		if err != nil {
			return
		}
		w.mu.Lock()
		cut, slow := w.cut != nil && w.cut(), w.slow
		w.mu.Unlock()
		if cut {
			return
		}
		time.Sleep(slow)
		if _, err := c.Write(buf[:n]); err != nil {
			return
		}
	}
}

func (w *wire) set(f func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	f()
}

// patience is how long a put may take until it is known what became of it: a server that is
// killed needs time to come back, on a busy machine seconds.
const patience = time.Minute

// settle puts the same bytes until it is known what became of them, as the
// ledger does.
func settle(ctx context.Context, s store.Store, key, body string) (won bool, tries int, err error) {
	for began := time.Now(); ; {
		tries++
		err = s.PutIfAbsent(ctx, key, []byte(body))
		if err == nil {
			return true, tries, nil
		}
		if errors.Is(err, store.ErrExists) {
			var there []byte
			if there, err = s.Get(ctx, key); err == nil {
				return string(there) == body, tries, nil
			}
		}
		if time.Since(began) > patience {
			return false, tries, err
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// race lets writers settle who has each of some keys, and checks that exactly
// one believes so: the one whose bytes are there.
func race(t *testing.T, prefix string, keys int, writers []store.Store, reader store.Store) (again int) {
	ctx := context.Background()
	var mu sync.Mutex
	for k := range keys {
		key := fmt.Sprintf("%s/log/%010d", prefix, k+1)
		winners := []string{}
		var wg sync.WaitGroup
		for i, s := range writers {
			wg.Go(func() {
				body := fmt.Sprintf("writer %d", i)
				won, tries, err := settle(ctx, s, key, body)
				mu.Lock()
				defer mu.Unlock()
				again += tries - 1
				if err != nil {
					t.Errorf("%s: %v", body, err)
				}
				if won {
					winners = append(winners, body)
				}
			})
		}
		wg.Wait()
		require.Len(t, winners, 1, key)
		there, err := reader.Get(ctx, key)
		require.NoError(t, err)
		require.Equal(t, winners[0], string(there))
	}
	return again
}

// An answer that is lost never looks like another program's object.
func lostAnswers(t *testing.T, server *servertest.Server, open func(t *testing.T, address string) store.Store) {
	w := newWire(t, server.Address)
	var writers []store.Store
	for range 4 {
		writers = append(writers, open(t, w.Addr().String()))
	}
	direct := open(t, server.Address)
	rnd := rand.New(rand.NewPCG(4, 2))
	lost := 0
	w.set(func() {
		w.cut = func() bool {
			if rnd.IntN(6) != 0 {
				return false
			}
			lost++
			return true
		}
	})
	again := race(t, "lost", 25, writers, direct)
	// 25 keys take 100 puts and 75 reads of what another has put, and the
	// seed says which of the answers are lost.
	w.set(func() { require.Greater(t, lost, 20, "answers were lost") })
	require.Positive(t, again, "some of them were answers to a put")
}

// A server that is killed and comes back has all that it said it had.
func restarts(t *testing.T, server *servertest.Server, open func(t *testing.T, address string) store.Store) {
	ctx := context.Background()
	s := open(t, server.Address)
	gone := make(chan struct{})
	go func() {
		defer close(gone)
		for range 6 {
			time.Sleep(300 * time.Millisecond)
			server.Kill()
			server.Start()
		}
	}()
	won := 0
	for killing := true; killing; won++ {
		ok, _, err := settle(ctx, s, fmt.Sprintf("again/log/%010d", won+1), fmt.Sprintf("body %d", won))
		if !ok || err != nil {
			t.Errorf("put %d: %v %v", won, ok, err)
			break
		}
		select {
		case <-gone:
			killing = false
		default:
		}
	}
	<-gone
	require.Greater(t, won, 3)
	s = open(t, server.Address)
	for k := range won {
		there, err := s.Get(ctx, fmt.Sprintf("again/log/%010d", k+1))
		require.NoError(t, err)
		require.Equal(t, fmt.Sprintf("body %d", k), string(there))
	}
	require.Len(t, collect(t, s, "again/", ""), won)
}

func slowAnswers(t *testing.T, server *servertest.Server, open func(t *testing.T, address string) store.Store) {
	w := newWire(t, server.Address)
	w.set(func() { w.slow = 30 * time.Millisecond })
	s := open(t, w.Addr().String())
	race(t, "slow", 3, []store.Store{s, open(t, w.Addr().String())}, s)
	w.set(func() { w.slow = 5 * time.Second })
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	began := time.Now()
	_, err := s.Get(ctx, "slow/log/0000000001")
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.Less(t, time.Since(began), 4*time.Second, "nobody waits longer than asked to")
}

func watch(t *testing.T, s store.Store) {
	w, ok := s.(store.Watcher)
	if !ok {
		t.Skip("it cannot watch")
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	// whatever is made at the first write is there
	require.NoError(t, s.PutIfAbsent(ctx, "w/log/0000000001", []byte("x")))
	told, err := w.Watch(ctx, "w/")
	require.NoError(t, err)
	require.NoError(t, s.PutIfAbsent(ctx, "other/log/0000000001", []byte("x")))
	require.NoError(t, s.PutIfAbsent(ctx, "w/log/0000000002", []byte("x")))
	select {
	case _, ok := <-told:
		require.True(t, ok)
	case <-time.After(20 * time.Second):
		require.Fail(t, "nobody was told")
	}
	cancel()
	for range told {
	}
}
