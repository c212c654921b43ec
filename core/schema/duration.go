package schema

import (
	"fmt"
	"math/big"
	"strings"
	"time"

	"kasbah/core/form"
)

// isoDuration is a duration as ISO 8601 has them (RFC 3339, appendix A): P1DT2H, P3W.
var isoDuration = form.Of(`^P(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?$`)

func isISODuration(s string) bool {
	return isoDuration().MatchString(s) && s != "P" && !strings.HasSuffix(s, "T")
}

// canonicalISO writes a duration with as few seconds, minutes, hours and months as can be;
// a text that is no duration stays as it is.
func canonicalISO(s string) string {
	if !isISODuration(s) {
		return s
	}
	m := isoDuration().FindStringSubmatch(s)
	n := make([]*big.Int, 7)
	for i := range 6 {
		n[i] = new(big.Int)
		n[i].SetString(m[i+1], 10) // none is 0
	}
	whole, part, _ := strings.Cut(m[7], ".")
	n[6] = new(big.Int)
	n[6].SetString(whole, 10)
	n[3].Add(n[3], new(big.Int).Mul(n[2], big.NewInt(7)))
	carry := func(from, to int, every int64) {
		more, rest := new(big.Int).DivMod(n[from], big.NewInt(every), new(big.Int))
		n[from] = rest
		n[to].Add(n[to], more)
	}
	carry(6, 5, 60)
	carry(5, 4, 60)
	carry(4, 3, 24)
	carry(1, 0, 12)
	var date, clock strings.Builder
	for i, unit := range []string{"Y", "M", "", "D"} {
		if unit != "" && n[i].Sign() > 0 {
			date.WriteString(n[i].String() + unit)
		}
	}
	for i, unit := range []string{"H", "M"} {
		if n[4+i].Sign() > 0 {
			clock.WriteString(n[4+i].String() + unit)
		}
	}
	if part = strings.TrimRight(part, "0"); n[6].Sign() > 0 || part != "" {
		clock.WriteString(n[6].String())
		if part != "" {
			clock.WriteString("." + part)
		}
		clock.WriteString("S")
	}
	switch {
	case clock.Len() > 0:
		return "P" + date.String() + "T" + clock.String()
	case date.Len() > 0:
		return "P" + date.String()
	}
	return "PT0S"
}

// canonicalSpan writes a duration such as 1h30m or 5400s in one unit, the largest one of
// which it is a whole number: 90m. A text that is no duration stays as it is.
func canonicalSpan(s string) string {
	d, err := time.ParseDuration(s)
	if err != nil {
		return s
	}
	for _, u := range []struct {
		of   time.Duration
		name string
	}{{time.Hour, "h"}, {time.Minute, "m"}, {time.Second, "s"}, {time.Millisecond, "ms"}, {time.Microsecond, "us"},
		{time.Nanosecond, "ns"}} {
		if d%u.of == 0 && d != 0 {
			return fmt.Sprintf("%d%s", d/u.of, u.name)
		}
	}
	return "0s"
}

// Span writes a duration in one unit, such as 24h or 90m.
func Span(d time.Duration) string { return canonicalSpan(d.String()) }

// canonicalSeconds writes seconds with an s behind them, without zeros behind the point.
func canonicalSeconds(s string) string {
	d, err := time.ParseDuration(s)
	if err != nil {
		return s
	}
	whole, part := d/time.Second, d%time.Second
	if part == 0 {
		return fmt.Sprintf("%ds", whole)
	}
	sign := ""
	if d < 0 {
		sign, whole, part = "-", -whole, -part
	}
	return fmt.Sprintf("%s%d.%ss", sign, whole, strings.TrimRight(fmt.Sprintf("%09d", part), "0"))
}
