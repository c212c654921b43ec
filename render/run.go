package render

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// RunMarkdown writes what became of a run for a pull request: what went wrong
// first.
func RunMarkdown(d *enact.Result) []byte {
	var b bytes.Buffer
	outcome := map[string]string{"done": "done", "failed": "failed", "stopped": "stopped",
		"undone": "taken back"}[d.Outcome]
	fmt.Fprintf(&b, "## %s, %s: %s\n\n", markdownText(strings.Join(d.Wards, ", ")), markdownText(d.Env), outcome)
	if d.Run == "" {
		b.WriteString("Nothing to do.\n")
		return b.Bytes()
	}
	fmt.Fprintf(&b, "- %s. Run %s, %s.\n", countsLine(d.Counts), ledger.ShortRun(d.Run), About(d.Seconds))
	if d.Reason != "" {
		fmt.Fprintf(&b, "- Why: %s\n", markdownText(d.Reason))
	}
	for _, u := range d.Undone {
		switch {
		case u.Error != "":
			fmt.Fprintf(&b, "- Not taken back: %s: %s\n", markdownCode(value.InWard(u.Ward, u.Address)),
				markdownText(u.Error))
		case u.Made != "":
			fmt.Fprintf(&b, "- Made again: %s, as %s instead of %s\n", markdownCode(value.InWard(u.Ward, u.Address)),
				markdownCode(u.Made), markdownCode(u.Was))
		}
	}
	for _, c := range d.Copies {
		fmt.Fprintf(&b, "- Kept a copy of %s: %s\n", markdownCode(value.InWard(c.Ward, c.Address)), markdownCode(c.ID))
	}
	for _, a := range d.Actions {
		if a.Error != "" {
			fmt.Fprintf(&b, "- **%s** %s (%s): %s\n", a.Outcome, markdownCode(value.InWard(a.Ward, a.Address)),
				markdownText(a.Position), markdownText(a.Error))
		}
	}
	if len(d.Actions) > 0 {
		b.WriteString("\n| action | resource | became | took |\n|---|---|---|---|\n")
	}
	for _, a := range d.Actions {
		took := ""
		if a.Seconds > 0 {
			took = fmt.Sprintf("%.1f s", a.Seconds)
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", a.Kind, markdownCell(value.InWard(a.Ward, a.Address)), a.Outcome,
			took)
	}
	for _, ward := range value.Keys(d.Published) {
		for _, n := range value.Keys(d.Published[ward]) {
			fmt.Fprintf(&b, "\nPublished %s = %s\n", markdownCode(ward+" "+n),
				markdownCode(value.Plain(d.Published[ward][n])))
		}
	}
	return b.Bytes()
}

// Run writes how a run ended.
func (o *Out) Run(r *enact.Result) {
	line := countsLine(r.Counts)
	if r.Resumed > 0 {
		line += fmt.Sprintf(" (%d of them before)", r.Resumed)
	}
	o.Printf("%s. Run %s.\n", line, ledger.ShortRun(r.Run))
	for _, ward := range value.Keys(r.Published) {
		for _, n := range value.Keys(r.Published[ward]) {
			o.Printf("%s\n", Wrap(fmt.Sprintf("published %s %s = %s", ward, n,
				Clean(value.Plain(r.Published[ward][n]))), o.Width-2, "  "))
		}
	}
	for _, c := range r.Copies {
		o.Printf("kept a copy of %s: %s\n", Clean(c.Address), Clean(c.ID))
	}
	o.undone(r)
}

// undone says what was not taken back, and what is not quite as before.
func (o *Out) undone(r *enact.Result) {
	if r.Outcome == "undone" {
		but := ""
		if slices.ContainsFunc(r.Undone, func(u enact.Undone) bool { return u.Made != "" }) {
			but = ", but for this"
		}
		o.Printf("The cloud is as it was before the run%s.\n", but)
	}
	for _, u := range r.Undone {
		switch {
		case u.Error != "":
			o.Printf("%s\n", Wrap(fmt.Sprintf("Not taken back: %s: %s", u.Address, Clean(u.Error)), o.Width-2, "  "))
		case u.Made != "":
			o.Printf("Made again: %s, as %s instead of %s.\n", u.Address, Clean(u.Made), Clean(u.Was))
		}
	}
}

// countsLine is `37 done, 1 failed, 362 not begun`.
func countsLine(c enact.Counts) string {
	line := fmt.Sprintf("%d done", c.Done)
	for _, x := range []struct {
		n    int
		word string
	}{{c.Failed, "failed"}, {c.Unclear, "unclear"}, {c.Unfinished, "unfinished"}, {c.NotBegun, "not begun"},
		{c.Undone, "taken back"}} {
		if x.n > 0 {
			line += fmt.Sprintf(", %d %s", x.n, x.word)
		}
	}
	return line
}

// RunEnd writes how a run over a proposal ended, and what to do then. again is the command to
// type once more; kept is for a proposal from a file.
func (o *Out) RunEnd(p *propose.Proposal, r *enact.Result, kept bool, again string) {
	if p.Counts.Changing() == 0 {
		if p.ChangesPolicy() {
			o.Printf("Who must sign is noted in the ledger. Run %s.\n", ledger.ShortRun(r.Run))
		}
		return
	}
	o.Run(r)
	switch {
	case r.Outcome == "done" || r.Outcome == "undone":
	case r.MayGoOn(kept):
		o.Printf("Go on with: %s\n", again)
	default:
		o.Printf("Fix what failed first; then the same command goes on.\n")
	}
}
