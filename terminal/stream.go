// Package terminal is the standard streams as a run of the program writes them: whole lines from many
// goroutines, and nothing in them that a terminal would take for a command.
package terminal

import (
	"bufio"
	"io"
	"sync"

	"kasbah/render"
)

// Stream is a standard stream that many goroutines may write to: the run, its
// progress, and the log of a driver's program.
type Stream struct {
	mu     *sync.Mutex
	direct io.Writer
	held   *bufio.Writer // what waits for Flush; nil where nothing does
	inner  bool          // another stream of ours comes behind it, and sees to what is shown
}

// Pair is a stream of results, which waits for Flush, and one of messages, which does not. They share a
// lock, so that lines stay whole where both lead to one terminal.
func Pair(out, errOut io.Writer) (results, messages *Stream) {
	mu := &sync.Mutex{}
	return &Stream{mu: mu, direct: out, held: bufio.NewWriterSize(out, 1<<16)}, &Stream{mu: mu, direct: errOut}
}

// Inner says that what it writes to is another stream, which sees to what is shown.
func (s *Stream) Inner() { s.inner = true }

// Write writes p at once, or holds it back. Whatever p holds, nothing but text and what
// this program means goes on: see render.Visible.
func (s *Stream) Write(p []byte) (int, error) {
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
func (s *Stream) Flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held == nil {
		return nil
	}
	return s.held.Flush()
}

// JSON is a writer of JSON in which nothing is hidden from who looks at it in a terminal.
type JSON struct{ To io.Writer }

func (o JSON) Write(p []byte) (int, error) {
	if _, err := o.To.Write(render.Escaped(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}
