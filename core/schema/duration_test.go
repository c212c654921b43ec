package schema

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestDurations(t *testing.T) {
	for _, c := range []struct{ a, is string }{
		{"PT90M", "PT1H30M"}, {"PT1H30M", "PT1H30M"}, {"PT5400S", "PT1H30M"}, {"PT5400.500S", "PT1H30M0.5S"},
		{"PT24H", "P1D"}, {"P2W", "P14D"},
		{"P14M", "P1Y2M"}, {"PT0S", "PT0S"}, {"P0D", "PT0S"}, {"PT", "PT"}, {"P", "P"}, {"90m", "90m"},
		{"P1DT0.0S", "P1D"}, {"PT00000000000000000000060S", "PT1M"},
		{"PT0.25S", "PT0.25S"},
	} {
		t.Run(c.a, func(t *testing.T) {
			is := &Attribute{Kind: Text, Format: "duration"}
			require.True(t, is.Loose())
			require.Equal(t, c.is, is.Canonical(c.a), c.a)
			require.Equal(t, c.is, is.Canonical(c.is), "once more")
		})
	}
	for _, c := range []struct{ a, span, seconds string }{
		{"1h30m", "90m", "5400s"}, {"5400s", "90m", "5400s"}, {"90m0s", "90m", "5400s"}, {"24h", "24h", "86400s"},
		{"0", "0s", "0s"}, {"1.50s", "1500ms", "1.5s"},
		{"-1.5s", "-1500ms", "-1.5s"}, {"soon", "soon", "soon"}, {"", "", ""},
	} {
		t.Run(c.a, func(t *testing.T) {
			require.Equal(t, c.span, (&Attribute{Kind: Text, Format: FormatSpan}).Canonical(c.a), c.a)
			require.Equal(t, c.seconds, (&Attribute{Kind: Text, Format: "google-duration"}).Canonical(c.a), c.a)
		})
	}
}

func TestShown(t *testing.T) {
	count := &Attribute{Name: "count", Kind: Int}
	for _, c := range []struct {
		a       *Attribute
		shown   any
		becomes any
	}{
		{count, "12", int64(12)}, {count, "12.0", "12.0"}, {count, "many", "many"}, {count, float64(3), int64(3)},
		{count, float64(3.5), float64(3.5)},
		{&Attribute{Kind: Number}, "1.5", 1.5}, {&Attribute{Kind: Number}, int64(2), float64(2)},
		{&Attribute{Kind: Number}, "NaN", "NaN"},
		{&Attribute{Kind: Text}, int64(12), "12"}, {&Attribute{Kind: Text}, true, "true"}, {&Attribute{Kind: Bool},
			"true", true}, {&Attribute{Kind: Bool}, "yes", "yes"},
		{&Attribute{Kind: List, Elem: count}, []any{"1", int64(2)}, []any{int64(1), int64(2)}},
		{&Attribute{Kind: Record, Fields: []*Attribute{count}}, map[string]any{"count": "1", "other": "2"},
			map[string]any{"count": int64(1), "other": "2"}},
		{&Attribute{Kind: MapOf, Elem: &Attribute{Kind: Text}}, map[string]any{"a": int64(1)},
			map[string]any{"a": "1"}},
		{&Attribute{Kind: Any}, "12", "12"}, {&Attribute{Kind: Text}, nil, nil},
	} {
		require.Equal(t, c.becomes, c.a.Shown(c.shown), "%v", c.shown)
	}
}
