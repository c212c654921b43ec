package cli

import (
	"context"
	"flag"
	"path/filepath"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/demo"
	"kasbah/render"
	"kasbah/session"
)

func startCommand() *command {
	var c demo.Choices
	var seal string
	return &command{
		Name: "start", Short: "write a small working estate with Medina embedded; asks what it is to hold", Args: "DIR",
		Long: "Writes kasbah.toml and a first ward with a few resources of the simulated cloud, and makes a " +
			"key that encrypts the ledger. Nothing is written over. At a terminal it asks for names; " +
			"flags or -yes take the defaults.",
		Examples: [2]string{"kasbah start lantern-coast", "kasbah start . -envs trial,live -parts kit,rules -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&c.Estate, "estate", "", "the estate's `name`; the folder's when left out")
			fs.StringVar(&c.Ward, "ward", "", "the first ward's `name`; shore when left out")
			fs.StringVar(&c.Envs, "envs", "", "the `environments`, with commas; trial when left out")
			fs.StringVar(&c.Parts, "parts", "", "add these `parts`, with commas: kit (a reusable part and its "+
				"tests), rules (house rules and their tests)")
			fs.StringVar(&seal, "seal", "all", "all makes a key and encrypts the ledger; off does not, and no "+
				"secret can be recorded then")
		},
		Takes: exactly(1, "one folder"),
		Run: func(ctx context.Context, a *app, args []string) error {
			if seal != "all" && seal != "off" {
				return problem.Usage("-seal is all or off, not %q", seal)
			}
			return a.start(ctx, args[0], c, seal == "all")
		},
	}
}

// startDocument is the JSON form of what start wrote.
type startDocument struct {
	Format string   `json:"format"`
	Dir    string   `json:"dir"`
	Files  []string `json:"files"`
}

func (a *app) start(ctx context.Context, named string, c demo.Choices, sealed bool) error {
	dir := a.path(named)
	ask := a.interactive() && !a.yes && c == demo.Choices{}
	if err := a.at().Choose(ctx, &c, estateNamed(dir), ask); err != nil {
		return err
	}
	all, err := demo.Files(c)
	if err != nil {
		return err
	}
	if err := demo.NothingThere(dir, all); err != nil {
		return err
	}
	said := ""
	if sealed {
		if c.Sealing, said, err = session.NewSealing(a.home, a.acting()); err != nil {
			return err
		}
		if all, err = demo.Files(c); err != nil {
			return err
		}
	}
	files, err := demo.Write(dir, all)
	if err != nil {
		return err
	}
	return show(a, startDocument{"kasbah.start/1", dir, files}, func(out *render.Out, _ startDocument) {
		out.Started(named, files, said, c.EnvNames())
	})
}

// estateNamed is the name that an estate in a folder has unless another one is given: the
// folder's own, where that can be one.
func estateNamed(dir string) string {
	abs, err := filepath.Abs(dir)
	if name := strings.ToLower(filepath.Base(abs)); err == nil && estate.IsName(name) {
		return name
	}
	return "lantern-coast"
}
