package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// Log writes the runs of a ledger, oldest first; full with every call.
func (o *Out) Log(d *ledger.Log, full bool) {
	o.runs(d.Runs, full)
	if d.Unread > 0 {
		o.Printf("%s more, sealed to keys that are not on this machine.\n", entries(d.Unread))
	}
}

func (o *Out) runs(runs []*ledger.RunSummary, full bool) {
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
		for _, s := range r.Steps {
			o.Printf("    step  %s\n", Wrap(Clean(s), o.Width-10, "          "))
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

// Recorded writes what is recorded; each resource in full, or on one line. It is written as it is decoded; the
// error is of what cannot be.
func (o *Out) Recorded(d *ledger.Recorded, full bool) error {
	for _, w := range d.Wards {
		var widths []int
		if !full {
			o.Printf("%s\n", o.Bold(fmt.Sprintf("%s, %s: entry %d, %s", w.Ward, d.Env, w.Entry, Count(w.Resources.Len(),
				"resource"))))
			for address, id := range w.Resources.Names() {
				widths = widest(widths, []string{"  " + Clean(address), id})
			}
		}
		first := true
		for r, err := range w.Resources.All() {
			switch {
			case err != nil:
				return err
			case !full:
				o.row([]string{"  " + Clean(r.Address), r.ID, Clean(value.Plain(map[string]any(r.Inputs)))}, widths, nil, cut)
				continue
			case !first:
				o.Printf("\n")
			}
			first = false
			o.record(w.Ward, r)
		}
	}
	return nil
}

// Published writes what wards publish, or the one value of this name.
func (o *Out) Published(d *ledger.ValuesDocument, name string) {
	var rows [][]string
	for _, w := range d.Order {
		for _, n := range value.Keys(d.Wards[w]) {
			switch {
			case d.Users != nil && len(d.Users[w][n]) == 0:
				rows = append(rows, []string{w, n, "is not read by anyone known"})
			case d.Users != nil:
				rows = append(rows, []string{w, n, "is read by " + strings.Join(d.Users[w][n], ", ")})
			case n == name:
				o.Printf("%s\n", Clean(value.Plain(d.Wards[w][n])))
				return
			default:
				rows = append(rows, []string{w, n, value.Plain(d.Wards[w][n])})
			}
		}
	}
	o.Listing(nil, rows, "Nothing is published yet.")
}

// Holders writes who holds which lock, and which calls have no result.
func (o *Out) Holders(d *ledger.HolderList) {
	rows := [][]string{holderHead}
	for _, h := range d.Holders {
		rows = append(rows, holderRow(h, time.Now()))
	}
	if len(rows) == 1 {
		o.Printf("No run holds a lock in %s.\n", d.Env)
	} else {
		o.Table(rows, o.HeadGrey)
	}
	for _, in := range d.Unresolved {
		run := ledger.ShortRun(in.Run)
		o.Printf("%s: the %s of run %s has no result; the next enact finds out, or `kasbah lock recover %s`\n",
			in.Intent.Address, in.Intent.Call, run, run)
	}
}

// Resealed writes what a reseal changed.
func (o *Out) Resealed(d *ledger.ResealedWards) {
	for _, w := range d.Wards {
		did := "later entries are sealed to " + Count(w.Readers, "reader") + ". Older ones are as they were until " +
			"they are pruned"
		switch unsealed := w.Readers == 0; {
		case !w.Changed:
			did = "nothing to do"
		case unsealed && w.Opened:
			did = "later entries are not sealed. Older ones need their keys until they are pruned"
		case unsealed && w.Signed:
			did = "later entries are signed by those who may write"
		case unsealed:
			did = "later entries are not signed"
		}
		o.Printf("%s, %s: %s.\n", w.Ward, d.Env, did)
	}
}

// Pruned writes what was pruned.
func (o *Out) Pruned(d *ledger.PrunedWards) {
	for _, w := range d.Wards {
		if w.UpTo == 0 {
			o.Printf("%s, %s: nothing to prune. Entries are pruned up to the older of two checkpoints, which are "+
				"written as the log grows.\n", w.Ward, d.Env)
		} else {
			o.Printf("%s, %s: entries 1 to %d are gone.\n", w.Ward, d.Env, w.UpTo)
		}
	}
}

// Verified writes what a check of ledgers found.
func (o *Out) Verified(d *ledger.VerifiedWards) {
	for _, w := range d.Order {
		v := d.Wards[w]
		o.Printf("%s, %s: whole. %d entries, %s, %s.\n", w, d.Env, v.Entries, Count(v.Checkpoints, "checkpoint"),
			Count(v.Records, "resource"))
		for _, n := range v.Notes {
			o.Printf("  ignored: %s\n", Clean(n))
		}
	}
}

// Moved writes that ledgers were moved, and what kasbah.toml must say now.
func (o *Out) Moved(d *ledger.Moved, settings value.Map) {
	o.Printf("%s of %s copied and proven: %s. The old place is closed.\n", entries(d.Entries), d.Env,
		strings.Join(d.Wards, ", "))
	o.Printf("Now change kasbah.toml, in every copy of it:\n\n[env.%s.ledger]   # or [ledger], for all "+
		"environments\n", d.Env)
	for _, k := range value.Keys(settings) {
		o.Printf("%s = %s\n", k, Clean(estate.Encode(settings[k])))
	}
}

// record writes one recorded resource.
func (o *Out) record(ward string, r *ledger.Record) {
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

var holderHead = []string{"ward", "run", "by", "since", "done", "locked", "command"}

// holderRow is a holder as a row of a table: the cells of holderHead.
func holderRow(h ledger.Holder, now time.Time) []string {
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

// Refused tells who holds the lock that a command needs, and what to do. again is that command.
func (o *Out) Refused(l *ledger.LockedError, env, again string) {
	h := ledger.HolderOf(l.Ward, l.Holder)
	o.Printf("refused: %s (%s) is locked\n", l.Ward, env)
	if l.Address != "" {
		o.Printf("  at      %s\n", Locked(l.Address))
	}
	o.Printf("  by      %s\n", Held(h, time.Now()))
	if l.Dead {
		o.Printf("  but     its process no longer runs\n")
		o.Printf("  go on   %s -break-stale\n", again)
		return
	}
	o.Printf("  wait    %s -wait 10m\n", again)
	o.Printf("  break   kasbah lock break %s -env %s -why \"…\"     only if that run is dead\n", ledger.ShortRun(h.Run), env)
}
