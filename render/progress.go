package render

import (
	"fmt"
	"sort"
	"strings"
	"sync"
	"time"

	"kasbah/core/enact"
	"kasbah/core/propose"
)

// Event writes a moment of a run as a line. Starts are not told: their ends
// are.
func (o *Out) Event(e enact.Event) {
	if line := o.eventLine(e); line != "" {
		o.Printf("%s\n", line)
	}
}

// halfWords say which part of an action was done.
var halfWords = map[string]string{"make": "the new one", "remove": "the old one", "edit": "in place",
	"let go": "let go first"}

func (o *Out) eventLine(e enact.Event) string {
	what := o.Action(string(e.Action), pad(string(e.Action)+" ", 6)) + Clean(e.Address)
	if e.Undo {
		what = o.Paint(Grey, "back  ") + what
	}
	if e.Half != "" {
		what += " (" + halfWords[e.Half] + ")"
	}
	switch e.Kind {
	case enact.EventDone:
		if e.Undo {
			return fmt.Sprintf("%s  done in %.1f s", what, e.Seconds)
		}
		return fmt.Sprintf("%s  done in %.1f s  %d of %d", what, e.Seconds, e.Counts.Done, e.Counts.Total)
	case enact.EventSkipped:
		return what + "  turned out to be the same"
	case enact.EventFailed:
		return o.Paint(vermilion, "failed") + "  " + what
	case enact.EventRetry:
		return fmt.Sprintf("again %s  %s", what, Clean(e.Err.Error()))
	}
	return ""
}

// Bar is the live line of a run on a terminal: how far it is, what is
// running and for how long.
type Bar struct {
	o       *Out
	mu      sync.Mutex
	began   time.Time
	seconds float64 // by the forecast; 0 when nothing is known
	running map[string]time.Time
	counts  enact.Counts
	quit    chan struct{}
	done    sync.WaitGroup
}

const barEvery = 120 * time.Millisecond

// NewBar starts a live line. The forecast may say nothing.
func NewBar(o *Out, f propose.Forecast) *Bar {
	b := &Bar{o: o, began: time.Now(), running: map[string]time.Time{}, quit: make(chan struct{})}
	if f.Seconds != nil && f.Unknown == 0 {
		b.seconds = *f.Seconds
	}
	b.done.Add(1)
	go func() {
		defer b.done.Done()
		tick := time.NewTicker(barEvery)
		defer tick.Stop()
		for {
			select {
			case <-b.quit:
				return
			case <-tick.C:
				b.mu.Lock()
				b.draw()
				b.mu.Unlock()
			}
		}
	}()
	return b
}

// Event takes a moment of the run.
func (b *Bar) Event(e enact.Event) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.counts = e.Counts
	key := e.Ward + ":" + e.Address + " " + e.Half
	switch e.Kind {
	case enact.EventStart:
		b.running[key] = time.Now()
		return
	case enact.EventDone, enact.EventFailed, enact.EventSkipped, enact.EventNotBegun:
		delete(b.running, key)
	}
	if line := b.o.eventLine(e); line != "" {
		b.o.Printf("%s%s\n", clearLine, line)
		b.draw()
	}
}

const barWidth = 20

func (b *Bar) draw() {
	c := b.counts
	if c.Total == 0 {
		return
	}
	filled := barWidth * c.Done / c.Total
	line := fmt.Sprintf("[%s%s] %d/%d", strings.Repeat("=", filled), strings.Repeat(" ", barWidth-filled), c.Done,
		c.Total)
	since := time.Since(b.began)
	line += fmt.Sprintf("  %s", since.Round(time.Second))
	if left := b.seconds - since.Seconds(); left >= 1 {
		line += ", about " + About(left) + " left"
	}
	var names []string
	for k := range b.running {
		names = append(names, k)
	}
	sort.Slice(names, func(i, j int) bool { return b.running[names[i]].Before(b.running[names[j]]) })
	for i, n := range names {
		short := strings.TrimSpace(n[strings.IndexByte(n, ':')+1:])
		line += fmt.Sprintf("  %s %ds", short, int(time.Since(b.running[n]).Seconds()))
		if i == 2 && len(names) > 3 {
			line += fmt.Sprintf("  and %d more", len(names)-3)
			break
		}
	}
	b.o.Printf("%s%s", clearLine, Fit(Clean(line), b.o.Width-4))
}

// Close takes the live line away.
func (b *Bar) Close() {
	close(b.quit)
	b.done.Wait()
	b.o.Printf("%s", clearLine)
}

// clearLine goes back to the line's begin and clears it.
var clearLine = control("\r\x1b[K")
