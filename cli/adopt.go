package cli

import (
	"context"
	"flag"

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
			f.register(fs)
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if f.find && f.ids != "" || !f.find && f.ids == "" && len(args) == 0 {
				return problem.Usage("adopt needs ADDRESS=ID, -ids FILE or -find")
			}
			if f.ids != "" {
				more, err := session.ReadIDs(a.path(f.ids))
				if err != nil {
					return err
				}
				args = append(args, more...)
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
		f.Adopt.Things, err = x.Named(args)
	} else if pairs, err = x.Find(ctx, args, f.andEdit, ask); err == nil {
		f.Adopt.Things = pairs.Things()
		err = show(a, pairs, (*render.Out).Pairs)
	}
	if err == nil && len(f.Adopt.Things) > 0 {
		err = a.takeTurn(ctx, s, f.enactFlags)
	}
	if err == nil && !pairs.Whole() {
		return errDifferent
	}
	return err
}
