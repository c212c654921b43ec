package cli

import (
	"flag"
	"strings"

	"kasbah/flags"
)

// common are the flags that all commands share.
type common struct {
	dir     string // -C
	env     string
	inputs  flags.List
	files   flags.List
	with    flags.List
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
