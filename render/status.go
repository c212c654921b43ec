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
	ends := slices.ContainsFunc(wards, func(w ledger.WardStatus) bool { return w.Ends != nil })
	rows := [][]string{{"ward", "env", "resources", "last run", "lock", "next"}}
	if ends {
		rows[0] = slices.Insert(rows[0], 5, "ends")
	}
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
		row := []string{w.Ward, w.Env, fmt.Sprint(w.Resources), last, lock, w.Next}
		if ends {
			row = slices.Insert(row, 5, end(w.Ends, time.Now()))
		}
		rows = append(rows, row)
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
