// Package flags has the kinds of flags that package flag lacks, and says in words what is wrong with one.
package flags

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/render"
	"slices"
	"strings"
	"time"
)

// List is a flag that may be given several times.
type List []string

// String is for package flag, as are all String and Set here.
func (l *List) String() string { return strings.Join(*l, ", ") }

func (l *List) Set(s string) error { *l = append(*l, s); return nil }

// Words is a List of words, which commas may part as well.
type Words struct{ List }

func (w *Words) Set(s string) error {
	for _, word := range strings.Split(s, ",") {
		w.List = append(w.List, strings.TrimSpace(word))
	}
	return nil
}

// Has reports whether a word was given.
func (w *Words) Has(word string) bool { return slices.Contains(w.List, word) }

// Pairs is a flag of key=value that may be given several times.
type Pairs struct {
	Form  string // how one is to look, where that is not key=value
	Pairs map[string]string
}

func (p *Pairs) String() string { return "" }

func (p *Pairs) Set(s string) error {
	key, v, ok := strings.Cut(s, "=")
	if !ok || key == "" {
		return errors.New("no =")
	}
	if p.Pairs == nil {
		p.Pairs = map[string]string{}
	}
	p.Pairs[key] = v
	return nil
}

// JoinOr lists words, the last one after `or`.
func JoinOr(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// OneOf is a flag that is one of some words.
type OneOf struct {
	word  *string
	words []string
}

// Choice is a flag that sets a word to one of some; what it is already is the default.
func Choice(word *string, words ...string) *OneOf { return &OneOf{word, words} }

func (o *OneOf) String() string {
	if o.word == nil {
		return ""
	}
	return *o.word
}

func (o *OneOf) Set(s string) error {
	if !slices.Contains(o.words, s) {
		return errors.New("not one of the words")
	}
	*o.word = s
	return nil
}

// OrBool is a flag that may stand alone, which means its first word, or be given another word
// after =.
type OrBool struct {
	Words []string
	Word  string // "" when it is not given
}

func (o *OrBool) String() string { return "" }

// IsBoolFlag lets the flag be given without a value.
func (o *OrBool) IsBoolFlag() bool { return true }

func (o *OrBool) Set(s string) error {
	switch {
	case s == "true":
		o.Word = o.Words[0]
	case s == "false":
		o.Word = ""
	case slices.Contains(o.Words, s):
		o.Word = s
	default:
		return errors.New("not one of the words")
	}
	return nil
}

// Error is what a person reads of an error of package flag.
func Error(fs *flag.FlagSet, err error) error {
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
	if bad, rest, ok := strings.Cut(strings.TrimPrefix(msg, "invalid boolean value "), " for -"); ok {
		name, _, _ := strings.Cut(rest, ":")
		return problem.Usage("-%s must be %s, not %s", name, wants(fs.Lookup(name)), bad)
	}
	if bad, rest, ok := strings.Cut(strings.TrimPrefix(msg, "invalid value "), " for flag -"); ok {
		name, _, _ := strings.Cut(rest, ":")
		if o, ok := fs.Lookup(name).Value.(*OneOf); ok {
			return &problem.UsageError{Message: fmt.Sprintf("-%s is %s, and must be %s", name, bad, JoinOr(o.words)),
				Hint: nearest.Hint(strings.Trim(bad, `"`), o.words)}
		}
		return problem.Usage("-%s must be %s, not %s", name, wants(fs.Lookup(name)), bad)
	}
	if name, ok := strings.CutPrefix(msg, "flag needs an argument: -"); ok {
		return problem.Usage("-%s needs a value", name)
	}
	return problem.Usage("%s", msg)
}

// wants says in words what a flag takes.
func wants(f *flag.Flag) string {
	if o, ok := f.Value.(*OrBool); ok {
		return JoinOr(o.Words)
	}
	if b, ok := f.Value.(interface{ IsBoolFlag() bool }); ok && b.IsBoolFlag() {
		return "true or false"
	}
	if p, ok := f.Value.(*Pairs); ok {
		return cmp.Or(p.Form, "key=value")
	}
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

// Words are those that the flag may be.
func (o *OneOf) Words() []string { return o.words }
