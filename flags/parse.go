package flags

import (
	"errors"
	"flag"
)

// Parse reads flags and arguments, which may mix; after -- all are arguments. It returns the arguments. The error is
// flag.ErrHelp, or says what is wrong.
func Parse(fs *flag.FlagSet, args []string) (rest []string, err error) {
	for {
		err := fs.Parse(args)
		if errors.Is(err, flag.ErrHelp) {
			return nil, err
		}
		if err != nil {
			return nil, Error(fs, err)
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
