package cli

import (
	"context"
	"path/filepath"

	"kasbah/core/ledger"
	"kasbah/home"
	"kasbah/session"
)

// home is what this machine keeps for the person.
func (a *app) home() (*home.Home, error) { return home.Open(a.hidden) }

// atHome is the Run of a command that works on what this machine keeps for the person.
func atHome(run func(a *app, h *home.Home, args []string) error) func(context.Context, *app, []string) error {
	return func(_ context.Context, a *app, args []string) error {
		h, err := a.home()
		if err != nil {
			return err
		}
		return run(a, h, args)
	}
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
		Identity: session.Identity(a.acting(), version()), Home: a.home, Tell: func(words string) { a.say("%s", words) },
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
	c.AnyEnv = true
	return a.openWith(ctx, c)
}

// openKits opens the kits of the estate, or none outside of one.
func (a *app) openKits(ctx context.Context) (*session.Kits, error) {
	k, err := session.OpenKits(ctx, a.config(a.env, nil))
	a.closeLater(k.Session)
	return k, err
}

// onWards is the Run of a command whose arguments are wards, and all wards without any.
func onWards(run func(context.Context, *app, *session.Session) error) func(context.Context, *app, []string) error {
	return func(ctx context.Context, a *app, args []string) error {
		s, err := a.open(ctx, args)
		if err != nil {
			return err
		}
		return run(ctx, a, s)
	}
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

// acting is the person who acts.
func (a *app) acting() string {
	if a.who != "" {
		return a.who
	}
	return session.Acting()
}
