package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/ledger"
)

// Status writes how an estate stands.
func (o *Out) Status(wards []ledger.WardStatus) {
	// the command to type next must fit: of two columns that say nothing of any ward, neither takes its place
	ends := slices.ContainsFunc(wards, func(w ledger.WardStatus) bool { return w.Ends != nil })
	locks := !ends || slices.ContainsFunc(wards, func(w ledger.WardStatus) bool { return w.Locked != nil })
	row := func(first []string, lock, end, next string) []string {
		if locks {
			first = append(first, lock)
		}
		if ends {
			first = append(first, end)
		}
		return append(first, next)
	}
	rows := [][]string{row([]string{"ward", "env", "resources", "last run"}, "lock", "ends", "next")}
	for _, w := range wards {
		last, lock := "never", "free"
		if r := w.Last; r != nil {
			last = fmt.Sprintf("%s by %s, %s", Ago(time.Since(r.Began)), r.Who, r.Outcome)
		}
		if w.Locked != nil {
			lock = "held by " + w.Locked.Who
			if w.Locked.Dead {
				lock += ", whose run is dead"
			}
		}
		rows = append(rows, row([]string{w.Ward, w.Env, fmt.Sprint(w.Resources), last}, lock, end(w.Ends, time.Now()),
			w.Next))
	}
	o.Table(rows, o.HeadGrey)
}

// end is when an environment is to go.
func end(at *time.Time, now time.Time) string {
	switch {
	case at == nil:
		return ""
	case at.After(now):
		return "in " + strings.TrimSuffix(Ago(at.Sub(now)), " ago")
	}
	return Ago(now.Sub(*at))
}
