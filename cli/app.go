package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/muesli/termenv"
	"golang.org/x/term"

	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/render"
	"kasbah/session"
)

// app is one run of the program.
type app struct {
	stdin  io.Reader
	stdout io.Writer
	stderr io.Writer
	buffer *stream // of results
	errors *stream // of messages

	dir   string // -C
	cmd   *command
	typed string // the command line, for the ledger, without the folder of -C
	who   string // who acts; the person who runs the program when empty
	flags *flag.FlagSet

	opened  []*session.Session // to be closed at the end
	overrun chan string        // the program ends with these words: see declare.Options.Overrun
	// common flags
	env     string
	inputs  listFlag
	files   listFlag
	with    listFlag
	json    bool
	quiet   bool
	verbose bool
	colour  string
	yes     bool

	outWidth, errWidth     int
	outProfile, errProfile termenv.Profile
	fixedOutput            bool // widths and colours are set and stay

	answers *bufio.Scanner // of what a person types

	asking      sync.Mutex
	passphrases map[string]string // typed already, by the question

	mu     sync.Mutex
	onStop func(n int) bool // told of interrupts while a run goes on; reports whether it took it
}

// listFlag is a flag that may be given several times.
type listFlag []string

func (l *listFlag) String() string     { return strings.Join(*l, ", ") }
func (l *listFlag) Set(s string) error { *l = append(*l, s); return nil }

// wordsFlag is a listFlag of words, which commas may part as well.
type wordsFlag struct{ listFlag }

func (w *wordsFlag) Set(s string) error {
	for _, word := range strings.Split(s, ",") {
		w.listFlag = append(w.listFlag, strings.TrimSpace(word))
	}
	return nil
}

func (w *wordsFlag) has(word string) bool { return slices.Contains(w.listFlag, word) }

func newApp(in io.Reader, out, errOut io.Writer) *app {
	a := &app{stdin: in, stdout: out, stderr: errOut, dir: ".", outWidth: 100, errWidth: 100, passphrases: map[string]string{}, overrun: make(chan string, 1)}
	a.buffer, a.errors = newStreams(out, errOut)
	a.outProfile, a.errProfile = termenv.Ascii, termenv.Ascii
	a.colour = "auto"
	return a
}

// commonFlags registers the flags that all commands share.
func (a *app) commonFlags(fs *flag.FlagSet, estate bool) {
	if estate {
		fs.StringVar(&a.env, "env", "", "the `environment`; KASBAH_ENV, or the only one there is")
		fs.Var(&a.inputs, "input", "an input as `name=value`, or ward:name=value; may be given again")
		fs.Var(&a.files, "inputs", "a TOML or JSON `file` of inputs; may be given again")
		fs.Var(&a.with, "with", "a setting as `key=value`, such as ledger.path=…; may be given again")
	}
	fs.BoolVar(&a.json, "json", a.json, "write JSON instead of text")
	fs.BoolVar(&a.quiet, "quiet", a.quiet, "no progress and no messages")
	fs.BoolVar(&a.verbose, "verbose", a.verbose, "say more")
	fs.StringVar(&a.colour, "colour", a.colour, "colours `when`: auto (at a terminal), always or never; NO_COLOR is heeded")
	fs.BoolVar(&a.yes, "yes", a.yes, "answer yes to the ordinary question")
	fs.StringVar(&a.dir, "C", a.dir, "work in this `folder`")
}

// commonNames are the flags of commonFlags, for the help.
var commonNames = map[string]bool{"env": true, "input": true, "inputs": true, "with": true, "json": true, "quiet": true, "verbose": true, "colour": true, "yes": true, "C": true}

// maxWho is more than the name of any person or program takes.
const maxWho = 200

// prepareOutput finds widths and colours.
func (a *app) prepareOutput() error {
	switch a.colour {
	case "auto", "always", "never":
	default:
		return problem.Usage("-colour is %q, and must be auto, always or never", a.colour)
	}
	if who := a.acting(); who != render.Clean(who) || len(who) > maxWho {
		return problem.Usage("KASBAH_WHO is %q: who acts is at most %d bytes, without characters that cannot be seen", who, maxWho)
	}
	if a.fixedOutput {
		return nil
	}
	a.outWidth, a.outProfile = a.terminal(a.stdout)
	a.errWidth, a.errProfile = a.terminal(a.stderr)
	return nil
}

