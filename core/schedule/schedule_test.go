package schedule

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/robfig/cron/v3"
	"github.com/stretchr/testify/require"
)

func at(t *testing.T, text string) time.Time {
	out, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return out
}

// TestNext: when a ward is due, also where a clock is put forward or back.
func TestNext(t *testing.T) {
	for _, c := range []struct{ every, zone, after, want string }{
		{"6h", "", "2026-11-29T05:59:59Z", "2026-11-29T06:00:00Z"},
		{"6h", "", "2026-11-29T06:00:00Z", "2026-11-29T12:00:00Z"},
		{"17 */6 * * *", "", "2026-11-29T06:17:00Z", "2026-11-29T12:17:00Z"},
		{"0 9 * * 1-5", "Europe/Lisbon", "2026-07-03T10:00:00Z", "2026-07-06T08:00:00Z"}, // a Friday in summer
		// 2026-03-29: from 02:00 to 03:00 in Berlin, 01:00 UTC
		{"30 2 * * *", "Europe/Berlin", "2026-03-28T12:00:00Z", "2026-03-29T01:00:00Z"},
		{"30 2 * * *", "Europe/Berlin", "2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"},
		{"30 * * * *", "Europe/Berlin", "2026-03-29T00:30:00Z", "2026-03-29T01:00:00Z"},
		{"30 * * * *", "Europe/Berlin", "2026-03-29T01:00:00Z", "2026-03-29T01:30:00Z"},
		// 2026-10-25: from 03:00 back to 02:00 in Berlin, 01:00 UTC
		{"30 2 * * *", "Europe/Berlin", "2026-10-24T12:00:00Z", "2026-10-25T00:30:00Z"},
		{"30 2 * * *", "Europe/Berlin", "2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"},
		{"30 3 * * *", "Europe/Berlin", "2026-10-24T12:00:00Z", "2026-10-25T02:30:00Z"},
		{"0 0 30 2 *", "", "2026-11-29T00:00:00Z", ""},
	} {
		t.Run(c.every+" "+c.after, func(t *testing.T) {
			s, err := Parse(c.every, c.zone)
			require.NoError(t, err)
			got := ""
			if next := s.Next(at(t, c.after)); !next.IsZero() {
				got = next.Format(time.RFC3339)
			}
			require.Equal(t, c.want, got)
		})
	}
	leap, err := Parse("0 0 29 2 *", "")
	require.NoError(t, err)
	require.Equal(t, at(t, "2024-02-29T00:00:00Z"), leap.Last(at(t, "2026-11-29T00:00:00Z")))
	never, err := Parse("0 0 30 2 *", "")
	require.NoError(t, err)
	require.True(t, never.Last(at(t, "2026-11-29T00:00:00Z")).IsZero())
	for _, wrong := range []struct{ every, zone string }{{"30s", ""}, {"often", ""}, {"* * * *", ""}, {"61 * * * *", ""}, {"6h", "Lantern/Coast"}} {
		_, err := Parse(wrong.every, wrong.zone)
		require.Error(t, err, wrong.every)
	}
}

// TestNextProperty: times come in order, none lies longer after the one before than the widest gap of
// its schedule (an hour more where a clock is put back), and asking from anywhere in between gives the
// same.
func TestNextProperty(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	zones := []string{"", "Europe/Berlin", "America/St_Johns", "Australia/Lord_Howe", "Pacific/Apia", "Africa/Casablanca"}
	for range 300 {
		every, gap := fmt.Sprintf("%d %d * * *", rng.IntN(60), rng.IntN(24)), 25*time.Hour
		if rng.IntN(2) == 0 {
			every, gap = fmt.Sprintf("%d * * * *", rng.IntN(60)), 2*time.Hour
		}
		s, err := Parse(every, zones[rng.IntN(len(zones))])
		require.NoError(t, err)
		s = s.For("live", fmt.Sprint("ward-", rng.IntN(100)))
		last := s.Next(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(rng.IntN(400*24)) * time.Hour))
		for range 60 {
			next := s.Next(last)
			require.True(t, next.After(last), "%s in %s: %s then %s", s, s.zone, last, next)
			require.LessOrEqual(t, next.Sub(last), gap+s.shift, "%s in %s: %s then %s", s, s.zone, last, next)
			between := last.Add(time.Duration(rng.Int64N(int64(next.Sub(last)))))
			require.Equal(t, next, s.Next(between), "%s in %s from %s", s, s.zone, between)
			require.Equal(t, last, s.Last(between), "%s in %s before %s", s, s.zone, between)
			last = next
		}
	}
}

// TestSpread: many wards of one schedule do not start at one moment, and each starts when it did before.
func TestSpread(t *testing.T) {
	from := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)
	for every, apart := range map[string]time.Duration{"1h": time.Hour, "0 * * * *": largestShift, "*/10 * * * *": time.Minute} {
		s, err := Parse(every, "")
		require.NoError(t, err)
		starts := map[time.Time]int{}
		for n := range 200 {
			ward := fmt.Sprint("ward-", n)
			due := s.For("live", ward).Next(from)
			require.Equal(t, due, s.For("live", ward).Next(from))
			require.False(t, due.Before(from))
			starts[due]++
		}
		for due, n := range starts {
			require.Less(t, n, 4+200/int(apart/time.Second)*3, "%s at %s", every, due)
		}
		require.Greater(t, len(starts), int(min(apart/time.Second, 200))/3)
	}
}

// counted is a cron line that counts how often it is asked.
type counted struct {
	cron.Schedule
	asked int
}

func (c *counted) Next(t time.Time) time.Time {
	c.asked++
	return c.Schedule.Next(t)
}

// TestCost: how often a line is asked does not grow with how often it comes.
func TestCost(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for _, every := range []string{"* * * * *", "*/10 * * * *", "7 * * * *", "17 3 * * *", "0 0 1 * *", "0 0 29 2 *"} {
		for _, zone := range []string{"", "Europe/Berlin"} {
			s, err := Parse(every, zone)
			require.NoError(t, err)
			s = s.For("live", "shore")
			c := &counted{Schedule: s.cron}
			s.cron = c
			for range 100 {
				at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(rng.IntN(365*24*60)) * time.Minute)
				c.asked = 0
				s.Next(at)
				require.LessOrEqual(t, c.asked, 61, "%s in %s after %s", every, zone, at) // an hour that is shown twice
				c.asked = 0
				s.Last(at)
				require.LessOrEqual(t, c.asked, 150, "%s in %s before %s", every, zone, at)
			}
		}
	}
}
