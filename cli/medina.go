package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"kasbah/core/driver"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
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
	drv   driver.Driver
	cat   *schema.Catalog
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
	if h.drv, err = h.at.Driver(h.as); err != nil {
		return err
	}
	h.cat, err = h.drv.Describe(ctx)
	return err
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
	none := medina.Settings{}
	p, err := a.open(ctx, nil)
	if err != nil {
		return none, err
	}
	with, err := a.settings(p.estate)
	if err != nil {
		return none, err
	}
	for _, drv := range p.estate.Drivers() {
		s := merged(p.estate.Driver(drv, p.env), with, "drivers."+drv+".")
		if s["kind"] == "medina" && (name == "" || name == drv) {
			return p.medinaSettings(ctx, s)
		}
	}
	if name != "" {
		return none, &problem.UsageError{Message: fmt.Sprintf("-driver: no driver of kind medina is called %q", name), Hint: nearest.Hint(name, p.estate.Drivers())}
	}
	return none, problem.Usage("no driver of this estate is of kind medina; -api names one that runs on its own")
}

// medinaSettings reads the settings of a driver of kind medina. Its token is fetched
// when it is needed.
func (p *project) medinaSettings(ctx context.Context, s value.Map) (medina.Settings, error) {
	s = value.CloneMap(s)
	token := s["token"]
	delete(s, "token")
	s, err := p.filledIn(ctx, s)
	if err != nil {
		return medina.Settings{}, err
	}
	out, err := medina.ReadSettings(s, p.estate.Dir)
	if err == nil && token != nil {
		out.Token, err = p.credential("token", token)
	}
	return out, err
}

func (h *hand) typ(name string) (*schema.Type, error) {
	name = strings.TrimPrefix(name, "medina.")
	if t := h.cat.Types[name]; t != nil {
		return t, nil
	}
	hint := nearest.Hint(name, h.cat.Names())
	if hint == "" {
		hint = "there is " + strings.Join(h.cat.Names(), ", ")
	}
	return nil, &problem.UsageError{Message: "Medina has no type " + name, Hint: hint}
}

// thing finds a thing by its id or its name.
func (h *hand) thing(ctx context.Context, typ, id string) (driver.Live, error) {
	l, err := h.drv.Read(ctx, typ, id)
	if err == nil || !errors.Is(err, driver.ErrGone) {
		return l, err
	}
	found, err := h.drv.Find(ctx, typ, value.Map{"name": id})
	if err != nil {
		return l, err
	}
	switch len(found) {
	case 0:
		// the last part of an address, or of a name that the pattern made
		for l, err := range h.drv.List(ctx, typ) {
			if err != nil {
				return l, err
			}
			if name, _ := l.Attributes["name"].(string); strings.HasSuffix(name, "-"+id) {
				found = append(found, l)
			}
		}
		if len(found) == 0 {
			return l, fmt.Errorf("Medina has no %s with the id or name %s", typ, id)
		}
		if len(found) == 1 {
			return found[0], nil
		}
	case 1:
		return found[0], nil
	}
	var ids []string
	for _, f := range found {
		ids = append(ids, f.ID)
	}
	return l, problem.Usage("several of type %s are called %s; write one of %s", typ, id, strings.Join(ids, ", "))
}

// pairs reads key=value arguments into attributes. What a path leads into is
// taken from old, so that one key of a map can be set alone. An empty value
// takes an attribute away.
func pairs(t *schema.Type, args []string, old value.Map) (value.Map, error) {
	out := value.Map{}
	for _, arg := range args {
		key, text, ok := strings.Cut(arg, "=")
		path, err := value.ParsePath(key)
		if !ok || err != nil || len(path) == 0 {
			return nil, problem.Usage("%q is no key=value", arg)
		}
		attr := t.Lookup(path)
		if t.Attribute(path[0].Key) == nil || t.Attribute(path[0].Key).Output {
			return nil, &problem.UsageError{Message: fmt.Sprintf("%s has no attribute %s to give", schema.A(t.Name), path[0].Key), Hint: nearest.Hint(path[0].Key, t.AttributeNames())}
		}
		var v any
		if text != "" {
			v = setting(text)
			if attr != nil && attr.Kind == schema.Text {
				v = text
			}
		}
		top := path[0].Key
		if _, ok := out[top]; !ok {
			out[top] = value.Clone(old[top])
		}
		out[top] = set(out[top], path[1:], v)
	}
	return out, nil
}

func set(into any, path value.Path, v any) any {
	if len(path) == 0 {
		return v
	}
	m, ok := into.(map[string]any)
	if !ok {
		m = value.Map{}
	}
	if below := set(m[path[0].Key], path[1:], v); below == nil {
		delete(m, path[0].Key)
	} else {
		m[path[0].Key] = below
	}
	return m
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
			return errors.Join(run(ctx, a, h, rest), h.drv.Close())
		},
	}
}

func medinaListCommand() *command {
	return medinaCommand("list", "list what the simulated cloud holds", "[TYPE]", [2]string{"kasbah medina list", "kasbah medina list machine -json"}, 0, 1, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			types := h.cat.Names()
			if len(args) == 1 {
				t, err := h.typ(args[0])
				if err != nil {
					return err
				}
				types = []string{t.Name}
			}
			doc := itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{}}
			rows := [][]string{{"type", "id", "name", "attributes"}}
			for _, typ := range types {
				for l, err := range h.drv.List(ctx, typ) {
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
			t, err := h.typ(args[0])
			if err != nil {
				return err
			}
			l, err := h.thing(ctx, t.Name, args[1])
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
			t, err := h.typ(args[0])
			if err != nil {
				return err
			}
			inputs, err := pairs(t, args[1:], nil)
			if err != nil {
				return err
			}
			l, err := h.drv.Create(ctx, t.Name, inputs, "")
			if err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
}

func medinaEditCommand() *command {
	return medinaCommand("edit", "edit a thing of the simulated cloud by hand", "TYPE ID key=value…", [2]string{"kasbah medina edit machine gauge-sallow size=large -as keeper-2", "kasbah medina edit network net-0001 tags.owner=harbour"}, 3, -1, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, err := h.typ(args[0])
			if err != nil {
				return err
			}
			l, err := h.thing(ctx, t.Name, args[1])
			if err != nil {
				return err
			}
			to, err := pairs(t, args[2:], l.Attributes)
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
			if l, err = h.drv.Update(ctx, t.Name, l.ID, driver.Change{From: from, To: to}, l.Tag, ""); err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
}

func medinaDeleteCommand() *command {
	return medinaCommand("delete", "delete a thing of the simulated cloud by hand", "TYPE ID", [2]string{"kasbah medina delete bucket found-things", "kasbah medina delete machine mac-0004 -as keeper-2"}, 2, 2, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, err := h.typ(args[0])
			if err != nil {
				return err
			}
			l, err := h.thing(ctx, t.Name, args[1])
			if err != nil {
				return err
			}
			if err := h.drv.Delete(ctx, t.Name, l.ID, "", ""); err != nil {
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
			for e, err := range h.drv.(driver.Feed).Changes(ctx, "", id) {
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