// terminal is the width and colours of a stream. One that is not a terminal has none, and as
// many columns as COLUMNS says, or 100.
func (a *app) terminal(w io.Writer) (int, termenv.Profile) {
	width, profile := 100, termenv.Ascii
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil {
		width = max(30, min(n, 500))
	}
	f, ok := w.(*os.File)
	if ok && term.IsTerminal(int(f.Fd())) {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 0 {
			width = max(30, min(n, 100))
		}
		if a.colour == "auto" && os.Getenv("NO_COLOR") == "" {
			profile = termenv.NewOutput(f).EnvColorProfile()
		}
	}
	if a.colour == "always" {
		profile = termenv.TrueColor
	}
	return width, profile
}

func (a *app) out() *render.Out  { return render.NewOut(a.buffer, a.outWidth, a.outProfile) }
func (a *app) errs() *render.Out { return render.NewOut(a.errors, a.errWidth, a.errProfile) }

// say writes a message to people, unless they want none.
func (a *app) say(format string, args ...any) {
	if a.quiet {
		return
	}
	_ = a.flush() // results come before what is said about them; a failure to write them shows at the end
	said, out := fmt.Sprintf(format, args...), a.errs()
	if !strings.Contains(said, "\n") {
		said = render.Wrap(said, out.Width, "  ")
	}
	out.Printf("%s\n", said)
}

// path is the place of a file that an argument names.
func (a *app) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(a.dir, name)
}

// config is how a session is opened for the common flags, an environment and some wards.
func (a *app) config(env string, wards []string) session.Config {
	c := session.Config{
		Dir: a.dir, Env: env, Wards: wards, Given: session.Given{Settings: a.with, Inputs: a.inputs, Files: a.files},
		Identity: a.identity(), Home: a.home, Tell: func(words string) { a.say("%s", words) },
		Overrun: func(words string) {
			select {
			case a.overrun <- words:
			default:
			}
		},
	}
	if a.verbose {
		c.Detail, c.Log = c.Tell, c.Tell
	}
	return c
}

// open opens a session for some wards, all when none are named.
func (a *app) open(ctx context.Context, wards []string) (*session.Session, error) {
	return a.openWith(ctx, a.config(a.env, wards))
}

// openWith opens a session that is closed when the program ends.
func (a *app) openWith(ctx context.Context, c session.Config) (*session.Session, error) {
	s, err := session.Open(ctx, c)
	a.closeLater(s)
	return s, err
}

func (a *app) closeLater(s *session.Session) {
	if s != nil {
		a.opened = append(a.opened, s)
		a.env = s.Env // for what is said about it
	}
}

// openAny is open for commands whose answer is about what all environments share: the first
// one serves when none is named.
func (a *app) openAny(ctx context.Context, wards []string) (*session.Session, error) {
	c := a.config(a.env, wards)
	e, err := session.FindEstate(a.dir)
	if err != nil {
		return nil, err
	}
	if all := e.Environments(); c.Env == "" && os.Getenv("KASBAH_ENV") == "" && len(all) > 0 {
		c.Env = all[0]
	}
	return a.openWith(ctx, c)
}

// openStates opens a session and reads the ledgers of its wards.
func (a *app) openStates(ctx context.Context, wards []string) (*session.Session, map[string]*ledger.State, error) {
	s, err := a.open(ctx, wards)
	if err != nil {
		return nil, nil, err
	}
	states, err := s.States(ctx)
	return s, states, err
}

func (a *app) flush() error { return a.buffer.Flush() }

// document writes a result as JSON.
func (a *app) document(v any) error {
	enc := json.NewEncoder(jsonOut{a.buffer})
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// jsonOut writes JSON in which nothing is hidden from who looks at it in a terminal.
type jsonOut struct{ w io.Writer }

func (o jsonOut) Write(p []byte) (int, error) {
	if _, err := o.w.Write(render.Escaped(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// interactive reports whether a person can be asked.
func (a *app) interactive() bool {
	f, ok := a.stdin.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && !a.json
}

// interrupted hands an interrupt to what is running.
func (a *app) interrupted(n int) bool {
	a.mu.Lock()
	f := a.onStop
	a.mu.Unlock()
	return f != nil && f(n)
}

func (a *app) setOnStop(f func(int) bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.onStop = f
}

// acting is the person who acts.
func (a *app) acting() string {
	if a.who != "" {
		return a.who
	}
	if s := os.Getenv("KASBAH_WHO"); s != "" {
		return s
	}
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	if s := os.Getenv("USER"); s != "" {
		return s
	}
	return "somebody"
}

func (a *app) identity() ledger.Identity {
	host, err := os.Hostname()
	if host = render.Clean(host); err != nil {
		host = "unknown-host"
	}
	return ledger.Identity{Who: a.acting(), Host: host, Program: version(), Process: ledger.ThisProcess()}
}

// release is set at release builds.
var release = "0.1.0"

func version() string {
	v := release
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 9 {
				v += "+" + s.Value[:9]
			}
		}
	}
	return v
}
