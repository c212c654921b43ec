package medina

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/driver"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Hand is a person's hand on a Medina: its driver, acting for them.
type Hand struct {
	Driver  driver.Driver
	Catalog *schema.Catalog
}

// ByHand connects to a Medina for a person who acts.
func (s Settings) ByHand(ctx context.Context, who string) (*Hand, error) {
	d, err := s.Driver(who)
	if err != nil {
		return nil, err
	}
	c, err := d.Describe(ctx)
	return &Hand{Driver: d, Catalog: c}, err
}

// Type is a type by its name, with or without medina. before it.
func (h *Hand) Type(name string) (*schema.Type, error) {
	name = strings.TrimPrefix(name, "medina.")
	if t := h.Catalog.Types[name]; t != nil {
		return t, nil
	}
	return nil, &problem.UsageError{Message: "Medina has no type " + name, Hint: nearest.HintOr(name,
		h.Catalog.Names())}
}

// Items is the JSON form of what a Medina holds, or of what happened in it.
type Items struct {
	Format string             `json:"format"`
	Items  []value.Attributes `json:"items"`
}

// NewItems is the document of some items.
func NewItems(items ...value.Attributes) *Items {
	return &Items{Format: "kasbah.medina/1", Items: append([]value.Attributes{}, items...)}
}

// item is a thing with its type.
func item(typ string, l driver.Live) value.Attributes {
	out := value.Attributes(value.CloneMap(l.Attributes))
	out["type"] = typ
	return out
}

// List lists the things of a type, or of all types for "".
func (h *Hand) List(ctx context.Context, typ string) (*Items, error) {
	types := h.Catalog.Names()
	if typ != "" {
		t, err := h.Type(typ)
		if err != nil {
			return nil, err
		}
		types = []string{t.Name}
	}
	out := NewItems()
	for _, typ := range types {
		for l, err := range h.Driver.List(ctx, typ) {
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, item(typ, l))
		}
	}
	return out, nil
}

// Show is one thing, by its type, and its id or its name.
func (h *Hand) Show(ctx context.Context, typ, id string) (value.Attributes, error) {
	t, l, err := h.named(ctx, typ, id)
	if err != nil {
		return nil, err
	}
	return item(t.Name, l), nil
}

// Create makes a thing from key=value pairs.
func (h *Hand) Create(ctx context.Context, typ string, pairs []string) (value.Attributes, error) {
	t, err := h.Type(typ)
	if err != nil {
		return nil, err
	}
	inputs, err := readPairs(t, pairs, nil)
	if err != nil {
		return nil, err
	}
	l, err := h.Driver.Create(ctx, t.Name, inputs, "")
	if err != nil {
		return nil, err
	}
	return item(t.Name, l), nil
}

// Edit changes a thing by key=value pairs.
func (h *Hand) Edit(ctx context.Context, typ, id string, pairs []string) (value.Attributes, error) {
	t, l, err := h.named(ctx, typ, id)
	if err != nil {
		return nil, err
	}
	to, err := readPairs(t, pairs, l.Attributes)
	if err != nil {
		return nil, err
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
		return nil, err
	}
	return item(t.Name, l), nil
}

// Delete deletes a thing and returns it.
func (h *Hand) Delete(ctx context.Context, typ, id string) (value.Attributes, error) {
	t, l, err := h.named(ctx, typ, id)
	if err == nil {
		err = h.Driver.Delete(ctx, t.Name, l.ID, "", "")
	}
	if err != nil {
		return nil, err
	}
	return item(t.Name, l), nil
}

// Events lists who changed what, oldest first: of one thing by its id, of all for "", and the
// newest so many of them, all for 0.
func (h *Hand) Events(ctx context.Context, id string, last int) (*Items, error) {
	out := NewItems()
	for e, err := range h.Driver.(driver.Feed).Changes(ctx, driver.Events{ID: id}) {
		if err != nil {
			return nil, err
		}
		if last > 0 && len(out.Items) == last {
			break
		}
		paths := make([]any, len(e.Paths))
		for i, p := range e.Paths {
			paths[i] = p
		}
		out.Items = append(out.Items, value.Attributes{"at": e.At.Format(time.RFC3339Nano), "who": e.Who,
			"what": e.What, "type": e.Type, "id": e.ID, "paths": paths})
	}
	slices.Reverse(out.Items)
	return out, nil
}

// named is a thing by its type, and its id or its name.
func (h *Hand) named(ctx context.Context, typ, id string) (*schema.Type, driver.Live, error) {
	t, err := h.Type(typ)
	if err != nil {
		return nil, driver.Live{}, err
	}
	l, err := h.thing(ctx, t.Name, id)
	return t, l, err
}

// thing finds a thing by its id or its name.
func (h *Hand) thing(ctx context.Context, typ, id string) (driver.Live, error) {
	l, err := h.Driver.Read(ctx, typ, id)
	if err == nil || !errors.Is(err, driver.ErrGone) {
		return l, err
	}
	found, err := h.Driver.Find(ctx, typ, value.Map{"name": id})
	if err != nil {
		return l, err
	}
	switch len(found) {
	case 0:
		// the last part of an address, or of a name that the pattern made
		for l, err := range h.Driver.List(ctx, typ) {
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

// readPairs reads key=value arguments into attributes. What a path leads into is
// taken from old, so that one key of a map can be set alone. An empty value
// takes an attribute away.
func readPairs(t *schema.Type, args []string, old value.Map) (value.Map, error) {
	out := value.Map{}
	for _, arg := range args {
		key, text, ok := strings.Cut(arg, "=")
		path, err := value.ParsePath(key)
		if !ok || err != nil || len(path) == 0 {
			return nil, problem.Usage("%q is not key=value", arg)
		}
		attr := t.Lookup(path)
		if t.Attribute(path[0].Key) == nil || t.Attribute(path[0].Key).Output {
			return nil, &problem.UsageError{Message: fmt.Sprintf("%s has no attribute %s to give",
				schema.WithArticle(t.Name), path[0].Key), Hint: nearest.Hint(path[0].Key, t.AttributeNames())}
		}
		var v any
		if text != "" {
			v = value.Typed(text)
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
