package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"os"
	"strings"

	"kasbah/core/driver"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
	"kasbah/medina"
	"kasbah/render"
)

// itemsDocument is the JSON form of what Medina holds.
type itemsDocument struct {
	Format string             `json:"format"`
	Items  []value.Attributes `json:"items"`
}

// hand is a person's hand on Medina: the driver, and whom it acts for.
type hand struct {
	as    string
	api   string
	token string // the file it stands in
	ca    string
	name  string // of the estate's driver
	at    medina.Settings
	*medina.Hand
}

func (h *hand) flags(fs *flag.FlagSet) {
	fs.StringVar(&h.as, "as", "", "`who` acts; you, when left out")
	fs.StringVar(&h.api, "api", "", "the `URL` of a Medina that runs on its own")
	fs.StringVar(&h.token, "token", "", "with -api: the `file` that holds your token")
	fs.StringVar(&h.ca, "ca", "", "with -api: a `file` of certificates to check its own against")
	fs.StringVar(&h.name, "driver", "", "the estate's driver of this `name`; the first one of kind medina")
}

// open finds the Medina of the estate, or the one at -api.
func (h *hand) open(ctx context.Context, a *app) error {
	if h.as == "" {
		h.as = a.acting()
	}
	var err error
	switch {
	case h.api != "":
		h.at = medina.Settings{API: h.api}
		if h.ca != "" {
			h.at.CA = a.path(h.ca)
		}
		if h.token != "" {
			h.at.Token = tokenFile(a.path(h.token))
		}
	case h.token != "" || h.ca != "":
		return problem.Usage("-token and -ca belong to -api; the estate's driver has them in kasbah.toml")
	default:
		if h.at, err = a.estatesMedina(ctx, h.name); err != nil {
			return err
		}
	}
	if h.Hand, err = h.at.ByHand(ctx, h.as); err != nil {
		return err
	}
	return nil
}

// tokenFile reads a token from a file, when it is first needed.
func tokenFile(path string) openapi.Credential {
	return func(context.Context, bool) (string, error) {
		body, err := os.ReadFile(path)
		return strings.TrimSpace(string(body)), err
	}
}

// estatesMedina are the settings of an estate's driver of kind medina: the one of
// that name, or the first.
func (a *app) estatesMedina(ctx context.Context, name string) (medina.Settings, error) {
	s, err := a.open(ctx, nil)
	if err != nil {
		return medina.Settings{}, err
	}
	return s.Medina(ctx, name)
}

// medinaCommand completes a command that works on Medina by hand, with at least and at most so
// many arguments; -1 for no limit.
func medinaCommand(c command, least, most int, run func(context.Context, *app, *hand, []string) error) *command {
	h, own := &hand{}, c.Flags
	c.Estate = true
	c.Flags = func(fs *flag.FlagSet) {
		h.flags(fs)
		if own != nil {
			own(fs)
		}
	}
	c.Run = func(ctx context.Context, a *app, args []string) error {
		if len(args) < least || most >= 0 && len(args) > most {
			return problem.Usage("kasbah %s takes %s", c.Name, cmp.Or(c.Args, "no arguments"))
		}
		if err := h.open(ctx, a); err != nil {
			return err
		}
		return errors.Join(run(ctx, a, h, args), h.Driver.Close())
	}
	return &c
}

func item(typ string, l driver.Live) value.Attributes {
	out := value.Attributes(value.CloneMap(l.Attributes))
	out["type"] = typ
	return out
}

func (a *app) showThing(typ string, l driver.Live) error {
	if a.json {
		return a.document(itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{item(typ, l)}})
	}
	var rows [][]string
	for _, k := range value.Keys(l.Attributes) {
		rows = append(rows, []string{"  " + k, render.Clean(value.Plain(l.Attributes[k]))})
	}
	a.out().Printf("%s %s\n", typ, l.ID)
	a.out().Table(rows, nil)
	return nil
}
