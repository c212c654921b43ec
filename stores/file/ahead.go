package file

import (
	"errors"
	"os"
	"sync"
	"time"
)

// ahead makes the file of a folder's next object while the one before is on its way. To make a file can take a file
// system longer than all that follows, and whoever appends waits for every step of it. The files have no names, so
// that nothing is left of a program that dies.
type ahead struct {
	mu    sync.Mutex
	next  map[string]*nextFile // by folder
	never bool                 // the system makes none, or cannot name them
}

type nextFile struct {
	at   time.Time     // of the put before
	file chan *os.File // that holds one, or nil where the system makes none; nil when none is on its way
}

// often is how soon puts follow each other where a file is made ahead.
const often = time.Second

// take is a file without a name in a folder, or nil where the system makes none.
func (a *ahead) take(dir string) *os.File {
	a.mu.Lock()
	if a.never {
		a.mu.Unlock()
		return nil
	}
	was, now := a.next[dir], &nextFile{at: time.Now()}
	if was != nil && now.at.Sub(was.at) < often {
		now.file = make(chan *os.File, 1)
		go func() { now.file <- nameless(dir) }()
	}
	if a.next == nil {
		a.next = map[string]*nextFile{}
	}
	a.next[dir] = now
	a.mu.Unlock()
	if was != nil && was.file != nil {
		return <-was.file
	}
	return nameless(dir)
}

// giveUp makes no more files ahead.
func (a *ahead) giveUp() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.never = true
}

func (a *ahead) close() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	var errs []error
	for _, n := range a.next {
		if n.file == nil {
			continue
		}
		if f := <-n.file; f != nil {
			errs = append(errs, f.Close())
		}
	}
	clear(a.next)
	return errors.Join(errs...)
}
