package render

import (
	"fmt"
	"time"

	"kasbah/core/ledger"
)

// Status writes how an estate stands.
func (o *Out) Status(wards []ledger.WardStatus) {
	rows := [][]string{{"ward", "env", "resources", "last run", "lock", "next"}}
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
		rows = append(rows, []string{w.Ward, w.Env, fmt.Sprint(w.Resources), last, lock, w.Next})
	}
	o.Table(rows, o.HeadGrey)
}
