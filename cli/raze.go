package cli

import (
	"context"
	"flag"
)

func razeCommand() *command {
	var f enactFlags
	return &command{
		Name: "raze", Short: "remove everything in the wards", Args: "[WARD…]", Estate: true, Lines: true,
		Long: "Proposes to drop every resource of the wards, and asks for the wards' names before it does. " +
			"Guarded resources, and those that another ward uses, are refused.",
		Examples: [2]string{"kasbah raze shore -env trial", "kasbah raze -yes -allow data"},
		Flags: func(fs *flag.FlagSet) {
			f.register(fs)
			fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			f.Raze = true
			return a.enactWards(ctx, f, args)
		},
	}
}
