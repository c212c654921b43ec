package propose

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// TestForecast: the longest chain by what calls took, or all the work over
// what goes on at once; what was never seen is counted.
func TestForecast(t *testing.T) {
	s := newSea(t, "a = sea.lamp(\"a\", name = \"a\")\nb = sea.lamp(\"b\", name = \"b\", next = a)\nsea.lamp(\"c\", "+
		"name = \"c\", next = b)\nsea.lamp(\"d\", name = \"d\", kind = \"new\")\n[sea.lamp(\"e%d\" % i, name = "+
		"\"e%d\" % i) for i in range(60)]\n", "")
	d := s.record("d", value.Attributes{"kind": "old", "name": "d"})
	gone := s.record("gone", nil)
	s.o.States["shore"] = ledger.NewState(d, gone)
	s.o.Live = Live{"sea.lamp": {"id-d": ThingOf(driver.Live{ID: "id-d", Attributes: value.Map(d.Live)}),
		"id-gone": ThingOf(driver.Live{ID: "id-gone"})}}
	p := s.propose()
	require.Nil(t, p.Forecast.Seconds, "nothing is known yet")
	require.Equal(t, 65, p.Forecast.Unknown)
	require.Equal(t, []string{"shore:sea.lamp/a", "shore:sea.lamp/b", "shore:sea.lamp/c"}, p.Forecast.Chain)

	s.o.States["shore"].Durations[ledger.DurationKey("sea.lamp", "create")] = ledger.Duration{Mean: 10, N: 3}
	p = s.propose()
	require.Equal(t, 1, p.Forecast.Unknown, "a drop deletes; of the swap one half is known")
	require.InDelta(t, (63*10+10)/16.0, *p.Forecast.Seconds, 0.01,
		"64 of them, 16 at once, take longer than the chain of 30 s")
	require.Equal(t, 10.0, find(p, "sea.lamp/a").Seconds)

	s.o.States["shore"].Durations[ledger.DurationKey("sea.lamp", "delete")] = ledger.Duration{Mean: 100, N: 1}
	p = s.propose()
	require.Zero(t, p.Forecast.Unknown)
	require.InDelta(t, 110, *p.Forecast.Seconds, 0.01, "the swap takes longest")
	require.Equal(t, []string{"shore:sea.lamp/d"}, p.Forecast.Chain)
}
