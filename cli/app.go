package cli

import (
	"flag"
	"io"

	"kasbah/session"
)

// app is one run of the program.
type app struct {
	streams
	common
	questions
	interrupts

	cmd     *command
	typed   string // the command line, for the ledger, without the folder of -C
	who     string // who acts; the person who runs the program when empty
	flags   *flag.FlagSet
	opened  []*session.Session // to be closed at the end
	overrun chan string        // the program ends with these words: see declare.Options.Overrun
}

func newApp(in io.Reader, out, errOut io.Writer) *app {
	return &app{
		streams: newStreams(in, out, errOut), common: common{dir: ".", colour: "auto"},
		questions: questions{passphrases: map[string]string{}}, overrun: make(chan string, 1),
	}
}
