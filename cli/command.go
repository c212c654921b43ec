// Package cli is the command line: flags, prompts and exit codes, one file a
// command. It computes nothing.
package cli

import (
	"context"
	"errors"
	"flag"
	"io"
	"math"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"syscall"

	"kasbah/collector"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/redact"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/help"
	"kasbah/render"
	"kasbah/session"
)

// command is one command of the program. Its flags, help, reference and completion come from
// here, beside its code.
type command struct {
	Name     string // as typed: `propose`, `ledger show`
	Short    string // what it does, on one line
	Long     string // what to know before the first use; may be empty
	Args     string // of the usage line
	Examples [2]string
	Flags    func(*flag.FlagSet) // registers its own flags; may be nil
	Estate   bool                // it works on an estate and takes the common flags
	Several  bool                // it may run over several environments
	Lines    bool                // with -json it writes JSON Lines
	Takes    arguments           // how many arguments; any number where it is the zero value
	Run      func(ctx context.Context, a *app, args []string) error
}

// arguments bound how many arguments a command takes. Needs says what, where one is missing.
type arguments struct {
	set         bool
	least, most int
	needs       string
}

func noArguments() arguments { return arguments{set: true} }

// exactly is so many arguments, which needs names; between, atMost and atLeast are alike.
func exactly(n int, needs string) arguments { return arguments{true, n, n, needs} }

func between(least, most int, needs string) arguments { return arguments{true, least, most, needs} }

func atMost(n int, needs string) arguments { return arguments{true, 0, n, needs} }

func atLeast(n int, needs string) arguments { return arguments{true, n, math.MaxInt, needs} }

// check is an error for too few or too many arguments.
func (t arguments) check(name string, args []string) error {
	switch n := len(args); {
	case !t.set || n >= t.least && n <= t.most:
		return nil
	case t.most == 0:
		return problem.Usage("kasbah %s takes no arguments, and got %s", name, strings.Join(args, " "))
	case t.least == 0:
		return problem.Usage("kasbah %s takes %s", name, t.needs)
	default:
		return problem.Usage("kasbah %s needs %s", name, t.needs)
	}
}

// commands lists all commands in the order of the overview. Each is new
// for a run, so that flags hold no state between runs.
func commands() []*command {
	return []*command{
		startCommand(), checkCommand(), affectedCommand(), stepsCommand(), mapCommand(), proposeCommand(), reviewCommand(), approveCommand(),
		enactCommand(), razeCommand(), surveyCommand(), settleCommand(), adoptCommand(),
		watchCommand(), watchTokensCommand(), alertsCommand(), alertsShowCommand(), alertsAcknowledgeCommand(),
		publishedCommand(), rulesCommand(), costCommand(), whyCommand(), tidyCommand(), lspCommand(),
		kitListCommand(), kitShowCommand(), kitCheckCommand(), kitUpdateCommand(), kitPlaceCommand(),
		ledgerLogCommand(), ledgerShowCommand(), ledgerCompareCommand(), ledgerExportCommand(),
		ledgerRenameCommand(), ledgerReleaseCommand(), ledgerRestoreCommand(), ledgerMoveCommand(),
		ledgerPruneCommand(), ledgerResealCommand(), ledgerVerifyCommand(),
		lockCommand(), lockBreakCommand(), lockRecoverCommand(),
		keyShowCommand(), keyWriterCommand(), keyNewCommand(), keyAdmitCommand(), keyDismissCommand(), keyKeepCommand(),
		keyListCommand(), keyForgetCommand(), keyEstateCommand(), typesCommand(),
		medinaServeCommand(), medinaListCommand(), medinaShowCommand(), medinaCreateCommand(), medinaEditCommand(),
		medinaDeleteCommand(), medinaEventsCommand(), medinaFaultsCommand(), medinaTokensCommand(),
		medinaSnapshotCommand(), medinaResetCommand(),
		completionCommand(), demoCommand(), versionCommand(), helpCommand(),
	}
}

// settingFlags take settings as key=value, among them credentials.
var settingFlags = []string{"with", "to"}

// Main runs the program and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	collector.Spare()
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
	if len(args) == 2 && help.About(args[0]) != "" && slices.Contains([]string{"-h", "-help", "--h", "--help"},
		args[1]) {
		return a.groupHelp(args[0])
	}
	cmd, rest := lookup(args)
	if cmd == nil {
		return help.Unknown(args, helpLines())
	}
	a.cmd = cmd
	a.typed = redact.CommandLine(args, settingFlags)
	given := rest
	rest, err = a.parse(cmd, rest)
	if err != nil {
		a.json = a.json || slices.Contains(given, "-json") || slices.Contains(given, "--json")
		return err
	}
	if err := a.prepareOutput(); err != nil {
		return err
	}
	ctx = propose.TellReading(ctx, func(typ string, things int) {
		a.say("Reading the list of %s: %s so far.", typ, render.Count(things, "thing"))
	})
	if err := cmd.Takes.check(cmd.Name, rest); err != nil {
		return err
	}
	if cmd.Several && session.SeveralEnvironments(a.env) {
		return a.each(ctx, rest)
	}
	return cmd.Run(ctx, a, rest)
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
				return nil, problem.Usage("-C needs a folder")
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
			if c.Name == args[0]+" "+args[1] {
				return c, args[2:]
			}
		}
	}
	for _, c := range list {
		if c.Name == args[0] {
			return c, args[1:]
		}
	}
	return nil, nil
}

// parse reads flags and arguments, which may mix.
func (a *app) parse(cmd *command, args []string) ([]string, error) {
	fs := flag.NewFlagSet(cmd.Name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	fs.Usage = func() {}
	if cmd.Flags != nil {
		cmd.Flags(fs)
	}
	a.commonFlags(fs, cmd.Estate)
	a.flags = fs
	rest, err := flags.Parse(fs, args)
	if errors.Is(err, flag.ErrHelp) {
		a.commandHelp(cmd, fs)
		return nil, exit.Error(exit.Done)
	}
	return rest, err
}

// interrupts are told to what is running.
type interrupts struct {
	mu     sync.Mutex
	onStop func(n int) bool // told of interrupts while a run goes on; reports whether it took it
}

// interrupted hands an interrupt to what is running.
func (i *interrupts) interrupted(n int) bool {
	i.mu.Lock()
	f := i.onStop
	i.mu.Unlock()
	return f != nil && f(n)
}

func (i *interrupts) setOnStop(f func(int) bool) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.onStop = f
}
