// Package cli is the command line: flags, prompts and exit codes, one file a
// command. It computes nothing.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/render"
)

// Exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitDifferent   = 3
	exitLocked      = 4
	exitRefused     = 5
	exitInterrupted = 130
)

// command is one command of the program.
type command struct {
	name     string // `propose`, `ledger show`
	line     string // what it is for, on one line
	args     string // of the usage line
	examples [2]string
	flags    func(*flag.FlagSet) // its own flags; may be nil
	common   bool                // it works on an estate and takes the common flags
	run      func(ctx context.Context, a *app, args []string) error
}

// commands lists all commands in the order of the overview. Each is made anew
// for a run, so that flags hold no state between runs.
func commands() []*command {
	return []*command{
		startCommand(), checkCommand(), mapCommand(), proposeCommand(), reviewCommand(), approveCommand(), enactCommand(), razeCommand(), surveyCommand(),
		publishedCommand(), rulesCommand(), costCommand(), whyCommand(), tidyCommand(),
		kitListCommand(), kitShowCommand(), kitCheckCommand(), kitUpdateCommand(), kitPlaceCommand(), ledgerLogCommand(), ledgerShowCommand(), ledgerCompareCommand(), ledgerExportCommand(), ledgerRenameCommand(), ledgerReleaseCommand(), ledgerRestoreCommand(), ledgerMoveCommand(), ledgerPruneCommand(), ledgerResealCommand(), ledgerVerifyCommand(),
		lockCommand(), lockBreakCommand(), lockRecoverCommand(),
		keyShowCommand(), keyWriterCommand(), keyNewCommand(), keyAdmitCommand(), keyDismissCommand(), keyKeepCommand(), keyListCommand(), keyForgetCommand(), keyEstateCommand(), typesCommand(),
		medinaServeCommand(), medinaListCommand(), medinaShowCommand(), medinaCreateCommand(), medinaEditCommand(), medinaDeleteCommand(), medinaEventsCommand(), medinaFaultsCommand(), medinaTokensCommand(), medinaSnapshotCommand(), medinaResetCommand(),
		demoCommand(), versionCommand(), helpCommand(),
	}
}

// exitError ends the program with a code and nothing more to say.
type exitError int

func (e exitError) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// errDifferent ends a command that found what -exit-code reports.
var errDifferent = exitError(exitDifferent)

// Main runs the program and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	spareCollector()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	a := newApp(in, out, errOut)
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer signal.Stop(signals)
	go func() {
		for n := 0; ; n++ {
			if _, ok := <-signals; !ok {
				return
			}
			if !a.interrupted(n) {
				cancel()
			}
		}
	}()
	done := make(chan error, 1)
	go func() { done <- a.main(ctx, args) }()
	select {
	case err := <-done:
		return a.finish(err)
	case words := <-a.overrun:
		return a.finish(errors.New(words))
	}
}

// main finds the command and runs it.
func (a *app) main(ctx context.Context, args []string) error {
	args, err := a.global(args)
	if err != nil {
		return err
	}
	if len(args) == 0 {
		return a.bare(ctx)
	}
	if len(args) == 1 && (args[0] == "-json" || args[0] == "--json") { // how things stand, as JSON
		a.json = true
		return a.bare(ctx)
	}
	switch args[0] {
	case "-h", "-help", "--help", "--h":
		return a.overview()
	case "-version", "--version":
		args[0] = "version"
	}
	if len(args) == 2 && groupLines[args[0]] != "" && slices.Contains([]string{"-h", "-help", "--h", "--help"}, args[1]) {
		return a.groupHelp(args[0])
	}
	cmd, rest := lookup(args)
	if cmd == nil {
		return unknownCommand(args)
	}
	a.cmd = cmd
	a.typed = typedLine(args)
	rest, err = a.parse(cmd, rest)
	if err != nil {
		return err
	}
	if err := a.prepareOutput(); err != nil {
		return err
	}
	ctx = propose.TellReading(ctx, func(typ string, things int) {
		a.say("Reading the list of %s: %s so far.", typ, render.Count(things, "thing"))
	})
	return cmd.run(ctx, a, rest)
}

// global takes -C off the front.
func (a *app) global(args []string) ([]string, error) {
	for len(args) > 0 {
		name, v, has := strings.Cut(strings.TrimLeft(args[0], "-"), "=")
		if !strings.HasPrefix(args[0], "-") || name != "C" {
			break
		}
		if !has {
			if len(args) < 2 {
				return nil, problem.Usage("-C wants a folder")
			}
			v, args = args[1], args[1:]
		}
		a.dir, args = v, args[1:]
	}
	return args, nil
}

// lookup finds the command that args begin with; two words win over one.
func lookup(args []string) (*command, []string) {
	list := commands()
	if len(args) > 1 {
		for _, c := range list {
			if c.name == args[0]+" "+args[1] {
				return c, args[2:]
			}
		}
	}
	for _, c := range list {
		if c.name == args[0] {
			return c, args[1:]
		}
	}
	return nil, nil
}

