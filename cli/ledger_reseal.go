package cli

import (
	"context"
	"errors"
	"flag"

	"github.com/oklog/ulid/v2"

	"kasbah/core/ledger"
	"kasbah/render"
)

func ledgerResealCommand() *command {
	var why string
	return &command{
		Name: "ledger reseal", Short: "let the recipients in kasbah.toml, and only them, read the ledger from now on",
		Args: "[WARD…]", Estate: true,
		Long: "Applies recipients, writers and the estate's key from kasbah.toml to the ledger. Run it " +
			"after key admit and key dismiss, in each environment.",
		Examples: [2]string{"kasbah ledger reseal -env live -why \"keeper-3 has come\"", "kasbah ledger reseal shore"},
		Flags:    func(fs *flag.FlagSet) { fs.StringVar(&why, "why", "", "the `reason`, for the history") },
		Run: func(ctx context.Context, a *app, args []string) error {
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
					a.say("%s, %s: its entries up to now are not signed. They are trusted because this machine has "+
						"read them before.", w, p.Env)
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
					a.out().Printf("%s, %s: later entries are not sealed. Older ones need their keys until they are "+
						"pruned.\n", w, p.Env)
				default:
					a.out().Printf("%s, %s: later entries are sealed to %s. Older ones are as they were until they "+
						"are pruned.\n", w, p.Env, render.Count(n, "reader"))
				}
			}
			if a.json {
				return a.document(doc)
			}
			return nil
		},
	}
}
