package cli

import (
	"context"
	"flag"
	"log/slog"
	"strings"

	"kasbah/collector"
	"kasbah/core/alert"
	"kasbah/core/problem"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

func watchCommand() *command {
	var r session.WatchRequest
	form := "text"
	return &command{
		Name: "watch", Short: "survey wards on a schedule, until it is stopped", Args: "[WARD…]", Estate: true,
		Long: "Surveys each ward when [watch] in kasbah.toml says that it is due, in all environments or those of -env, and keeps an alert for each " +
			"difference: `kasbah alerts` lists them. Any number of watchers share the work. A changed kasbah.toml counts from the next survey on.",
		Examples: [2]string{"kasbah watch -env live -address 127.0.0.1:7720", "kasbah watch shore -now -env live"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&r.Once, "once", false, "survey what is due now, and end")
			fs.BoolVar(&r.Now, "now", false, "survey the wards given now, whether they are due or not, and end")
			fs.StringVar(&r.Address, "address", "", "serve a page at this `host:port`, such as 127.0.0.1:7720, with /healthz and /metrics")
			fs.StringVar(&r.Cert, "cert", "", "the page's certificate, a PEM `file`; one that signs itself, when left out beyond this machine")
			fs.StringVar(&r.Key, "key", "", "the key of -cert, a PEM `file`")
			fs.IntVar(&r.AtOnce, "at-once", 2, "how many `wards` of an environment to survey at the same time")
			fs.Var(flags.Choice(&form, "text", "json"), "log", "the `form` of the log: text or json")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if r.Wards = args; a.env != "" {
				r.Envs = strings.Split(a.env, ",")
			}
			if !r.Once && !r.Now {
				collector.Steady()
			}
			for _, file := range []*string{&r.Cert, &r.Key} {
				if *file != "" {
					*file = a.path(*file)
				}
			}
			log := map[string]slog.Handler{"text": slog.NewTextHandler(a.errors, nil), "json": slog.NewJSONHandler(a.errors, nil)}[form]
			n, err := session.Watch(ctx, a.config("", nil), r, a.typed, slog.New(log))
			if err == nil && (r.Once || r.Now) {
				a.out().Printf("%s made, %d failed.\n", render.Count(n.Surveyed, "survey"), n.Failed)
			}
			if err == nil && n.Failed > 0 {
				err = exit.Error(exit.Failed)
			}
			return err
		},
	}
}

func watchTokensCommand() *command {
	var name, revoke string
	rights := alert.Rights[len(alert.Rights)-1]
	return &command{
		Name: "watch tokens", Short: "show, make and revoke tokens of the watcher's page", Estate: true, Takes: noArguments(),
		Long: "Without flags it lists the tokens of an environment. A new token is shown once. The journal keeps a digest of it, so every watcher " +
			"of the environment knows it.",
		Examples: [2]string{"kasbah watch tokens -new keeper-2 -env live", "kasbah watch tokens -revoke keeper-2 -env live"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&name, "new", "", "make a token of this `name`; it is shown this once")
			fs.Var(flags.Choice(&rights, alert.Rights...), "rights", "what it may do: `read`, or acknowledge alerts as well")
			fs.StringVar(&revoke, "revoke", "", "take the token of this `name` away")
		},
		Run: func(ctx context.Context, a *app, _ []string) error {
			s, err := a.open(ctx, nil)
			if err != nil {
				return err
			}
			var list *alert.TokenList
			switch {
			case name != "" && revoke != "":
				return problem.Usage("watch tokens takes one of -new and -revoke")
			case name != "":
				list, err = s.NewWatchToken(ctx, name, rights, a.typed)
			case revoke != "":
				list, err = s.RevokeWatchToken(ctx, revoke, a.typed)
			default:
				list, err = s.WatchTokens(ctx)
			}
			if err != nil {
				return err
			}
			return show(a, list, (*render.Out).WatchTokens)
		},
	}
}
