package cli

import (
	"context"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/value"
	"kasbah/render"
	"kasbah/session"
)

// keyDocument is the JSON form of public keys of this machine.
type keyDocument struct {
	Format string   `json:"format"`
	File   string   `json:"file"` // that keeps the private ones
	Public []string `json:"public"`
}

// showKeys prints public keys.
func (a *app) showKeys(file string, public ...string) error {
	return show(a, keyDocument{"kasbah.key/1", file, append([]string{}, public...)}, func(o *render.Out, d keyDocument) {
		for _, k := range d.Public {
			o.Printf("%s\n", k)
		}
	})
}

// keyChanges says in words what changed.
func keyChanges(r *session.Readers) []string {
	var said []string
	for _, key := range value.Keys(r.Changed) {
		said = append(said, render.Count(len(r.Changed[key]), strings.TrimSuffix(key, "s")))
	}
	if r.Rekeyed {
		said = append(said, "another estate_key")
	}
	return said
}

// changeKeys rewrites who reads and writes in kasbah.toml, and tells what to renew.
func (a *app) changeKeys(ctx context.Context, change func(*estate.Estate, *session.KeyChange) error) error {
	done, err := session.ChangeKeys(ctx, a.config("", nil), change)
	if err != nil {
		return err
	}
	return show(a, done, func(out *render.Out, done *session.Readers) {
		out.Printf("%s has %s now. `kasbah ledger reseal` makes them the ledger's, in each environment.\n", estate.File,
			strings.Join(keyChanges(done), " and "))
		if len(done.Renew) > 0 {
			out.Printf("What they could read they know. Renew:\n")
			for _, s := range done.Renew {
				out.Printf("  %s\n", render.Clean(s))
			}
		}
	})
}
