package cli

import (
	"errors"
	"fmt"

	"kasbah/exit"
	"kasbah/render"
)

// finish prints an error and finds the exit code.
func (a *app) finish(err error) int {
	for _, p := range a.opened {
		if cerr := p.Close(); cerr != nil {
			err = errors.Join(err, cerr)
		}
	}
	code := exit.Tell(a.errs(), err, a.env, a.again())
	if a.json && !a.wrote {
		if werr := a.document(a.endDocument(err, code)); werr != nil && err == nil {
			code = exit.Tell(a.errs(), werr, a.env, a.again())
		}
	}
	if err := a.flush(); err != nil && code == exit.Done {
		fmt.Fprintf(a.errors, "the output could not be written: %v\n", err)
		code = exit.Failed
	}
	return code
}

// endDocument is what -json writes for a command that has no document of its own.
func (a *app) endDocument(err error, code int) any {
	if coded := exit.Error(0); err == nil || errors.As(err, &coded) {
		return render.NewEnd(code, a.unshown.String())
	}
	return render.NewFailure(err, code, exit.Kinds[code])
}
