// Package complete finishes words on the command line of a shell: commands, flags, their values, and what an
// estate has. It knows commands by their names, arguments and flags alone.
package complete

import (
	"embed"
	"flag"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/form"
	"kasbah/core/problem"
)

//go:embed scripts/*
var scripts embed.FS

// Shells are those that there is a script for.
func Shells() []string { return []string{"bash", "fish", "powershell", "zsh"} }

// Script is what a shell runs to know of the program.
func Script(shell string) (string, error) {
	if !slices.Contains(Shells(), shell) {
		return "", &problem.UsageError{Message: fmt.Sprintf("kasbah finishes no words in %q", shell),
			Hint: "there is " + strings.Join(Shells(), ", ")}
	}
	body, err := scripts.ReadFile("scripts/kasbah." + shell)
	return string(body), err
}

// Command is a command as it is completed.
type Command struct {
	Name  string // `ledger show`
	Short string
	Args  string // of its usage: `[WARD…]`, `TYPE ID`
	Flags *flag.FlagSet
}

// Word is one that can be typed, and what it is.
type Word struct{ Text, About string }

// Kind is a kind of words that an estate has.
type Kind string

// Kinds of words. The program's own are commands, flags and the values of flags with a choice.
const (
	Environments Kind = "environment"
	Wards        Kind = "ward"
	Addresses    Kind = "address"
	Runs         Kind = "run"
	Kits         Kind = "kit"
	Types        Kind = "type"
	Drivers      Kind = "driver"
	Inputs       Kind = "input"
	Alerts       Kind = "alert"
	Published    Kind = "published"  // names in the ward that is given
	ThingTypes   Kind = "thing type" // of Medina
	Things       Kind = "thing"      // ids of Medina's things of the type that is given
)

// Given is what stands on the line already.
type Given struct {
	Dir   string   // of -C; "" for the current one
	Env   string   // of -env
	Args  []string // of the command
	Typed string   // what the word begins with
}

// Source gives the words of a kind.
type Source func(kind Kind, g Given) []Word

// Answer is what can stand in place of the last word.
type Answer struct {
	Words   []Word
	Files   bool // files as well
	Folders bool
	Open    bool // the words go on: no space behind one
}

// many is how many words are shown one by one: of more, the next part is.
const many = 100

// Line answers for the words of a line, without the program's own name; the last one is not finished.
func Line(commands []Command, pages []string, line []string, source Source) Answer {
	l := &typing{commands: commands, pages: pages, source: source}
	a := l.answer(line)
	typed := ""
	if len(line) > 0 {
		typed = line[len(line)-1]
	}
	return a.narrowed(typed)
}

type typing struct {
	commands []Command
	pages    []string
	source   Source
	given    Given
}

func (l *typing) answer(line []string) Answer {
	if len(line) == 0 {
		line = []string{""}
	}
	l.given.Typed = line[len(line)-1]
	if name, v, ok := strings.Cut(l.given.Typed, "="); ok && strings.HasPrefix(name, "-") {
		l.given.Typed = v
	}
	for len(line) > 1 && strings.TrimLeft(line[0], "-") == "C" && strings.HasPrefix(line[0], "-") { // before the command
		if len(line) == 2 {
			return Answer{Folders: true}
		}
		l.given.Dir = line[1]
		line = line[2:]
	}
	if len(line) == 1 {
		if strings.HasPrefix(line[0], "-") {
			return Answer{Words: []Word{{"-C", "work in another folder"}, {"-h", "list the commands"},
				{"-version", "show the version"}}}
		}
		return Answer{Words: l.names("")}
	}
	cmd, rest := l.find(line)
	if cmd == nil {
		if len(line) == 2 {
			return Answer{Words: l.names(line[0])}
		}
		return Answer{}
	}
	return l.of(cmd, rest)
}

// names are the first words of all commands, or the second words of a group.
func (l *typing) names(group string) []Word {
	var out []Word
	for _, c := range l.commands {
		first, second, two := strings.Cut(c.Name, " ")
		switch {
		case group == "" && !slices.ContainsFunc(out, func(w Word) bool { return w.Text == first }):
			about := c.Short
			if two {
				about = "…"
			}
			out = append(out, Word{first, about})
		case group == first && two:
			out = append(out, Word{second, c.Short})
		}
	}
	return out
}

