package cli

import (
	"context"
	"flag"

	"kasbah/core/ledger"
	"kasbah/render"
)

func publishedCommand() *command {
	var users bool
	return &command{
		Name: "published", Short: "show the values that wards publish, as the last run left them",
		Args: "[WARD [NAME]]", Estate: true,
		Long: "Prints the values that wards publish for others, from the ledger. It reads no cloud. -users says who " +
			"reads each: wards of this estate, and of the other ones that kasbah.toml names.",
		Examples: [2]string{"kasbah published -users", "kasbah published shore quay_ids -json"},
		Flags:    func(fs *flag.FlagSet) { fs.BoolVar(&users, "users", false, "say who reads each value") },
		Takes:    atMost(2, "a ward and a name"),
		Run: func(ctx context.Context, a *app, args []string) error {
			s, err := a.open(ctx, args[:min(1, len(args))])
			if err != nil {
				return err
			}
			if len(args) < 2 {
				args = []string{"", ""}
			}
			d, err := s.Published(ctx, args[1], users)
			if err != nil {
				return err
			}
			return show(a, d, func(o *render.Out, d *ledger.ValuesDocument) { o.Published(d, args[1]) })
		},
	}
}
