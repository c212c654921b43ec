package process

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode"

	"github.com/sourcegraph/jsonrpc2"

	"kasbah/core/driver"
	"kasbah/core/environ"
	"kasbah/program"
	"kasbah/transport"
)

const (
	startWithin = 20 * time.Second // a child must have said what it is
	endWithin   = 3 * time.Second  // and ended once nobody talks to it any more
	maxUnasked  = 10_000           // messages without a request
	maxLine     = 8 << 10          // bytes of a line of its log
)

// readWithin is how long a child has for a call that changes nothing.
var readWithin = 2 * time.Minute

// child is a program that runs. It is used until it ends or is ended; the next
// call starts another one.
type child struct {
	name  string
	cmd   *exec.Cmd
	conn  *jsonrpc2.Conn
	slots chan struct{} // as many as calls may go on at a time; nil for any number
	offer []string
	calls atomic.Uint64 // the number of the newest call
	heard atomic.Int64  // when the newest answer came, in nanoseconds since it began
	began time.Time
	ended chan struct{} // closed when the process is gone

	mu      sync.Mutex
	why     error  // why it was ended, or ended itself
	last    string // the newest line of its log
	unasked int
}

// start runs the program and finds out what it speaks.
func (d *Driver) start(ctx context.Context) (*child, error) {
	c := &child{name: d.o.Name, began: time.Now(), ended: make(chan struct{})}
	c.cmd = exec.Command(d.o.Command[0], d.o.Command[1:]...)
	c.cmd.Dir = d.o.Dir
	c.cmd.Env = environ.For(d.o.Env...)
	program.OwnGroup(c.cmd)
	in, err := c.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := c.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	log, err := c.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := startTied(c.cmd, c.ended); err != nil {
		return nil, fmt.Errorf("%s cannot be started: %w", d.o.Command[0], err)
	}
	var reading sync.WaitGroup
	reading.Go(func() { c.readLog(log, d.o.Log, d.o.Redact) })
	stream := jsonrpc2.NewBufferedStream(pipes{out, in}, watched{transport.Frames{}, c})
	c.conn = jsonrpc2.NewConn(context.Background(), stream, c, jsonrpc2.SetLogger(quiet{}),
		jsonrpc2.OnRecv(func(*jsonrpc2.Request, *jsonrpc2.Response) {
			c.heard.Store(int64(time.Since(c.began)))
		}))
	go func() {
		<-c.conn.DisconnectNotify()
		timer := time.AfterFunc(endWithin, func() { c.end(nil) })
		reading.Wait()
		err := c.cmd.Wait()
		timer.Stop()
		c.fail(fmt.Errorf("it ended (%v)", exitWords(err)))
		close(c.ended)
	}()
	ctx, cancel := context.WithTimeout(ctx, startWithin)
	defer cancel()
	var hello helloResult
	err = c.exchange(ctx, "hello", helloParams{Protocols: []string{Protocol}, Who: d.o.From,
		Settings: object(d.o.Settings)}, &hello)
	if err == nil && hello.Protocol != Protocol {
		err = fmt.Errorf("it speaks %q, and this version of kasbah speaks %s", short(hello.Protocol), Protocol)
		c.fail(err)
	}
	if err != nil {
		c.end(nil)
		return nil, c.reason(ctx, err)
	}
	if hello.Parallel > 0 {
		c.slots = make(chan struct{}, min(hello.Parallel, 1000))
	}
	c.offer = hello.Offers
	return c, nil
}

func exitWords(err error) string {
	if err == nil {
		return "by itself"
	}
	return err.Error()
}

// call asks the child and waits for its answer. changes says that it may have an
// effect: it takes as long as its context allows, while others have readWithin.
func (c *child) call(ctx context.Context, method string, params, result any, changes bool) error {
	if !changes {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, readWithin, errSilent)
		defer cancel()
	}
	if c.slots != nil {
		select {
		case c.slots <- struct{}{}:
			defer func() { <-c.slots }()
		case <-ctx.Done():
			return ended(ctx)
		}
	}
	if err := ctx.Err(); err != nil {
		return ended(ctx)
	}
	asked := int64(time.Since(c.began))
	id := c.calls.Add(1)
	err := c.exchange(ctx, method, params, result, jsonrpc2.PickID(jsonrpc2.ID{Num: id}))
	var refused *jsonrpc2.Error
	switch {
	case err == nil:
		return nil
	case errors.As(err, &refused):
		return fromWire(refused)
	case ctx.Err() != nil:
		if c.heard.Load() < asked && !errors.Is(ctx.Err(), context.Canceled) {
			c.end(errSilent) // it has said nothing to anybody since: it hangs
		}
		go c.conn.Notify(context.Background(), "cancel", cancelParams{id}) // whoever hangs does not read either
		return ended(ctx)
	}
	if bad := (*json.UnmarshalTypeError)(nil); errors.As(err, &bad) {
		return &driver.Error{Message: "the answer of its driver cannot be read: " + err.Error()}
	}
	return &driver.Error{Message: c.reason(ctx, err).Error(), Passing: true}
}