// find is the command that a line begins with, and what follows; two words win over one. The last word is
// not finished, so it belongs to none.
func (l *typing) find(line []string) (*Command, []string) {
	for _, words := range []int{2, 1} {
		if len(line) <= words {
			continue
		}
		name := strings.Join(line[:words], " ")
		for i := range l.commands {
			if l.commands[i].Name == name {
				return &l.commands[i], line[words:]
			}
		}
	}
	return nil, nil
}

// of answers for what follows a command.
func (l *typing) of(cmd *Command, line []string) Answer {
	used := map[string]bool{}
	last := line[len(line)-1]
	only := false // arguments, behind --
	for i := 0; i < len(line)-1; i++ {
		word := line[i]
		if only || !strings.HasPrefix(word, "-") || word == "-" {
			l.given.Args = append(l.given.Args, word)
			continue
		}
		if word == "--" {
			only = true
			continue
		}
		name, v, has := strings.Cut(strings.TrimLeft(word, "-"), "=")
		f := cmd.Flags.Lookup(name)
		if f == nil {
			continue
		}
		used[name] = true
		if isBool(f) {
			continue
		}
		if !has {
			if i+1 == len(line)-1 { // the last word is its value
				return l.value(f)
			}
			i++
			v = line[i]
		}
		switch name {
		case "env":
			l.given.Env = v
		case "C":
			l.given.Dir = v
		}
	}
	if !only && strings.HasPrefix(last, "-") {
		name, _, has := strings.Cut(strings.TrimLeft(last, "-"), "=")
		if f := cmd.Flags.Lookup(name); has && f != nil {
			a := l.value(f)
			for i := range a.Words {
				a.Words[i].Text = last[:strings.Index(last, "=")+1] + a.Words[i].Text
			}
			return a
		}
		return Answer{Words: flagsOf(cmd, used)}
	}
	return l.argument(cmd)
}

