package cli

import (
	"flag"
	"io"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/redact"
	"kasbah/session"
	"kasbah/terminal"
)

// app is one run of the program.
type app struct {
	streams
	common
	interrupts
	person *terminal.Person

	cmd     *command
	typed   string // the command line, for the ledger, without the folder of -C
	who     string // who acts; the person who runs the program when empty
	flags   *flag.FlagSet
	opened  []*session.Session // to be closed at the end
	envs    []*envResult       // of a command over several environments; nil for one
	heard   func(enact.Event)  // told of a run's events, too; nil for no one
	overrun chan string        // the program ends with these words: see declare.Options.Overrun
}

func newApp(in io.Reader, out, errOut io.Writer) *app {
	a := &app{streams: newStreams(in, out, errOut), common: common{dir: ".", colour: "auto"},
		overrun: make(chan string, 1)}
	a.person = &terminal.Person{In: in, Out: a.errors}
	return a
}

// again is the command line to be typed again where it was typed.
func (a *app) again() string {
	if a.dir == "." {
		return a.typed
	}
	return "kasbah -C " + redact.Quoted(a.dir) + strings.TrimPrefix(a.typed, "kasbah")
}
