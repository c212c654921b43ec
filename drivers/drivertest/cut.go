package drivertest

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Cutter passes connections on to a server, and cuts the one on which an answer holds
// some bytes: the server has done what it was asked to, and nobody hears of it.
type Cutter struct {
	Address string
	to      string

	mu   sync.Mutex
	when []byte // nil for never
	cut  int
	odds int64
}

// NewCutter listens on 127.0.0.1 until the test ends.
func NewCutter(t *testing.T, to string) *Cutter {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() }) // nothing is lost with it
	c := &Cutter{Address: l.Addr().String(), to: to}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go c.pass(conn)
		}
	}()
	return c
}

// CutAt cuts the next answer that holds some bytes, whole answers for an empty slice.
func (c *Cutter) CutAt(some []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.when, c.cut = some, 0
}

// Odds cuts so many of a thousand answers, whatever they hold.
func (c *Cutter) Odds(n int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.odds = n
}

// Cuts is how many connections were cut since.
func (c *Cutter) Cuts() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.cut
}

func (c *Cutter) pass(from net.Conn) {
	defer from.Close()
	to, err := net.Dial("tcp", c.to)
	if err != nil {
		return
	}
	defer to.Close()
	go func() {
		_, _ = io.Copy(to, from) // either side may end it
		to.Close()
	}()
	for buf := make([]byte, 1<<16); ; {
		n, err := to.Read(buf)
		if n > 0 && c.cuts(buf[:n]) {
			return
		}
		if _, werr := from.Write(buf[:n]); err != nil || werr != nil {
			return
		}
	}
}

func (c *Cutter) cuts(b []byte) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if rand.Int64N(1000) < c.odds {
		return true
	}
	if c.when == nil || !bytes.Contains(b, c.when) {
		return false
	}
	c.when = nil
	c.cut++
	return true
}
