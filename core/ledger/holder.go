package ledger

import (
	"time"
)

// Holder is a run that holds a lock in a ward.
type Holder struct {
	Ward    string    `json:"ward"`
	Run     string    `json:"run"`
	Who     string    `json:"who"`
	Host    string    `json:"host"`
	Since   time.Time `json:"since"`
	Command string    `json:"command"`
	Done    int       `json:"done"`
	Total   int       `json:"total"`
	Scope   Scope     `json:"scope"`
	Dead    bool      `json:"dead,omitempty"` // its process is known not to run any more
}

// HolderOf is an open run as the holder of a ward's lock.
func HolderOf(ward string, r *OpenRun) Holder {
	scope := Scope{
		Whole: r.Begin.Scope.Whole, Writes: append([]string{}, r.Begin.Scope.Writes...), Reads: append([]string{},
			r.Begin.Scope.Reads...),
	}
	return Holder{
		Ward: ward, Run: r.Run, Who: r.Who, Host: r.Host, Since: r.Since, Command: r.Begin.Command, Done: r.Done,
		Total: r.Total, Scope: scope,
		Dead: r.Begin.Process.gone(),
	}
}
