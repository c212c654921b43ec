package cli

import (
	"context"
	"errors"
	"flag"
	"strings"

	"kasbah/core/adopt"
	"kasbah/core/problem"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

// adoptFlags are those of adopt.
type adoptFlags struct {
	enactFlags
	request session.AdoptRequest
	from    session.FoundRequest
}

func adoptCommand() *command {
	var f adoptFlags
	return &command{
		Name: "adopt", Short: "bring existing things under management", Args: "[ADDRESS=ID… | PATTERN…]",
		Estate: true, Lines: true,
		Long: "Records things that exist as what the code declares. Nothing in the cloud changes: where a thing " +
			"is not as declared, the run is refused, and says which line differs. -find looks for the things " +
			"itself. [env.NAME.adopt] in kasbah.toml does the same with the next enact.",
		Examples: [2]string{"kasbah adopt -env live shore:medina.network/coast=net-0041", "kasbah adopt -find 'sallow/**' -env trial"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&f.request.IDs, "ids", "", "read addresses and ids from this `file`, CSV or JSON")
			fs.BoolVar(&f.request.Find, "find", false, "find the things of what is declared and not recorded, or of the patterns given")
			fs.BoolVar(&f.request.AndEdit, "and-edit", false, "let the run edit what differs and can be edited")
			fs.BoolVar(&f.request.TakeOver, "take-over", false, "where a thing differs, change the code so that it says what is live")
			fs.StringVar(&f.from.Driver, "from", "", "find what no ledger records in this `driver`'s cloud, and write "+
				"code for it into found.star of -ward; with several -env for all of them")
			fs.Var((*flags.List)(&f.from.Types), "type", "with -from: only things of this `type`; repeatable")
			fs.StringVar(&f.from.Where, "where", "", "with -from: only things for which this Starlark `expression` over r is "+
				"true, such as 'r.tags.owner == \"keepers\"'")
			fs.StringVar(&f.from.Ward, "ward", "", "with -from: the `ward` that declares them")
			fs.BoolVar(&f.from.Kits, "kits", false, "with -from: write resources of the same shape around several roots as a kit")
			fs.BoolVar(&f.request.Dry, "dry", false, "with -find, -from and -take-over: only show what was found, and how files would change")
			f.register(fs)
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			f.request.Args = args
			if f.from.Driver != "" {
				return a.declareFound(ctx, f)
			}
			if f.request.IDs != "" {
				f.request.IDs = a.path(f.request.IDs)
			}
			return a.adopt(ctx, f)
		},
	}
}

func (a *app) adopt(ctx context.Context, f adoptFlags) error {
	if err := errors.Join(f.check(), f.request.Check()); err != nil {
		return err
	}
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	talk := session.AdoptTalk{Changes: a.settleChanges, MayWrite: a.maySettle,
		Found: func(p *adopt.Pairs) error { return show(a, p, (*render.Out).Pairs) },
		TakeTurn: func(ctx context.Context, s *session.Session, what *session.Adopting) error {
			f.Adopt = what
			return a.takeTurn(ctx, s, f.enactFlags)
		}}
	if a.interactive() && !a.yes {
		talk.Likely = func(p adopt.Pair) (bool, error) {
			a.out().LikelyPair(p)
			if err := a.flush(); err != nil {
				return false, err
			}
			answer, err := a.person.Ask(ctx, "Is it this one? Type y:")
			return isYes(answer), err
		}
	}
	whole, err := s.Adopt(ctx, f.request, talk)
	if err == nil && !whole {
		return exit.ErrDifferent
	}
	return err
}

// declareFound writes code for what no ledger records, and adopts it.
func (a *app) declareFound(ctx context.Context, f adoptFlags) error {
	if r := f.request; len(r.Args) > 0 || r.Find || r.IDs != "" || r.TakeOver || f.from.Ward == "" {
		return problem.Usage("adopt -from DRIVER needs -ward, and neither addresses nor -find")
	}
	f.from.Envs, f.from.Dry = strings.Split(a.env, ","), f.request.Dry
	return session.AdoptFound(ctx, f.from, session.FoundTalk{
		Open:     func(env string) (*session.Session, error) { return a.openWith(ctx, a.config(env, nil)) },
		Show:     func(w *adopt.Written) error { return errors.Join(show(a, w, (*render.Out).FoundFile), a.flush()) },
		MayWrite: func() error { return a.agree(ctx, "Write it?") },
		TakeTurn: func(s *session.Session, what *session.Adopting) error {
			f.Adopt = what
			return a.takeTurn(ctx, s, f.enactFlags)
		},
	})
}
