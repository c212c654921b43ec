package enact

import (
	"sync"
	"time"
)

// work works steps off, many at a time: each once all before it are done,
// those with the longest remaining chain first. It starts nothing more when
// may says no or the run is told to stop, and returns once nothing is running.
//
// A few steps more are begun than calls may go on, so that their intents are durable when there is room for a call.
func (e *executor) work(steps []*step, may func() bool, do func(*step) bool) {
	e.may = may
	ready := &readyHeap{}
	for _, s := range steps {
		if s.before == 0 {
			ready.add(s)
		}
	}
	type finished struct {
		s  *step
		ok bool
	}
	done, next := make(chan finished), make(chan *step)
	defer close(next)
	// a barrier only orders: what comes after it does not depend on it
	release := func(s *step, ok bool) {
		for _, u := range s.after {
			if !ok && u.half != barrier {
				continue
			}
			if u.before--; u.before == 0 {
				ready.add(u)
			}
		}
	}
	running := 0
	stop := e.o.Stop
	stopped := false
	for {
		for !stopped && ready.Len() > 0 && running-e.pace.settling() < e.pace.limit()+e.pace.ahead() && may() {
			s := ready.take()
			if s.half == barrier {
				release(s, true)
				continue
			}
			running++
			select {
			case next <- s: // to one that is free: its stack has the size that calls need
			default:
				go func() {
					for s, more := s, true; more; s, more = <-next {
						done <- finished{s, do(s)}
					}
				}()
			}
		}
		if running == 0 {
			return
		}
		select {
		case f := <-done:
			running--
			release(f.s, f.ok)
		case <-e.pace.settled: // its call is over, and room for another one
		case <-stop:
			stopped, stop = true, nil
		}
	}
}

// pace is how many calls may go on at once. A step whose call is over, and
// that only writes to the ledger, leaves its room to another one. It is halved when the cloud asks
// for fewer calls, once for all calls that were on their way then, and grows
// by one for each round of calls that went well: additive increase,
// multiplicative decrease (Chiu and Jain, 1989).
type pace struct {
	mu   sync.Mutex
	most float64
	now  float64
	cut  time.Time // when it was halved last

	room    *sync.Cond
	calling int           // calls on their way
	writing int           // steps whose call is over
	settled chan struct{} // told when a step begins to write
}

func newPace(most int) *pace {
	p := &pace{most: float64(most), now: float64(most), settled: make(chan struct{}, 1)}
	p.room = sync.NewCond(&p.mu)
	return p
}

// call makes a call when there is room for it.
func (p *pace) call(make func()) {
	p.mu.Lock()
	for p.calling >= int(p.now) {
		p.room.Wait()
	}
	p.calling++
	p.mu.Unlock()
	make()
	p.mu.Lock()
	p.calling--
	p.mu.Unlock()
	p.room.Broadcast()
}

// write does what comes after a call.
func (p *pace) write(do func() error) error {
	p.count(+1)
	defer p.count(-1)
	select {
	case p.settled <- struct{}{}:
	default: // it is told already
	}
	return do()
}

func (p *pace) count(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.writing += n
}

func (p *pace) settling() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.writing
}

func (p *pace) limit() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return int(p.now)
}

// ahead is how many steps may be begun beyond that.
func (p *pace) ahead() int { return p.limit() / 8 }

// slower is told of a call that was sent at a time and put off.
func (p *pace) slower(sent time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if sent.After(p.cut) {
		p.now, p.cut = max(1, p.now/2), time.Now()
	}
}

// faster is told of a call that went well.
func (p *pace) faster() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now = min(p.most, p.now+1/p.now)
}
