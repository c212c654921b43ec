package cli

import (
	"context"
	"errors"
	"flag"
	"strings"

	"kasbah/core/adopt"
	"kasbah/core/problem"
	"kasbah/render"
	"kasbah/session"
)

// adoptFlags are those of adopt.
type adoptFlags struct {
	enactFlags
	ids           string // a file of addresses and ids
	find, andEdit bool
	dry           bool // only show what was found
	from          session.FoundRequest
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
			fs.StringVar(&f.ids, "ids", "", "read addresses and ids from this `file`, CSV or JSON")
			fs.BoolVar(&f.find, "find", false, "find the things of what is declared and not recorded, or of the patterns given")
			fs.BoolVar(&f.andEdit, "and-edit", false, "let the run edit what differs and can be edited")
			fs.StringVar(&f.from.Driver, "from", "", "find what no ledger records in this `driver`'s cloud, and write "+
				"code for it into found.star of -ward; with several -env for all of them")
			fs.Var((*listFlag)(&f.from.Types), "type", "with -from: only things of this `type`; repeatable")
			fs.StringVar(&f.from.Where, "where", "", "with -from: only things for which this Starlark `expression` over r is "+
				"true, such as 'r.tags.owner == \"keepers\"'")
			fs.StringVar(&f.from.Ward, "ward", "", "with -from: the `ward` that declares them")
			fs.BoolVar(&f.dry, "dry", false, "with -find and -from: only show what was found")
			f.register(fs)
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if f.from.Driver != "" {
				return a.declareFound(ctx, f, args)
			}
			if f.find && f.ids != "" || !f.find && f.ids == "" && len(args) == 0 {
				return problem.Usage("adopt needs ADDRESS=ID, -ids FILE, -find or -from DRIVER")
			}
			return a.adopt(ctx, f, args)
		},
	}
}

func (a *app) adopt(ctx context.Context, f adoptFlags, args []string) error {
	if err := f.check(); err != nil {
		return err
	}
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	x, err := s.Adoptable(ctx)
	if err != nil {
		return err
	}
	pairs, ask := &adopt.Pairs{}, func(p adopt.Pair) (bool, error) {
		a.out().LikelyPair(p)
		if err := a.flush(); err != nil {
			return false, err
		}
		answer, err := a.ask(ctx, "Is it this one? Type y:")
		return isYes(answer), err
	}
	if !a.interactive() || a.yes {
		ask = nil
	}
	f.Adopt = &session.Adopting{AndEdit: f.andEdit}
	if !f.find {
		f.Adopt.Things, err = x.Named(args, f.ids, a.path)
	} else if pairs, err = x.Find(ctx, args, f.andEdit, ask); err == nil {
		f.Adopt.Things = pairs.Things()
		err = show(a, pairs, (*render.Out).Pairs)
	}
	if err == nil && len(f.Adopt.Things) > 0 && !(f.dry && f.find) {
		err = a.takeTurn(ctx, s, f.enactFlags)
	}
	if err == nil && !pairs.Whole() {
		return errDifferent
	}
	return err
}

// declareFound writes code for what no ledger records, and adopts it.
func (a *app) declareFound(ctx context.Context, f adoptFlags, args []string) error {
	if len(args) > 0 || f.find || f.ids != "" || f.from.Ward == "" {
		return problem.Usage("adopt -from DRIVER needs -ward, and neither addresses nor -find")
	}
	envs := strings.Split(a.env, ",")
	s, err := a.openWith(ctx, a.config(envs[0], nil))
	if err != nil {
		return err
	}
	envs[0], f.from.Envs = s.Env, envs
	file, err := s.DeclareFound(ctx, f.from)
	if err != nil {
		return err
	}
	if err := show(a, file.Written, (*render.Out).FoundFile); err != nil || file.Count() == 0 || f.dry {
		return err
	}
	if err = errors.Join(a.flush(), a.agree(ctx, "Write it?")); err == nil {
		err = file.Write()
	}
	for i := 0; i < len(envs) && err == nil; i++ {
		f.Adopt = file.Adopting(envs[i])
		if s, err = a.openWith(ctx, a.config(envs[i], nil)); err == nil {
			err = file.Ended(ctx, s, a.takeTurn(ctx, s, f.enactFlags))
		}
	}
	return err
}
