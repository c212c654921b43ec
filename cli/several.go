package cli

import (
	"context"

	"kasbah/core/problem"
	"kasbah/exit"
	"kasbah/session"
)

// envResult is what a command gave in one of several environments.
type envResult struct {
	Env    string `json:"env"`
	Code   int    `json:"code"`             // the exit code that it stands for
	Result any    `json:"result,omitempty"` // the command's own document
}

// envsDocument is the JSON form of a command over several environments.
type envsDocument struct {
	Format string       `json:"format"`
	Envs   []*envResult `json:"envs"`
}

// each runs the command in each of several environments. What fails in one keeps no other one back; the exit code is
// that of the worst.
func (a *app) each(ctx context.Context, args []string) error {
	names, err := session.ChosenEnvironments(ctx, a.config(a.env, nil))
	if err != nil {
		return err
	}
	worst := exit.Done
	for _, env := range names {
		if len(a.envs) > 0 && !a.json {
			a.out().Printf("\n")
		}
		a.env = env
		a.envs = append(a.envs, &envResult{Env: env})
		err := a.cmd.Run(ctx, a, args)
		is := a.envs[len(a.envs)-1]
		if is.Code = exit.Tell(a.errs(), err, a.env, a.again()); is.Result == nil {
			is.Result = a.endDocument(err, is.Code)
		}
		worst = exit.Worse(worst, is.Code)
		if ctx.Err() != nil {
			break
		}
	}
	if all := a.envs; a.json || a.wrote {
		a.envs = nil
		if err := a.document(envsDocument{"kasbah.envs/1", all}); err != nil {
			return err
		}
	}
	return exit.Error(worst)
}

// one is an error where a command runs over several environments and something is for one alone.
func (a *app) one(what string) error {
	if a.envs != nil {
		return problem.Usage("%s is for one environment", what)
	}
	return nil
}

// when is an error where something holds.
func when(holds bool, err error) error {
	if holds {
		return err
	}
	return nil
}
