package enact

import (
	"errors"
	"fmt"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// secret fetches a secret and remembers its text, so that it can be kept out
// of what the cloud says.
func (e *executor) secret(name string) (any, error) {
	if e.o.Secret == nil {
		return nil, value.ErrUnknown
	}
	text, err := e.o.Secret(name)
	if err != nil {
		return nil, fmt.Errorf("secret %s: %w", name, err)
	}
	e.confide(text)
	return text, nil
}

// confide remembers every text in a value that was revealed.
func (e *executor) confide(v any) {
	value.Replace(v, func(leaf any) any {
		if s, ok := leaf.(string); ok {
			e.confided.Add(s)
			if e.o.Confide != nil {
				e.o.Confide(s)
			}
		}
		return leaf
	})
}

// redacted keeps secrets out of an error.
func (e *executor) redacted(err error) error {
	if err == nil {
		return nil
	}
	var said *driver.Error
	if errors.As(err, &said) { // its problems are shown one by one
		said.Message = e.confided.Text(said.Message)
		for i := range said.Problems {
			said.Problems[i].Message = e.confided.Text(said.Problems[i].Message)
		}
	}
	if clean := e.confided.Text(err.Error()); clean != err.Error() {
		return &redactedError{clean, err}
	}
	return err
}

type redactedError struct {
	msg string
	err error
}

func (e *redactedError) Error() string { return e.msg }
func (e *redactedError) Unwrap() error { return e.err }

// withoutSecrets are resolved inputs as rules may see them: what is made from
// a secret is as the proposal has it.
func withoutSecrets(a *propose.Action, inputs value.Map) value.Map {
	out := make(value.Map, len(inputs))
	for name, v := range inputs {
		if was, ok := a.Plan.Inputs[name]; ok && value.IsSecret(was) {
			v = was
		}
		out[name] = v
	}
	return out
}

// errWithheld ends a run whose ledger may not record what the cloud has made.
var errWithheld = errors.New("the cloud has made a secret, and the ledger is not sealed: its value is withheld, and " +
	"the run ends")

// take makes what the cloud shows a record's, with its secrets hidden. A
// ledger that is not sealed gets none.
func (e *executor) take(r *ledger.Record, ward string, live value.Map) {
	drv, name := propose.SplitType(r.Type)
	c := e.o.Catalogs[drv]
	if c == nil || c.Types[name] == nil {
		r.Live = live
		return
	}
	r.Take(c.Types[name], value.InWard(ward, r.Address), live)
	if e.o.Sealed || len(r.Hidden) == 0 {
		return
	}
	for hidden := range r.Hidden {
		r.Live[hidden] = "(withheld)"
	}
	r.Hidden = nil
	_ = e.broke(errWithheld) // told at the end of the run
}
