package cli

import (
	"context"
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/demo"
	"kasbah/render"
	"kasbah/session"
)

// choices are what a new estate is made of.
type choices struct {
	estate string
	ward   string
	envs   string // names with commas between them
	parts  string // of demo.PartNames, with commas between them
	seal   string // all or off
}

func startCommand() *command {
	var c choices
	return &command{
		Name: "start", Short: "write a small working estate with Medina embedded; asks what it is to hold", Args: "DIR",
		Long: "Writes kasbah.toml and a first ward with a few resources of the simulated cloud, and makes a " +
			"key that encrypts the ledger. Nothing is written over. At a terminal it asks for names; " +
			"flags or -yes take the defaults.",
		Examples: [2]string{"kasbah start lantern-coast", "kasbah start . -envs trial,live -parts kit,rules -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&c.estate, "estate", "", "the estate's `name`; the folder's when left out")
			fs.StringVar(&c.ward, "ward", "", "the first ward's `name`; shore when left out")
			fs.StringVar(&c.envs, "envs", "", "the `environments`, with commas; trial when left out")
			fs.StringVar(&c.parts, "parts", "", "add these `parts`, with commas: kit (a reusable part and its "+
				"tests), rules (house rules and their tests)")
			fs.StringVar(&c.seal, "seal", "all", "all makes a key and encrypts the ledger; off does not, and no "+
				"secret can be recorded then")
		},
		Takes: exactly(1, "one folder"),
		Run: func(ctx context.Context, a *app, args []string) error {
			dir := args[0]
			if !filepath.IsAbs(dir) {
				dir = filepath.Join(a.dir, dir)
			}
			if err := c.choose(ctx, a, estateNamed(dir)); err != nil {
				return err
			}
			all, err := demo.Files(demo.Choices{Estate: c.estate, Ward: c.ward, Envs: strings.Split(c.envs, ","),
				Parts: strings.Split(c.parts, ",")})
			if err != nil {
				return err
			}
			if err := demo.NothingThere(dir, all); err != nil {
				return err
			}
			said := ""
			switch c.seal {
			case "all":
				var lines string
				if lines, said, err = session.NewSealing(a.home, a.acting()); err != nil {
					return err
				}
				all[estate.File] = []byte(strings.Replace(string(all[estate.File]), "path  = \".kasbah/ledger\"\n",
					"path  = \".kasbah/ledger\"\n"+lines, 1))
			case "off":
			default:
				return problem.Usage("-seal is all or off, not %q", c.seal)
			}
			files, err := demo.Write(dir, all)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.start/1", "dir": dir, "files": files})
			}
			out := a.out()
			for _, f := range files {
				out.Printf("wrote %s\n", filepath.Join(args[0], f))
			}
			if said != "" {
				out.Printf("%s\n", render.Wrap(said, a.outWidth, "  "))
			}
			env := ""
			if envs := strings.Split(c.envs, ","); len(envs) > 1 {
				env = " -env " + envs[0]
			}
			out.Printf("\nNext:\n")
			if filepath.Clean(args[0]) != "." {
				out.Printf("  cd %s\n", quotedWord(args[0]))
			}
			out.Printf("  kasbah propose%s\n  kasbah enact%s\n", env, env)
			return nil
		},
	}
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

// choose asks at a terminal for what no flag gave, and checks what was given.
func (c *choices) choose(ctx context.Context, a *app, name string) error {
	ask := a.interactive() && !a.yes && !a.json && *c == choices{seal: c.seal}
	for _, q := range []struct {
		to             *string
		question, flag string
		otherwise      string
		many           bool     // several may be given, with commas between them
		known          []string // what may stand in a list; nil for names
		none           bool     // it may be empty
	}{
		{to: &c.estate, question: "Name of the estate", flag: "-estate", otherwise: name},
		{to: &c.ward, question: "Its first ward, a folder of declarations", flag: "-ward", otherwise: "shore"},
		{to: &c.envs, question: "Its environments, with commas between them", flag: "-envs", otherwise: "trial",
			many: true},
		{to: &c.parts, question: "Add what, with commas: kit (a reusable part), rules (house rules)", flag: "-parts",
			many: true, known: demo.PartNames, none: true},
	} {
		for {
			var err error
			if ask {
				shown := q.otherwise
				if q.none {
					shown = "none"
				}
				if *q.to, err = a.ask(ctx, fmt.Sprintf("%s [%s]:", q.question, shown)); err != nil {
					return err
				}
				if q.none && *q.to == "none" {
					*q.to = ""
				}
			}
			if *q.to == "" {
				*q.to = q.otherwise
			}
			if err = checkNames(q.to, q.flag, q.many, q.known); err == nil {
				break
			}
			if !ask {
				return err
			}
			a.say("    %v", err)
		}
	}
	return nil
}

// checkNames checks a name, or several with commas between them, around which
// spaces are taken out.
func checkNames(list *string, flag string, many bool, known []string) error {
	if *list == "" {
		return nil
	}
	names := []string{*list}
	if many {
		names = strings.Split(*list, ",")
		for i := range names {
			names[i] = strings.TrimSpace(names[i])
		}
		*list = strings.Join(names, ",")
	}
	for _, name := range names {
		switch {
		case known != nil && !slices.Contains(known, name):
			return &problem.UsageError{Message: fmt.Sprintf("%s: there is no part %q, only %s", flag, name,
				strings.Join(known, " and ")), Hint: nearest.Hint(name, known)}
		case !estate.IsName(name):
			return problem.Usage("%s: %q is not a valid name: use a-z, 0-9 and -, starting with a letter", flag, name)
		}
	}
	return nil
}
