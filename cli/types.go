package cli

import (
	"context"
	"flag"

	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/flags"
	"kasbah/medina"
	"kasbah/render"
)

// typesFlags say what to do with types other than show them.
type typesFlags struct {
	from, prove, sample, pin, compare, probe string
	overlays                                 flags.List
	draft                                    bool
}

// asked is how many things are asked for; it cannot be more than one.
func (f *typesFlags) asked() (n int) {
	for _, s := range []string{f.from, f.prove, f.pin, f.compare} {
		if s != "" {
			n++
		}
	}
	return n
}

func typesCommand() *command {
	var f typesFlags
	return &command{
		Name: "types", Short: "show what each type takes, with an example to copy; look at what drivers offer",
		Args: "[TYPE|DRIVER]", Estate: true,
		Long: "Without arguments it lists all types. Outside an estate it shows those of the simulated " +
			"cloud. -from looks at an OpenAPI document, -prove tests a driver, -pin and -compare notice " +
			"changes of a driver.",
		Examples: [2]string{"kasbah types medina.machine", "kasbah types -from harbour.openapi.yaml -overlay " +
			"harbour.overlay.yaml"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&f.from, "from", "", "say what an OpenAPI document `file` offers to a driver, and what is "+
				"missing in it")
			fs.Var(&f.overlays, "overlay", "with -from: an Overlay `file` to lay over the document; repeatable")
			fs.BoolVar(&f.draft, "draft", false, "with -from: write an Overlay for what is not described, as a first "+
				"guess")
			fs.StringVar(&f.probe, "probe", "", "with -from: ask the API at this `URL` as well, reading only, and "+
				"complete the draft; as the driver asks that kasbah.toml has for the document")
			fs.StringVar(&f.prove, "prove", "", "run the conformance suite on a driver's `type`: it makes things and "+
				"deletes them again")
			fs.StringVar(&f.sample, "sample", "", "with -prove: a TOML `file` with [inputs] and [edit], what the "+
				"suite may make; {n} in a text is a number")
			fs.StringVar(&f.pin, "pin", "", "pin what a `driver` offers in pins.toml")
			fs.StringVar(&f.compare, "compare", "", "show how a `driver` differs from what is pinned")
		},
		Takes: atMost(1, "one type"),
		Run: func(ctx context.Context, a *app, args []string) error {
			switch {
			case f.asked() > 1:
				return problem.Usage("it takes one of -from, -prove, -pin and -compare")
			case f.asked() == 1 && len(args) > 0:
				return problem.Usage("with -from, -prove, -pin or -compare it takes no type as well: %s", args[0])
			case (f.draft || f.probe != "" || len(f.overlays) > 0) && f.from == "":
				return problem.Usage("-draft, -probe and -overlay belong to -from")
			case f.sample != "" && f.prove == "":
				return problem.Usage("-sample belongs to -prove")
			case f.from != "":
				return a.typesFrom(ctx, f.from, f.overlays, f.draft, f.probe)
			}
			if _, err := estate.Find(a.dir); err != nil && f.asked() == 0 {
				return a.showBuiltIn(ctx, args)
			}
			c := a.config(a.env, nil)
			c.Unpinned = true
			p, err := a.openWith(ctx, c)
			switch {
			case err != nil:
				return err
			case f.prove != "":
				return a.proveDriver(ctx, p, f.prove, f.sample)
			case f.pin != "":
				return a.pinDriver(p, f.pin)
			case f.compare != "":
				return a.compareDriver(p, f.compare)
			}
			return a.showTypes(p.Catalogs, args)
		},
	}
}

// showBuiltIn shows the types of the simulated cloud, where no estate names drivers.
func (a *app) showBuiltIn(ctx context.Context, args []string) error {
	c, err := medina.Describe(ctx)
	if err != nil {
		return err
	}
	a.say("note: no estate found; showing the types of the simulated cloud")
	return a.showTypes(map[string]*schema.Catalog{"medina": c}, args)
}

// showTypes shows all types, those of a driver, or the one that is named.
func (a *app) showTypes(catalogs map[string]*schema.Catalog, args []string) error {
	named := firstOf(args)
	d, err := render.NewTypes(catalogs, named)
	if err != nil {
		return err
	}
	full := named != "" && catalogs[named] == nil
	return show(a, d, func(o *render.Out, d render.TypesDocument) { o.Types(d.Types, full) })
}
