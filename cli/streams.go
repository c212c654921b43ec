package cli

import (
	"bufio"
	"io"
	"sync"

	"kasbah/render"
)

// stream is a standard stream that many goroutines may write to: the run, its
// progress, and the log of a driver's program. Streams that share a lock keep
// their lines whole where both lead to one terminal.
type stream struct {
	mu     *sync.Mutex
	direct io.Writer
	held   *bufio.Writer // what waits for Flush; nil where nothing does
	inner  bool          // another stream of ours comes behind it, and sees to what is shown
}

// newStreams are the program's two streams: results wait for Flush, messages do not.
func newStreams(out, errOut io.Writer) (results, messages *stream) {
	mu := &sync.Mutex{}
	return &stream{mu: mu, direct: out, held: bufio.NewWriterSize(out, 1<<16)}, &stream{mu: mu, direct: errOut}
}

// Write writes p at once, or holds it back. Whatever p holds, nothing but text and what
// this program means goes on: see render.Visible.
func (s *stream) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	to, shown := s.direct, p
	if s.held != nil {
		to = s.held
	}
	if !s.inner {
		shown = render.Visible(p)
	}
	if _, err := to.Write(shown); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Flush writes what was held back.
func (s *stream) Flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held == nil {
		return nil
	}
	return s.held.Flush()
}
