package cli

import (
	"context"
	"flag"
	"kasbah/cli/flags"
	"log/slog"
	"strings"

	"kasbah/collector"
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
		Examples: [2]string{"kasbah watch -env live", "kasbah watch shore -now -env live"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&r.Once, "once", false, "survey what is due now, and end")
			fs.BoolVar(&r.Now, "now", false, "survey the wards given now, whether they are due or not, and end")
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
			log := map[string]slog.Handler{"text": slog.NewTextHandler(a.errors, nil), "json": slog.NewJSONHandler(a.errors, nil)}[form]
			n, err := session.Watch(ctx, a.config("", nil), r, a.typed, slog.New(log))
			if err == nil && (r.Once || r.Now) {
				a.out().Printf("%s made, %d failed.\n", render.Count(n.Surveyed, "survey"), n.Failed)
			}
			if err == nil && n.Failed > 0 {
				err = exitError(exitFailed)
			}
			return err
		},
	}
}
