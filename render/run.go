package render

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// RunDocument is the JSON form of what became of a run.
type RunDocument struct {
	Format    string                    `json:"format"`
	Run       string                    `json:"run"` // "" when there was nothing to do
	Proposal  string                    `json:"proposal"`
	Estate    string                    `json:"estate"`
	Env       string                    `json:"env"`
	Wards     []string                  `json:"wards"`
	Reason    string                    `json:"reason,omitempty"`
	Began     time.Time                 `json:"began"`
	Seconds   float64                   `json:"seconds"`
	Outcome   string                    `json:"outcome"` // done, failed, stopped, undone
	Counts    enact.Counts              `json:"counts"`
	Actions   []RunAction               `json:"actions"`   // same left out
	Published map[string]map[string]any `json:"published"` // by ward
	Undone    []RunUndone               `json:"undone"`
	Copies    []RunCopy                 `json:"copies,omitempty"`    // that were kept of what was removed
	Recovered []string                  `json:"recovered,omitempty"` // addresses whose unfinished calls were found out about first
}

// RunAction is what became of one action.
type RunAction struct {
	Ward     string  `json:"ward"`
	Address  string  `json:"address"`
	Action   string  `json:"action"`
	Outcome  string  `json:"outcome"` // done, failed, unclear, unfinished, not begun, undone
	ID       string  `json:"id,omitempty"`
	Seconds  float64 `json:"seconds"`
	Error    string  `json:"error,omitempty"`
	Position string  `json:"position,omitempty"`
}

// RunCopy is a copy that was kept of a thing before it was removed.
type RunCopy struct {
	Ward    string `json:"ward"`
	Address string `json:"address"`
	ID      string `json:"id"`
}

// RunUndone is an action that was taken back, or could not be.
type RunUndone struct {
	Ward    string `json:"ward"`
	Address string `json:"address"`
	Was     string `json:"was,omitempty"`  // id of a thing that was made again,
	Made    string `json:"made,omitempty"` // and the one it has now
	Error   string `json:"error,omitempty"`
}

// RunMarkdown writes what became of a run for a pull request: what went wrong
// first.
func RunMarkdown(d *RunDocument) []byte {
	var b bytes.Buffer
	outcome := map[string]string{"done": "done", "failed": "failed", "stopped": "stopped", "undone": "taken back"}[d.Outcome]
	fmt.Fprintf(&b, "## %s, %s: %s\n\n", markdownText(strings.Join(d.Wards, ", ")), markdownText(d.Env), outcome)
	if d.Run == "" {
		b.WriteString("Nothing to do.\n")
		return b.Bytes()
	}
	fmt.Fprintf(&b, "- %s. Run %s, %s.\n", CountsLine(d.Counts), ledger.ShortRun(d.Run), About(d.Seconds))
	if d.Reason != "" {
		fmt.Fprintf(&b, "- Why: %s\n", markdownText(d.Reason))
	}
	for _, u := range d.Undone {
		switch {
		case u.Error != "":
			fmt.Fprintf(&b, "- Not taken back: %s: %s\n", markdownCode(value.InWard(u.Ward, u.Address)), markdownText(u.Error))
		case u.Made != "":
			fmt.Fprintf(&b, "- Made again: %s, as %s instead of %s\n", markdownCode(value.InWard(u.Ward, u.Address)), markdownCode(u.Made), markdownCode(u.Was))
		}
	}
	for _, c := range d.Copies {
		fmt.Fprintf(&b, "- Kept a copy of %s: %s\n", markdownCode(value.InWard(c.Ward, c.Address)), markdownCode(c.ID))
	}
	for _, a := range d.Actions {
		if a.Error != "" {
			fmt.Fprintf(&b, "- **%s** %s (%s): %s\n", a.Outcome, markdownCode(value.InWard(a.Ward, a.Address)), markdownText(a.Position), markdownText(a.Error))
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
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", a.Action, markdownCell(value.InWard(a.Ward, a.Address)), a.Outcome, took)
	}
	for _, ward := range value.Keys(d.Published) {
		for _, n := range value.Keys(d.Published[ward]) {
			fmt.Fprintf(&b, "\nPublished %s = %s\n", markdownCode(ward+" "+n), markdownCode(value.Plain(d.Published[ward][n])))
		}
	}
	return b.Bytes()
}

// CountsLine is `37 done, 1 failed, 362 not begun`.
func CountsLine(c enact.Counts) string {
	line := fmt.Sprintf("%d done", c.Done)
	for _, x := range []struct {
		n    int
		word string
	}{{c.Failed, "failed"}, {c.Unclear, "unclear"}, {c.Unfinished, "unfinished"}, {c.NotBegun, "not begun"}, {c.Undone, "taken back"}} {
		if x.n > 0 {
			line += fmt.Sprintf(", %d %s", x.n, x.word)
		}
	}
	return line
}
