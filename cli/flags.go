package cli

import (
	"errors"
	"flag"
	"slices"
	"strings"
)

// listFlag is a flag that may be given several times.
type listFlag []string

func (l *listFlag) String() string { return strings.Join(*l, ", ") }

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

// pairsFlag is a flag of key=value that may be given several times.
type pairsFlag struct {
	form  string // how one is to look, where that is not key=value
	pairs map[string]string
}

func (p *pairsFlag) String() string { return "" }

func (p *pairsFlag) Set(s string) error {
	key, v, ok := strings.Cut(s, "=")
	if !ok || key == "" {
		return errors.New("no =")
	}
	if p.pairs == nil {
		p.pairs = map[string]string{}
	}
	p.pairs[key] = v
	return nil
}

// common are the flags that all commands share.
type common struct {
	dir     string // -C
	env     string
	inputs  listFlag
	files   listFlag
	with    listFlag
	json    bool
	quiet   bool
	verbose bool
	colour  string
	yes     bool
}

// commonFlags registers the flags that all commands share.
func (a *app) commonFlags(fs *flag.FlagSet, estate bool) {
	if estate {
		fs.Func("env", "the `environment`; KASBAH_ENV, or the only one there is", func(s string) error {
			a.env = strings.TrimPrefix(a.env+","+s, ",") // adopt -from takes several
			return nil
		})
		fs.Var(&a.inputs, "input", "an input, as `name=value` or ward:name=value; repeatable")
		fs.Var(&a.files, "inputs", "a TOML or JSON `file` of inputs; repeatable")
		fs.Var(&a.with, "with", "a setting, as `key=value`, such as ledger.path=…; repeatable")
	}
	fs.BoolVar(&a.json, "json", a.json, "write JSON, not text")
	fs.BoolVar(&a.quiet, "quiet", a.quiet, "show no progress and no messages")
	fs.BoolVar(&a.verbose, "verbose", a.verbose, "show more detail")
	fs.StringVar(&a.colour, "colour", a.colour, "colours `when`: auto (at a terminal), always or never; NO_COLOR is "+
		"heeded")
	fs.BoolVar(&a.yes, "yes", a.yes, "answer yes to the question whether to go on")
	fs.StringVar(&a.dir, "C", a.dir, "work in this `folder`, not the current one")
}

// commonNames are the flags of commonFlags, for the help.
var commonNames = map[string]bool{"env": true, "input": true, "inputs": true, "with": true, "json": true, "quiet": true,
	"verbose": true, "colour": true, "yes": true, "C": true}

// formOr is the form of a result: JSON with -json.
func (a *app) formOr(form string) string {
	if a.json {
		return "json"
	}
	return form
}

// joinOr lists words, the last one after `or`.
func joinOr(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// oneOf is a flag that is one of some words.
type oneOf struct {
	word  *string
	words []string
}

// choice is a flag that sets a word to one of some; what it is already is the default.
func choice(word *string, words ...string) *oneOf { return &oneOf{word, words} }

func (o *oneOf) String() string {
	if o.word == nil {
		return ""
	}
	return *o.word
}

func (o *oneOf) Set(s string) error {
	if !slices.Contains(o.words, s) {
		return errors.New("not one of the words")
	}
	*o.word = s
	return nil
}

// orBool is a flag that may stand alone, which means its first word, or be given another word
// after =.
type orBool struct {
	words []string
	word  string // "" when it is not given
}

func (o *orBool) String() string { return "" }

// IsBoolFlag lets the flag be given without a value.
func (o *orBool) IsBoolFlag() bool { return true }

func (o *orBool) Set(s string) error {
	switch {
	case s == "true":
		o.word = o.words[0]
	case s == "false":
		o.word = ""
	case slices.Contains(o.words, s):
		o.word = s
	default:
		return errors.New("not one of the words")
	}
	return nil
}