func isBool(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

func flagsOf(cmd *Command, used map[string]bool) []Word {
	var out []Word
	cmd.Flags.VisitAll(func(f *flag.Flag) {
		_, about := flag.UnquoteUsage(f)
		if !used[f.Name] || strings.Contains(about, "repeatable") {
			out = append(out, Word{"-" + f.Name, about})
		}
	})
	return out
}

// value answers for the value of a flag: by its choice, or by the word that its usage has for it.
func (l *typing) value(f *flag.Flag) Answer {
	if c, ok := f.Value.(interface{ Words() []string }); ok {
		return Answer{Words: plain(c.Words())}
	}
	word, about := flag.UnquoteUsage(f)
	switch {
	case f.Name == "colour":
		return Answer{Words: plain([]string{"auto", "always", "never"})}
	case word == "folder":
		return Answer{Folders: true}
	case word == "file" || word == "FILE":
		return Answer{Files: true}
	case f.Name == "ward":
		return l.words(Wards)
	case f.Name == "input":
		a := l.words(Inputs)
		a.Open = true
		return a
	case word == "pattern" || word == "patterns" || strings.Contains(word, "address") && !strings.Contains(about, "host"):
		return l.words(Addresses)
	case word == "environments":
		return l.words(Environments)
	case word == "name" && f.Name == "driver":
		return l.words(Drivers)
	}
	return l.words(Kind(word))
}

// argument answers for the next argument of a command, by its usage.
func (l *typing) argument(cmd *Command) Answer {
	if cmd.Name == "help" {
		out := l.names("")
		if len(l.given.Args) == 1 {
			return Answer{Words: l.names(l.given.Args[0])}
		}
		return Answer{Words: append(out, plain(append(l.pages, "flags"))...)}
	}
	if cmd.Name == "completion" && len(l.given.Args) == 0 {
		return Answer{Words: plain(Shells())}
	}
	places := placesOf(cmd.Args)
	if len(places) == 0 {
		return Answer{}
	}
	n := len(l.given.Args)
	if n >= len(places) {
		if !strings.Contains(places[len(places)-1], "…") {
			return Answer{}
		}
		n = len(places) - 1
	}
	var out Answer
	for _, word := range argumentWord().FindAllString(places[n], -1) {
		a := l.named(cmd, word)
		out.Words = append(out.Words, a.Words...)
		out.Files, out.Folders, out.Open = out.Files || a.Files, out.Folders || a.Folders, out.Open || a.Open
	}
	return out
}

var argumentWord = form.Of(`[A-Z]+`)

// placesOf are the arguments of a usage line, `[WARD [NAME]]` as two; alternatives stay together.
func placesOf(args string) []string {
	args = strings.NewReplacer(" | ", "|", "[.PATH]", "", "[.ATTRIBUTE]", "").Replace(args)
	return strings.Fields(args)
}

// named answers for an argument that a usage line has under some name.
func (l *typing) named(cmd *Command, name string) Answer {
	group, _, _ := strings.Cut(cmd.Name, " ")
	switch name {
	case "WARD":
		return l.words(Wards)
	case "ADDRESS", "PATTERN":
		return l.words(Addresses)
	case "RUN":
		return l.words(Runs)
	case "FILE":
		return Answer{Files: true}
	case "FOLDER", "DIR":
		return Answer{Folders: true}
	case "DRIVER":
		return l.words(Drivers)
	case "TYPE":
		if group == "medina" {
			return l.words(ThingTypes)
		}
		return l.words(Types)
	case "ID":
		if group == "medina" {
			return l.words(Things)
		}
		if group == "alerts" {
			return l.words(Alerts)
		}
	case "NAME":
		if group == "kit" {
			return l.words(Kits)
		}
		if cmd.Name == "published" {
			return l.words(Published)
		}
	}
	return Answer{}
}

func (l *typing) words(kind Kind) Answer { return Answer{Words: l.source(kind, l.given)} }

func plain(list []string) []Word {
	var out []Word
	for _, text := range list {
		out = append(out, Word{Text: text})
	}
	return out
}

// safe are the words that no shell takes for anything but a word.
var safe = form.Of(`^[A-Za-z0-9_./:@%+=,~-]+$`)

// narrowed keeps the words that begin as what is typed does, and the next part of them where they are many.
// A word that a shell would take for more than a word is left out: another person may have written it.
func (a Answer) narrowed(typed string) Answer {
	var kept, parts []Word
	for _, w := range a.Words {
		if !strings.HasPrefix(w.Text, typed) {
			continue
		}
		if len(kept) <= many {
			kept = append(kept, w)
		}
		if i := strings.IndexAny(w.Text[len(typed):], ":/"); i >= 0 && len(typed)+i+1 < len(w.Text) {
			w = Word{Text: w.Text[:len(typed)+i+1], About: "…"}
		}
		if n := len(parts); n == 0 || parts[n-1].Text != w.Text { // they come in their order
			parts = append(parts, w)
		}
	}
	if len(kept) > many {
		kept = parts
	}
	a.Words = nil
	seen := map[string]bool{}
	for _, w := range kept {
		if !seen[w.Text] && safe().MatchString(w.Text) {
			seen[w.Text] = true
			a.Words = append(a.Words, w)
			a.Open = a.Open || strings.HasSuffix(w.Text, "/") || strings.HasSuffix(w.Text, ":")
		}
	}
	return a
}

// Write is the answer as a script of a shell reads it: a line that says what else there is, and a line for
// each word, with a tab and what it is.
//
// Bash parts words at `:` and `=`, and is given what stands behind the last of them.
func (a Answer) Write(shell, typed string) string {
	var b strings.Builder
	head := "words"
	for word, is := range map[string]bool{"files": a.Files, "folders": a.Folders, "open": a.Open} {
		if is {
			head += " " + word
		}
	}
	b.WriteString(head + "\n")
	cut := 0
	if shell == "bash" {
		cut = strings.LastIndexAny(typed, ":=") + 1
	}
	for _, w := range a.Words {
		about := strings.Map(func(r rune) rune {
			if r < ' ' || r == 0x7f {
				return ' '
			}
			return r
		}, w.About)
		if shell == "bash" {
			about = ""
		}
		fmt.Fprintf(&b, "%s\t%s\n", w.Text[cut:], about)
	}
	return b.String()
}

// Split parts a line as a shell does, as far as quotes and spaces go. The last word is not finished.
func Split(line string) []string {
	var out []string
	word, quote := "", rune(0)
	escaped := false
	for _, r := range line {
		switch {
		case escaped:
			word += string(r)
			escaped = false
		case r == '\\' && quote != '\'':
			escaped = true
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '"' || r == '\''):
			quote = r
		case quote == 0 && (r == ' ' || r == '\t'):
			if word != "" {
				out = append(out, word)
			}
			word = ""
		default:
			word += string(r)
		}
	}
	return append(out, word)
}
