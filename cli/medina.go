package cli

import (
	"context"
	"errors"
	"flag"
	"os"
	"strings"
	"time"

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

// medinaCommand is a command that works on Medina by hand.
func medinaCommand(name, line, args string, examples [2]string, least, most int, more func(*flag.FlagSet), run func(context.Context, *app, *hand, []string) error) *command {
	h := &hand{}
	return &command{
		name: "medina " + name, line: line, args: args, common: true, examples: examples,
		flags: func(fs *flag.FlagSet) {
			h.flags(fs)
			if more != nil {
				more(fs)
			}
		},
		run: func(ctx context.Context, a *app, rest []string) error {
			if len(rest) < least || most >= 0 && len(rest) > most {
				return problem.Usage("kasbah medina %s wants %s", name, args)
			}
			if err := h.open(ctx, a); err != nil {
				return err
			}
			return errors.Join(run(ctx, a, h, rest), h.Driver.Close())
		},
	}
}

func medinaListCommand() *command {
	return medinaCommand("list", "list what the simulated cloud holds", "[TYPE]", [2]string{"kasbah medina list", "kasbah medina list machine -json"}, 0, 1, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			types := h.Catalog.Names()
			if len(args) == 1 {
				t, err := h.Type(args[0])
				if err != nil {
					return err
				}
				types = []string{t.Name}
			}
			doc := itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{}}
			rows := [][]string{{"type", "id", "name", "attributes"}}
			for _, typ := range types {
				for l, err := range h.Driver.List(ctx, typ) {
					if err != nil {
						return err
					}
					doc.Items = append(doc.Items, item(typ, l))
					rows = append(rows, row(typ, l))
				}
			}
			if a.json {
				return a.document(doc)
			}
			if len(rows) == 1 {
				a.out().Printf("Medina is empty.\n")
				return nil
			}
			a.out().Table(rows, a.out().HeadGrey)
			return nil
		})
}

func item(typ string, l driver.Live) value.Attributes {
	out := value.Attributes(value.CloneMap(l.Attributes))
	out["type"] = typ
	return out
}

func row(typ string, l driver.Live) []string {
	rest := value.CloneMap(l.Attributes)
	name, _ := rest["name"].(string)
	delete(rest, "name")
	delete(rest, "id")
	return []string{typ, l.ID, render.Clean(name), render.Clean(strings.Trim(value.Plain(rest), "{}"))}
}

func medinaShowCommand() *command {
	return medinaCommand("show", "show one thing of the simulated cloud", "TYPE ID", [2]string{"kasbah medina show machine mac-0001", "kasbah medina show machine gauge-sallow"}, 2, 2, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, err := h.Type(args[0])
			if err != nil {
				return err
			}
			l, err := h.Thing(ctx, t.Name, args[1])
			if err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
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

func medinaCreateCommand() *command {
	return medinaCommand("create", "make a thing in the simulated cloud by hand", "TYPE key=value…", [2]string{"kasbah medina create network range=10.50.0.0/16 name=spare", "kasbah medina create bucket name=found-things -as keeper-2"}, 1, -1, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, err := h.Type(args[0])
			if err != nil {
				return err
			}
			inputs, err := medina.Pairs(t, args[1:], nil)
			if err != nil {
				return err
			}
			l, err := h.Driver.Create(ctx, t.Name, inputs, "")
			if err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
}

func medinaEditCommand() *command {
	return medinaCommand("edit", "edit a thing of the simulated cloud by hand", "TYPE ID key=value…", [2]string{"kasbah medina edit machine gauge-sallow size=large -as keeper-2", "kasbah medina edit network net-0001 tags.owner=harbour"}, 3, -1, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, err := h.Type(args[0])
			if err != nil {
				return err
			}
			l, err := h.Thing(ctx, t.Name, args[1])
			if err != nil {
				return err
			}
			to, err := medina.Pairs(t, args[2:], l.Attributes)
			if err != nil {
				return err
			}
			from := value.Map{}
			for k, v := range to {
				if old, ok := l.Attributes[k]; ok {
					from[k] = old
				}
				if v == nil {
					delete(to, k)
				}
			}
			if l, err = h.Driver.Update(ctx, t.Name, l.ID, driver.Change{From: from, To: to}, l.Tag, ""); err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
}

func medinaDeleteCommand() *command {
	return medinaCommand("delete", "delete a thing of the simulated cloud by hand", "TYPE ID", [2]string{"kasbah medina delete bucket found-things", "kasbah medina delete machine mac-0004 -as keeper-2"}, 2, 2, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, err := h.Type(args[0])
			if err != nil {
				return err
			}
			l, err := h.Thing(ctx, t.Name, args[1])
			if err != nil {
				return err
			}
			if err := h.Driver.Delete(ctx, t.Name, l.ID, "", ""); err != nil {
				return err
			}
			a.say("deleted %s %s", t.Name, l.ID)
			if a.json {
				return a.document(itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{item(t.Name, l)}})
			}
			return nil
		})
}

func medinaEventsCommand() *command {
	var last int
	return medinaCommand("events", "show who changed what in the simulated cloud, and when", "[ID]", [2]string{"kasbah medina events -last 20", "kasbah medina events mac-0001 -json"}, 0, 1,
		func(fs *flag.FlagSet) { fs.IntVar(&last, "last", 0, "only the newest `events`") },
		func(ctx context.Context, a *app, h *hand, args []string) error {
			id := ""
			if len(args) == 1 {
				id = args[0]
			}
			doc := itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{}}
			rows := [][]string{}
			for e, err := range h.Driver.(driver.Feed).Changes(ctx, "", id) {
				if err != nil {
					return err
				}
				doc.Items = append(doc.Items, value.Attributes{"at": e.At.Format(time.RFC3339Nano), "who": e.Who, "what": e.What, "type": e.Type, "id": e.ID, "paths": texts(e.Paths)})
				rows = append(rows, []string{e.At.Local().Format(time.DateTime), render.Clean(e.Who), e.What, e.Type, e.ID, strings.Join(e.Paths, ", ")})
			}
			if last > 0 && last < len(rows) {
				rows, doc.Items = rows[len(rows)-last:], doc.Items[len(doc.Items)-last:]
			}
			if a.json {
				return a.document(doc)
			}
			if len(rows) == 0 {
				a.out().Printf("Nothing has happened yet.\n")
			}
			a.out().Table(rows, nil)
			return nil
		})
}

func texts(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}
