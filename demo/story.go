package demo

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"kasbah/core/disk"
)

// Step is one step of the demo: a title, and what is shown under it.
type Step struct {
	Title, Text string
	Show        *Lines
	Edit        *Edit
	Together    []string // a command that two people run at once; the second one is refused
	Commands    []Command
}

// Lines are some lines of a file of the estate, the first one is 1.
type Lines struct {
	File     string
	From, To int
}

// Edit is a change of a file, as a person makes it.
type Edit struct{ File, Old, New string }

// Command is a command line without the program's name, and the exit code that it ends with.
type Command struct {
	Args []string
	Exit int
}

// differs is the exit code of commands that found a difference.
const differs = 3

func does(args ...string) Command { return Command{args, 0} }

// Story is what the demo tells, in the environment trial. The last part takes everything down.
func Story() (steps, last []Step) {
	return []Step{
			{
				Title: "Declare",
				Text: "An association of keepers runs telemetry for its lighthouses. Each ward of their estate is a " +
					"folder of Starlark files; this one opens a station for every light, from one map of lights.",
				Show: &Lines{"shore/shore.star", 1, 24},
			}, {
				Title: "Check", Text: "Every mistake that can be known offline is found offline.",
				Commands: []Command{does("check", "-env", "trial")},
			}, {
				Title: "Look", Text: "The graph follows from how the resources use each other.",
				Commands: []Command{does("map", "shore", "-env", "trial")},
			}, {
				Title: "Why",
				Text: "Where does a value come from? Every line on its way is named, down to the input and who " +
					"gave it.",
				Commands: []Command{does("why", "sallow/medina.disk/tape.zone", "-env", "trial")},
			}, {
				Title: "Propose",
				Text: "What would change, against the ledger and the live cloud. Values that the cloud decides say " +
					"where they will come from.",
				Commands: []Command{does("propose", "-env", "trial"), does("cost", "-env", "trial")},
			}, {
				Title: "Enact",
				Text: "In dependency order, many at a time. Meanwhile a second keeper tries the same, and is " +
					"refused by the lock.",
				Together: []string{"enact", "-env", "trial", "-yes", "-allow", "security"},
			}, {
				Title: "An edit by hand",
				Text:  "A keeper changes a gauge in the cloud's console, past the code.",
				Commands: []Command{does("medina", "edit", "machine", "trial-shore-sallow-gauge", "size=large",
					"tags.owner=harbour", "-as", "keeper-2", "-env", "trial")},
			}, {
				Title: "Survey", Text: "Recorded against live: what was edited, by whom and when.",
				Commands: []Command{{[]string{"survey", "-env", "trial", "-exit-code"}, differs}},
			}, {
				Title: "Put it back", Text: "Enacting again restores what is declared.",
				Commands: []Command{does("enact", "-env", "trial", "-yes", "-quiet")},
			}, {
				Title: "An edit that swaps",
				Text: "A machine's image is fixed, so a new one means another machine. The disk that uses it moves " +
					"along, and so do the texts with its address in other wards. The new gauge is made first, then " +
					"the old one goes.",
				Edit:     &Edit{"shore/shore.star", `image = "stone-1"`, `image = "stone-2"`},
				Commands: []Command{does("enact", "-env", "trial", "-yes")},
			}, {
				Title: "Look back", Text: "Who changed what, when, and how it ended.",
				Commands: []Command{does("ledger", "log", "shore", "-env", "trial"),
					does("ledger", "verify", "-env", "trial")},
			},
		}, []Step{{
			Title: "Raze", Text: "Tear everything down. Losing data asks for consent, here by a flag.",
			Commands: []Command{does("raze", "-env", "trial", "-yes", "-allow", "data", "-quiet"),
				does("medina", "list", "-env", "trial")},
		}}
}

// Read reads the lines from the estate in a folder.
func (l *Lines) Read(dir string) (string, error) {
	body, err := os.ReadFile(filepath.Join(dir, l.File))
	if err != nil {
		return "", err
	}
	all := strings.Split(string(body), "\n")
	return strings.Join(all[l.From-1:min(l.To, len(all))], "\n"), nil
}

// Make makes the edit in the estate in a folder.
func (e *Edit) Make(dir string) error {
	path := filepath.Join(dir, e.File)
	body, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if !strings.Contains(string(body), e.Old) {
		return fmt.Errorf("%s does not hold %s", e.File, e.Old)
	}
	return disk.Replace(path, []byte(strings.ReplaceAll(string(body), e.Old, e.New)), 0o644)
}

// WithoutProposal is what a run has told without its proposal, which the story has told already; it
// reports whether there was one.
func WithoutProposal(told []byte) ([]byte, bool) {
	_, after, cut := bytes.Cut(told, []byte("Longest chain"))
	if !cut {
		return told, false
	}
	return after[bytes.IndexByte(after, '\n')+1:], true
}