// exchange sends a message and waits for its answer, no longer than its context lasts:
// the library itself waits for a child that reads nothing. result is written to only
// where no error comes back.
func (c *child) exchange(ctx context.Context, method string, params, result any, opts ...jsonrpc2.CallOption) error {
	var raw json.RawMessage
	answered := make(chan error, 1)
	go func() { answered <- c.conn.Call(ctx, method, params, &raw, opts...) }()
	var err error
	select {
	case err = <-answered:
	case <-ctx.Done():
		select {
		case err = <-answered: // it was written, or there was nothing to write any more
		case <-time.After(unreadFor):
			c.end(errUnread)
			return ctx.Err()
		}
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, result)
}

// unreadFor is how long a call that has ended waits for its own writing: a child that
// has not taken it by then reads nothing.
const unreadFor = 100 * time.Millisecond

var errUnread = errors.New("it does not read what is sent to it")

var errSilent = errors.New("it gave no answer")

// ended is why a context has ended: cancelled, past the time of a call that
// changes, or past the child's own.
func ended(ctx context.Context) error {
	if errors.Is(context.Cause(ctx), errSilent) {
		return &driver.Error{Message: fmt.Sprintf("its driver gave no answer within %s", readWithin), Passing: true}
	}
	return ctx.Err()
}

// reason says why the child is no more, with the newest line of its log.
func (c *child) reason(ctx context.Context, err error) error {
	if ctx.Err() != nil && !errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return ctx.Err()
	}
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		err = errSilent
	} else {
		select {
		case <-c.ended: // then its last words are read
		case <-time.After(endWithin):
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.why != nil {
		err = c.why
	}
	var refused *jsonrpc2.Error
	if errors.As(err, &refused) {
		err = errors.New(short(refused.Message))
	}
	if c.last != "" {
		return fmt.Errorf("the driver's program: %w; the last line of its log: %s", err, c.last)
	}
	return fmt.Errorf("the driver's program: %w", err)
}

// fail notes why the child is no more, once.
func (c *child) fail(err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.why == nil && err != nil {
		c.why = err
	}
}

// end kills the child and what it has started.
func (c *child) end(why error) {
	c.fail(why)
	select {
	case <-c.ended: // its number may be another one's by now
	default:
		program.KillGroup(c.cmd)
	}
	_ = c.conn.Close() // it is gone either way
}

// close asks the child to end, and ends it when it does not.
func (c *child) close() {
	_ = c.conn.Close() // which closes its input
	select {
	case <-c.ended:
	case <-time.After(endWithin):
		c.end(nil)
		<-c.ended
	}
}

func (c *child) gone() bool {
	select {
	case <-c.conn.DisconnectNotify():
		return true
	default:
		return false
	}
}

// Handle refuses what the child asks: nothing is offered to it. One that does
// not stop asking is ended.
func (c *child) Handle(ctx context.Context, conn *jsonrpc2.Conn, r *jsonrpc2.Request) {
	c.mu.Lock()
	c.unasked++
	many := c.unasked > maxUnasked
	c.mu.Unlock()
	switch {
	case many:
		c.end(fmt.Errorf("it sent more than %d messages without a request", maxUnasked))
	case !r.Notif:
		go conn.ReplyWithError(ctx, r.ID, &jsonrpc2.Error{Code: jsonrpc2.CodeMethodNotFound,
			Message: "nothing is offered"})
	}
}

// readLog passes the child's log on, a line at a time.
func (c *child) readLog(r io.Reader, tell func(string), redact func(string) string) {
	b := bufio.NewReaderSize(r, maxLine)
	for {
		line, _, err := b.ReadLine() // what is longer comes in pieces
		said := string(line)
		if redact != nil {
			said = redact(said)
		}
		if text := short(said); text != "" {
			c.mu.Lock()
			c.last = text
			c.mu.Unlock()
			if tell != nil {
				tell(c.name + ": " + text)
			}
		}
		if err != nil {
			return
		}
	}
}

// short is a line of foreign text that can be shown.
func short(s string) string {
	s = strings.TrimSpace(strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, s))
	if len(s) > 300 {
		s = s[:300] + "…"
	}
	return strings.ToValidUTF8(s, "")
}

// pipes are a child's standard streams.
type pipes struct {
	io.ReadCloser
	in io.WriteCloser
}

func (p pipes) Write(b []byte) (int, error) { return p.in.Write(b) }

func (p pipes) Close() error { return p.in.Close() } // its output ends with it

// watched notes what a child wrote that is no message.
type watched struct {
	transport.Frames
	c *child
}

func (w watched) ReadObject(r *bufio.Reader, v any) error {
	err := w.Frames.ReadObject(r, v)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF && !errors.Is(err, os.ErrClosed) {
		w.c.fail(err)
		program.KillGroup(w.c.cmd)
	}
	return err
}

type quiet struct{}

func (quiet) Printf(string, ...any) {}