func unknownCommand(args []string) error {
	var names, subs []string
	for _, c := range commands() {
		first, second, two := strings.Cut(c.name, " ")
		names = append(names, first)
		if two && first == args[0] {
			subs = append(subs, second)
		}
	}
	if len(subs) > 0 {
		e := &problem.UsageError{Message: fmt.Sprintf("kasbah %s wants one of: %s", args[0], strings.Join(subs, ", ")), Hint: "`kasbah help` lists all commands"}
		if len(args) > 1 && !strings.HasPrefix(args[1], "-") {
			e.Message = fmt.Sprintf("there is no command %q", args[0]+" "+args[1])
			e.Hint = nearest.Hint(args[1], subs)
			if e.Hint == "" {
				e.Hint = "there is " + strings.Join(subs, ", ")
			}
		}
		return e
	}
	e := &problem.UsageError{Message: fmt.Sprintf("there is no command %q", args[0]), Hint: nearest.Hint(args[0], names)}
	if e.Hint == "" {
		e.Hint = "`kasbah help` lists all commands"
	}
	return e
}

// parse reads flags and arguments, which may mix.
func (a *app) parse(cmd *command, args []string) ([]string, error) {
	fs := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	fs.Usage = func() {}
	if cmd.flags != nil {
		cmd.flags(fs)
	}
	a.commonFlags(fs, cmd.common)
	a.flags = fs
	var rest []string
	for {
		err := fs.Parse(args)
		if errors.Is(err, flag.ErrHelp) {
			a.commandHelp(cmd, fs)
			return nil, exitError(exitDone)
		}
		if err != nil {
			return nil, flagError(fs, err)
		}
		if fs.NArg() == 0 {
			return rest, nil
		}
		if used := len(args) - fs.NArg(); used > 0 && args[used-1] == "--" {
			return append(rest, fs.Args()...), nil
		}
		rest = append(rest, fs.Arg(0))
		args = fs.Args()[1:]
	}
}

func flagError(fs *flag.FlagSet, err error) error {
	msg := err.Error()
	if name, ok := strings.CutPrefix(msg, "flag provided but not defined: -"); ok {
		var names []string
		fs.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
		e := &problem.UsageError{Message: fmt.Sprintf("kasbah %s has no flag -%s", fs.Name(), render.Clean(name))}
		if n := nearest.To(name, names); n != "" {
			e.Hint = "did you mean -" + n + "?"
		} else {
			e.Hint = fmt.Sprintf("`kasbah %s -h` lists them", fs.Name())
		}
		return e
	}
	if bad, rest, ok := strings.Cut(strings.TrimPrefix(msg, "invalid value "), " for flag -"); ok {
		name, _, _ := strings.Cut(rest, ":")
		return problem.Usage("-%s wants %s, not %s", name, wants(fs.Lookup(name)), bad)
	}
	if name, ok := strings.CutPrefix(msg, "flag needs an argument: -"); ok {
		return problem.Usage("-%s wants a value", name)
	}
	return problem.Usage("%s", msg)
}

// wants says in words what a flag takes.
func wants(f *flag.Flag) string {
	if g, ok := f.Value.(flag.Getter); ok {
		switch g.Get().(type) {
		case int, int64:
			return "a whole number"
		case float64:
			return "a number"
		case time.Duration:
			return "a duration such as 10m"
		}
	}
	return "another value"
}

// finish prints an error and finds the exit code.
func (a *app) finish(err error) int {
	for _, p := range a.opened {
		if cerr := p.Close(); cerr != nil {
			err = errors.Join(err, cerr)
		}
	}
	code := exitDone
	var exit exitError
	var wrong *problem.UsageError
	var locked *ledger.LockedError
	var refused *enact.Refused
	var list problem.List
	var one *problem.Problem
	e := a.errs()
	switch {
	case err == nil:
	case errors.As(err, &exit):
		code = int(exit)
	case errors.As(err, &wrong):
		e.Printf("%s\n", wrong.Message)
		if wrong.Hint != "" {
			e.Printf("    %s\n", wrong.Hint)
		}
		code = exitUsage
	case errors.As(err, &locked):
		a.printLocked(locked)
		code = exitLocked
	case errors.As(err, &refused):
		for _, r := range refused.Reasons {
			e.Printf("refused: %s\n", r)
		}
		code = exitRefused
	case errors.Is(err, context.Canceled):
		e.Printf("interrupted\n")
		code = exitInterrupted
	case errors.As(err, &list):
		list.Sort()
		e.Problems(list)
		code = problemsCode(list)
	case errors.As(err, &one):
		e.Problem(one)
		code = exitFailed
	default:
		for _, line := range slices.Compact(strings.Split(err.Error(), "\n")) { // what ended a run may end its end as well
			e.Printf("%s\n", line)
		}
		code = exitFailed
	}
	if err := a.flush(); err != nil && code == exitDone {
		fmt.Fprintf(a.errors, "the output could not be written: %v\n", err)
		code = exitFailed
	}
	return code
}

// joinOr lists words, the last one after `or`.
func joinOr(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
