// Package schedule says when something is due that is done again and again.
package schedule

import (
	"fmt"
	"hash/fnv"
	"time"
	_ "time/tzdata" // zones are known wherever the program runs

	"github.com/robfig/cron/v3"
)

// Schedule says when a survey is due: at the times of a cron line in a zone, or each time a span has
// passed.
type Schedule struct {
	text  string
	every time.Duration // 0 for a cron line
	cron  cron.Schedule // of wall-clock times, as if they were in UTC
	zone  *time.Location
	shift time.Duration
}

// least is the shortest time between two surveys of a ward.
const least = time.Minute

// Parse reads a span such as 6h, or the five fields of a cron line (minute, hour, day of the
// month, month, day of the week), which are of a time zone; "" for UTC.
func Parse(text, zone string) (*Schedule, error) {
	s := &Schedule{text: text, zone: time.UTC}
	if zone != "" {
		z, err := time.LoadLocation(zone)
		if err != nil {
			return nil, fmt.Errorf("the zone %q is not known; it must be one such as Europe/Lisbon", zone)
		}
		s.zone = z
	}
	span, err := time.ParseDuration(text)
	if err == nil {
		if span < least {
			return nil, fmt.Errorf("%s is shorter than a minute", text)
		}
		s.every = span
		return s, nil
	}
	s.cron, err = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow).Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%q is neither a span such as 6h nor a cron line such as \"17 */6 * * *\": %w", text, err)
	}
	return s, nil
}

// String is the schedule as it was written.
func (s *Schedule) String() string { return s.text }

// largestShift is how much later than a cron line says a ward may be due.
const largestShift = 5 * time.Minute

// For is the schedule of one of many wards. Each is due a little later than the others, always by the
// same: spans start anywhere within themselves, and the times of a cron line are shifted by at most a
// tenth of what lies between two of them, and five minutes.
func (s *Schedule) For(env, ward string) *Schedule {
	out := *s
	room := s.every
	if s.cron != nil {
		first := s.Next(time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC))
		room = min(largestShift, s.Next(first).Sub(first)/10)
	}
	h := fnv.New64a()
	h.Write([]byte(env + "\x00" + ward))
	if seconds := uint64(room / time.Second); seconds > 0 {
		out.shift = time.Duration(h.Sum64()%seconds) * time.Second
	}
	return &out
}

// Next is the first time after another at which the ward is due. A time of a cron line that a clock
// skips in spring is due at the moment of the change; one that it shows twice in autumn is due the
// first time. The zero time is for a line that never comes, such as one of the 30th of February.
func (s *Schedule) Next(after time.Time) time.Time {
	after = after.Add(-s.shift)
	if s.every > 0 {
		return after.Truncate(s.every).Add(s.every + s.shift).UTC()
	}
	// What the clock has shown already was due before, also where it shows it again.
	wall := asWall(after.In(s.zone))
	for {
		if wall = s.cron.Next(wall); wall.IsZero() {
			return wall
		}
		if at := s.instant(wall); at.After(after) {
			return at.Add(s.shift).UTC()
		}
	}
}

// Last is the newest time not after another at which the ward was due; the zero time for a line that
// never came.
func (s *Schedule) Last(now time.Time) time.Time {
	if s.every > 0 {
		return now.Add(-s.shift).Truncate(s.every).Add(s.shift).UTC()
	}
	for back := time.Minute; back < 10*366*24*time.Hour; back *= 5 {
		at := s.Next(now.Add(-back))
		if at.IsZero() || at.After(now) {
			continue
		}
		for next := s.Next(at); !next.IsZero() && !next.After(now); next = s.Next(at) {
			at = next
		}
		return at
	}
	return time.Time{}
}

// asWall is what a clock shows, as if it stood in UTC.
func asWall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// instant is when the zone's clock first shows a time, or skips it.
func (s *Schedule) instant(wall time.Time) time.Time {
	at := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, s.zone)
	if shown := asWall(at); !shown.Equal(wall) { // skipped: the clock was put forward in between
		start, end := at.ZoneBounds()
		if shown.After(wall) {
			return start
		}
		return end
	}
	// The clock was put back not long before: it may have shown the time already.
	start, _ := at.ZoneBounds()
	if start.IsZero() {
		return at
	}
	_, now := at.Zone()
	_, before := start.Add(-time.Second).Zone()
	if earlier := at.Add(-time.Duration(before-now) * time.Second); before > now && earlier.Before(start) {
		return earlier
	}
	return at
}
