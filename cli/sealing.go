package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"

	"github.com/oklog/ulid/v2"
	"golang.org/x/term"

	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/home"
	"kasbah/render"
	"kasbah/session"
)

// askHidden asks for a text that the terminal does not show.
func (a *app) askHidden(what string) (string, error) {
	f, ok := a.stdin.(*os.File)
	if !ok || !a.interactive() {
		return "", errors.New("it has a passphrase, and there is no terminal to ask for it at")
	}
	fmt.Fprintf(a.errors, "%s ", what)
	defer fmt.Fprintln(a.errors)
	text, err := term.ReadPassword(int(f.Fd()))
	return string(text), err
}

// home is what this machine keeps for the person.
func (a *app) home() (*home.Home, error) { return home.Open(a.passphrase) }

// passphrase asks for one, each once.
func (a *app) passphrase(what string) (string, error) {
	a.asking.Lock()
	defer a.asking.Unlock()
	if text, ok := a.passphrases[what]; ok {
		return text, nil
	}
	text, err := a.askHidden(what)
	if err == nil {
		a.passphrases[what] = text
	}
	return text, err
}

func ledgerResealCommand() *command {
	var why string
	return &command{
		name: "ledger reseal", line: "make the recipients of kasbah.toml those who can read the ledger from now on", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah ledger reseal -env live -why \"keeper-3 has come\"", "kasbah ledger reseal shore"},
		flags:    func(fs *flag.FlagSet) { fs.StringVar(&why, "why", "", "the `reason`, for the history") },
		run: func(ctx context.Context, a *app, args []string) error {
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			type resealed struct {
				Ward    string `json:"ward"`
				Changed bool   `json:"changed"`
				Readers int    `json:"readers"`
			}
			doc := struct {
				Format string     `json:"format"`
				Run    string     `json:"run"`
				Wards  []resealed `json:"wards"`
			}{"kasbah.reseal/1", ulid.Make().String(), []resealed{}}
			n := 0
			if p.Box != nil {
				n = len(p.Box.Recipients)
			}
			opens, err := p.Opener()
			if err != nil {
				return err
			}
			for _, w := range p.Wards {
				o := ledger.BeginOptions{ID: doc.Run, Command: a.typed, Reason: why}
				reseal := p.Ledgers[w].Reseal
				if opens != nil {
					reseal = func(ctx context.Context, o ledger.BeginOptions) (bool, error) {
						return p.Ledgers[w].Unseal(ctx, opens, o)
					}
				}
				var unsigned *ledger.UnsignedError
				_, before := p.Ledgers[w].Load(ctx)
				_ = errors.As(before, &unsigned) // anything else the reseal tells itself
				changed, err := reseal(ctx, o)
				if err != nil {
					return err
				}
				if changed && unsigned != nil {
					a.say("%s, %s: its entries up to now are not signed. They are trusted because this machine has read them before.", w, p.Env)
				}
				doc.Wards = append(doc.Wards, resealed{w, changed, n})
				if a.json {
					continue
				}
				switch {
				case !changed:
					a.out().Printf("%s, %s: nothing to do.\n", w, p.Env)
				case n == 0 && opens == nil && len(p.Estate.Writers(p.Env, w)) == 0:
					a.out().Printf("%s, %s: later entries are not signed.\n", w, p.Env)
				case n == 0 && opens == nil:
					a.out().Printf("%s, %s: later entries are signed by those who may write.\n", w, p.Env)
				case n == 0:
					a.out().Printf("%s, %s: later entries are not sealed. Older ones need their keys until they are pruned.\n", w, p.Env)
				default:
					a.out().Printf("%s, %s: later entries are sealed to %s. Older ones are as they were until they are pruned.\n", w, p.Env, render.Count(n, "reader"))
				}
			}
			if a.json {
				return a.document(doc)
			}
			return nil
		},
	}
}

// acceptEnd notes that a ledger was restored from a backup on purpose.
func (a *app) acceptEnd(ctx context.Context, p *session.Session, at int64, why string) error {
	switch {
	case len(p.Wards) != 1:
		return problem.Usage("entries count from 1 in each ward: say which ward's ledger was restored")
	case why == "":
		return problem.Usage("-accept wants a reason: -why \"…\"")
	}
	if err := p.Ledgers[p.Wards[0]].Accept(ctx, at, ledger.BeginOptions{ID: ulid.Make().String(), Command: a.typed, Reason: why}); err != nil {
		return err
	}
	if !a.json {
		a.out().Printf("%s, %s: entry %d counts as its end before now.\n", p.Wards[0], p.Env, at)
	}
	return nil
}
