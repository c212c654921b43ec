package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/ledger"
	"kasbah/core/value"
)

// LogDocument is the JSON form of a ledger's history.
type LogDocument struct {
	Format string               `json:"format"`
	Runs   []*ledger.RunSummary `json:"runs"`
	Unread int64                `json:"unread,omitempty"` // entries that are sealed to keys which are not here
}

// Log writes the runs of a ledger, oldest first.
func (o *Out) Log(runs []*ledger.RunSummary, full bool) {
	if len(runs) == 0 {
		o.Printf("No run yet.\n")
		return
	}
	rows := [][]string{{"run", "ward", "when", "who", "outcome", "entries", "command"}}
	for _, r := range runs {
		outcome := r.Outcome
		if n := r.Counts["done"]; r.Outcome == "done" || n > 0 {
			outcome = fmt.Sprintf("%s, %d of %d", r.Outcome, n, r.Counts["total"])
		}
		rows = append(rows, []string{ledger.ShortRun(r.Run), r.Ward, r.Began.Local().Format(time.DateTime),
			r.Who + "@" + r.Host, outcome, fmt.Sprintf("%d-%d", r.First, r.Last), Clean(r.Command)})
	}
	if !full {
		o.Table(rows, o.HeadGrey)
		return
	}
	for i, r := range runs {
		o.Table([][]string{rows[0], rows[i+1]}, o.HeadGrey)
		if r.Reason != "" {
			o.Printf("    why  %s\n", Wrap(Clean(r.Reason), o.Width-9, "         "))
		}
		if r.Commit != "" {
			o.Printf("    commit  %s\n", Clean(r.Commit))
		}
		if r.Why != "" {
			o.Printf("    broken: %s\n", Clean(r.Why))
		}
		for _, s := range r.Rules {
			o.Printf("    rule  %s\n", Wrap(Clean(s), o.Width-10, "          "))
		}
		for _, s := range r.Failed {
			o.Printf("    failed  %s\n", Wrap(Clean(s), o.Width-12, "            "))
		}
		for _, s := range r.Copies {
			o.Printf("    copy  %s\n", Wrap(Clean(s), o.Width-10, "          "))
		}
		for _, c := range r.Calls {
			line := fmt.Sprintf("    %s%s  %s, %s", o.Action(c.Action, pad(c.Action+" ", 6)), Clean(c.Address), c.Call,
				c.Outcome)
			if c.Seconds > 0 {
				line += fmt.Sprintf(" in %.1f s", c.Seconds)
			}
			o.Printf("%s\n", line)
			if c.Error != "" {
				o.Printf("            %s\n", Wrap(Clean(c.Error), o.Width-12, "            "))
			}
		}
	}
}

// HeadGrey paints the first row of a table grey.
func (o *Out) HeadGrey(row, _ int, cell string) string {
	if row == 0 {
		return o.Paint(Grey, cell)
	}
	return cell
}

// Record writes one recorded resource.
func (o *Out) Record(ward string, r *ledger.Record) {
	o.Printf("%s\n", o.Bold(Clean(ward+":"+r.Address)))
	rows := [][]string{{"  id", r.ID}, {"  changed", r.Changed.Local().Format(time.DateTime) + " by run " +
		ledger.ShortRun(r.Run)}}
	if len(r.Needs) > 0 {
		rows = append(rows, []string{"  needs", strings.Join(r.Needs, ", ")})
	}
	if r.Care.Guard {
		rows = append(rows, []string{"  guarded", "yes"})
	}
	for _, l := range r.Leftovers {
		rows = append(rows, []string{"  leftover", l.ID})
	}
	for _, k := range value.Keys(r.Inputs) {
		rows = append(rows, []string{"  " + k, value.Plain(r.Inputs[k])})
	}
	for _, k := range value.Keys(r.Live) {
		if _, input := r.Inputs[k]; !input && k != "id" {
			rows = append(rows, []string{"  " + k, value.Plain(r.Live[k]) + "  (from the cloud)"})
		}
	}
	for i := range rows {
		rows[i][1] = Clean(rows[i][1])
	}
	o.Table(rows, func(_, column int, cell string) string {
		if column == 0 {
			return o.Paint(Grey, cell)
		}
		return cell
	})
}

// LedgerDocument is the JSON form of what is recorded.
type LedgerDocument struct {
	Format string       `json:"format"`
	Env    string       `json:"env"`
	Wards  []LedgerWard `json:"wards"`
}

// LedgerWard is a ward's part of it.
type LedgerWard struct {
	Ward      string           `json:"ward"`
	Entry     int64            `json:"entry"` // the newest one that it rests on
	Resources []*ledger.Record `json:"resources"`
}

// LockDocument is the JSON form of who holds which lock.
type LockDocument struct {
	Format  string          `json:"format"`
	Holders []ledger.Holder `json:"holders"`
}

// scopeWords is a scope in a few words.
func scopeWords(s ledger.Scope) string {
	if s.Whole {
		return "everything"
	}
	var parts []string
	for _, x := range []struct {
		list []string
		word string
	}{{s.Writes, "written"}, {s.Reads, "read"}} {
		n := len(x.list)
		if slices.Contains(x.list, ledger.PublishedValues) {
			n--
		}
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, x.word))
		}
	}
	if parts == nil {
		return Locked(ledger.PublishedValues)
	}
	return strings.Join(parts, ", ")
}

// Locked names what a scope lists.
func Locked(address string) string {
	if address == ledger.PublishedValues {
		return "what is published"
	}
	return Clean(address)
}

// HolderHead heads a table of holders.
var HolderHead = []string{"ward", "run", "by", "since", "done", "locked", "command"}

// HolderRow is a holder as a row of a table: the cells of HolderHead.
func HolderRow(h ledger.Holder, now time.Time) []string {
	since := h.Since.Local().Format(time.TimeOnly) + ", " + Ago(now.Sub(h.Since))
	if h.Dead {
		since += ", dead"
	}
	return []string{
		h.Ward, ledger.ShortRun(h.Run), Clean(h.Who + "@" + h.Host), since, fmt.Sprintf("%d of %d", h.Done, h.Total),
		scopeWords(h.Scope), Clean(h.Command),
	}
}

// Held is one line on who holds a lock.
func Held(h ledger.Holder, now time.Time) string {
	s := fmt.Sprintf("%s on %s, %s, since %s (%s)", h.Who, h.Host, h.Command, h.Since.Local().Format(time.TimeOnly),
		Ago(now.Sub(h.Since)))
	if h.Total > 0 {
		s += fmt.Sprintf(", %d of %d done", h.Done, h.Total)
	}
	return Clean(s)
}
