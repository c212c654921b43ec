package openapi

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Things that are parts of a whole, such as the record sets of a zone, have no place of
// their own: the whole is read, and is sent back with one part changed, or the part alone
// is sent to it.

// itemPath is the path of a part, which no request is sent to: that of the whole, and what
// tells the part from others.
func (w *wholeExtension) itemPath(whole string) (string, error) {
	if len(w.Key) == 0 || w.At == "" {
		return "", fmt.Errorf("%s in-whole needs at, where in the whole the things are, and key, the properties that "+
			"tell one from others", extension)
	}
	if m := strings.ToUpper(w.Method); m != "" && m != http.MethodPatch && m != http.MethodPut && m != http.MethodPost {
		return "", fmt.Errorf("%s in-whole method: %q is none of PUT, PATCH, POST", extension, w.Method)
	}
	return whole + "/{" + strings.Join(w.Key, "}/{") + "}", nil
}

// alone reports whether a part is sent alone.
func (w *wholeExtension) alone() bool {
	return w.Method != "" && !strings.EqualFold(w.Method, http.MethodPut)
}

// wholeOf reads a whole: what it holds, its parts, and its tag.
func (d *Driver) wholeOf(ctx context.Context, t described, values []string) (m value.Map, parts []any, tag string,
	err error) {
	r, err := d.get(ctx, t.list.fill(values))
	if err != nil {
		return nil, nil, "", err
	}
	if m, err = object(r.body, t.In); err != nil {
		return nil, nil, "", err
	}
	list, ok := dig(m, t.whole.At).([]any)
	if !ok && dig(m, t.whole.At) != nil {
		return nil, nil, "", &driver.Error{Message: fmt.Sprintf("%s answers with something else than a list at %s",
			r.asked, t.whole.At)}
	}
	return m, list, r.header.Get("ETag"), nil
}

// partsOf lists the parts of one whole.
func (d *Driver) partsOf(ctx context.Context, t described, values []string, known value.Map) iter.Seq2[driver.Live,
	error] {
	return func(yield func(driver.Live, error) bool) {
		_, parts, _, err := d.wholeOf(ctx, t, values)
		if err != nil {
			yield(driver.Live{}, err)
			return
		}
		for _, p := range parts {
			m, ok := p.(map[string]any)
			if !ok {
				yield(driver.Live{}, &driver.Error{Message: "the cloud's list holds something else than objects"})
				return
			}
			l, err := t.live(m, "", known)
			if gone(err) {
				continue
			}
			if !yield(l, err) || err != nil {
				return
			}
		}
	}
}

// is reports whether a part is the one that some values tell.
func (w *wholeExtension) is(part any, key value.Map) bool {
	m, ok := part.(map[string]any)
	return ok && !slices.ContainsFunc(w.Key, func(k string) bool { return text(m[k]) != text(key[k]) })
}

// putPart makes a part, or changes one.
func (d *Driver) putPart(ctx context.Context, t described, values []string, known, inputs value.Map, id string,
	made bool, change ...driver.Change) (driver.Live, error) {
	var is *driver.Live
	if made {
		all := make([]string, 0, len(t.whole.Key))
		for _, k := range t.whole.Key {
			v := text(inputs[k])
			if v == "" {
				return driver.Live{}, driver.Refuse("%s is not known, which tells it from others", k)
			}
			all = append(all, v)
		}
		id = t.identity(append(slices.Clone(values), all...))
	} else {
		parts, err := t.parts(id)
		if err != nil {
			return driver.Live{}, driver.Unsent(err)
		}
		values = parts[:len(t.list.params)]
		l, err := d.read(ctx, t, id)
		if err != nil {
			return driver.Live{}, driver.Unsent(err)
		}
		is, inputs = &l, t.replaced(l.Attributes, change[0])
	}
	part := value.Map{}
	for k, v := range inputs {
		if !slices.Contains(t.bare, k) && !slices.Contains(t.list.params, k) {
			part[k] = v
		}
	}
	err := d.sendPart(ctx, t, values, part, func(found bool) error {
		if made && found {
			return driver.Refuse("there is %s with %s already", schema.WithArticle(t.Name), strings.Join(t.whole.Key,
				" and "))
		}
		if is != nil && !found {
			return driver.ErrGone
		}
		return nil
	}, t.whole.Put, false)
	if err != nil {
		if made && driver.OutcomeOf(err) == driver.Unknown { // what it is called is known whatever became of it
			err = driver.Uncertain(err, id)
		}
		return driver.Live{}, err
	}
	live, err := d.partNow(ctx, t, id)
	if made {
		return live, accepted(err, id)
	}
	return live, accepted(err, "")
}

// partNow reads a part after an accepted write.
func (d *Driver) partNow(ctx context.Context, t described, id string) (driver.Live, error) {
	for wait, tries := newWait(), 1; ; tries++ {
		l, err := d.read(ctx, t, id)
		passing, _ := driver.IsPassing(err)
		if err == nil || !passing && tries >= readTries {
			return l, err
		}
		if err := pause(ctx, wait.next()); err != nil {
			return driver.Live{ID: id}, err
		}
	}
}

// dropPart takes a part away.
func (d *Driver) dropPart(ctx context.Context, t described, id string) error {
	parts, err := t.parts(id)
	if err != nil {
		return fmt.Errorf("%w: %w", driver.ErrGone, err)
	}
	part := value.Map{}
	for i, k := range t.whole.Key {
		part[k] = typed(t.Attribute(k), parts[len(t.list.params)+i])
	}
	return d.sendPart(ctx, t, parts[:len(t.list.params)], part, func(found bool) error {
		if !found {
			return driver.ErrGone
		}
		return nil
	}, t.whole.Drop, true)
}

// sendPart sends a part to its whole: alone, or with all others as they are. may says
// whether it is right that one is there, or that none is.
func (d *Driver) sendPart(ctx context.Context, t described, values []string, part value.Map, may func(found bool) error,
	says map[string]any, drop bool) error {
	mine, _ := d.wholes.LoadOrStore(t.list.fill(values), make(chan struct{}, 1))
	select { // what we do to one whole follows one after the other
	case mine.(chan struct{}) <- struct{}{}:
		defer func() { <-mine.(chan struct{}) }()
	case <-ctx.Done():
		return driver.Unsent(ctx.Err())
	}
	whole, all, tag, err := d.wholeOf(ctx, t, values)
	if err != nil {
		return driver.Unsent(err)
	}
	at := slices.IndexFunc(all, func(p any) bool { return t.whole.is(p, part) })
	if err := may(at >= 0); err != nil {
		return err
	}
	method, sent := http.MethodPut, value.Map(nil)
	if t.whole.alone() {
		method = strings.ToUpper(t.whole.Method)
		for k, v := range says {
			if part[k], err = value.Normal(v); err != nil {
				return driver.Unsent(err)
			}
		}
		sent = nested(t.whole.At, []any{part})
	} else {
		switch {
		case drop:
			all = slices.Delete(slices.Clone(all), at, at+1)
		case at >= 0:
			both := maps.Clone(all[at].(map[string]any)) // with what is not ours to say
			maps.Copy(both, part)
			all = slices.Clone(all)
			all[at] = both
		default:
			all = append(slices.Clone(all), any(part))
		}
		sent = whole
		put(sent, steps(t.whole.At), all)
	}
	var body any = sent
	if t.SentIn != nil && *t.SentIn != "" {
		body = nested(*t.SentIn, body)
	}
	header := d.headers("", "")
	header.Set("Content-Type", "application/json")
	if tag != "" {
		header.Set("If-Match", tag)
	}
	r, err := d.send(ctx, method, t.list.fill(values), header, value.JSON(body))
	if err != nil {
		if errors.Is(err, driver.ErrTag) {
			return &driver.Error{Message: fmt.Sprintf("%s was changed meanwhile", t.list.fill(values)), Passing: true,
				NotDone: true}
		}
		return err
	}
	if t.follows(r) && t.Work.place(r) != "" {
		_, err = d.settle(ctx, t.Work, r)
		return accepted(err, "")
	}
	return nil
}

// nested is a value at a place, with nothing beside it.
func nested(place string, v any) value.Map {
	names := steps(place)
	slices.Reverse(names)
	for _, n := range names {
		v = value.Map{n: v}
	}
	return v.(value.Map)
}

// put sets what is at a place; what leads there is made where it is not.
func put(in any, names []string, v any) {
	for _, n := range names[:len(names)-1] {
		var below any
		switch at := in.(type) {
		case map[string]any:
			if below = at[n]; below == nil {
				below = value.Map{}
				at[n] = below
			}
		case []any:
			if i, err := strconv.Atoi(n); err == nil && i >= 0 && i < len(at) {
				below = at[i]
			}
		}
		in = below
	}
	last := names[len(names)-1]
	switch at := in.(type) {
	case map[string]any:
		at[last] = v
	case []any:
		if i, err := strconv.Atoi(last); err == nil && i >= 0 && i < len(at) {
			at[i] = v
		}
	}
}

// action is what is done in place of an edit.
type action struct {
	method string
	at     template
}

// actions reads which values of which properties are reached by an action.
func (info *typeInfo) actions(d *document, t *schema.Type, x *typeExtension) error {
	for _, name := range value.Keys(x.Actions) {
		a := t.Attribute(name)
		if a == nil {
			return fmt.Errorf("%s actions: it has no property %q", extension, name)
		}
		a.Output = false
		for _, v := range value.Keys(x.Actions[name]) {
			method, path, ok := strings.Cut(x.Actions[name][v], " ")
			if !ok || !strings.HasPrefix(path, "/") {
				return fmt.Errorf("%s actions %s: %q is not a method and path, such as POST /lamps/{id}/on", extension,
					name, x.Actions[name][v])
			}
			path, err := d.path(path, info.Parents)
			if err != nil {
				return err
			}
			at, err := parseTemplate(path)
			if err != nil {
				return err
			}
			if len(at.params) != len(info.item.params) {
				return fmt.Errorf("%s actions %s: the path %s has other parameters than %s", extension, name, path,
					info.item.path)
			}
			if info.action == nil {
				info.action = map[string]map[string]action{}
			}
			if info.action[name] == nil {
				info.action[name] = map[string]action{}
			}
			info.action[name][v] = action{strings.ToUpper(method), at}
		}
	}
	return nil
}

// actionsOf takes out of a change what is reached by actions.
func (t described) actionsOf(c driver.Change) (driver.Change, []action, error) {
	if len(t.action) == 0 {
		return c, nil, nil
	}
	var out []action
	c.From, c.To = maps.Clone(c.From), maps.Clone(c.To)
	for _, name := range value.Keys(t.action) {
		to, changes := c.To[name]
		if !changes {
			continue
		}
		a, ok := t.action[name][text(to)]
		if !ok {
			return c, nil, driver.Refuse("%s cannot become %s: there are actions for %s", name, text(to),
				strings.Join(value.Keys(t.action[name]), ", "))
		}
		delete(c.From, name)
		delete(c.To, name)
		out = append(out, a)
	}
	return c, out, nil
}

// act does one action.
func (d *Driver) act(ctx context.Context, t described, a action, key string, known value.Map, id string) (driver.Live,
	error) {
	parts, err := t.parts(id)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	r, err := d.send(ctx, a.method, a.at.fill(parts), d.headers("", key), nil)
	if err != nil {
		return driver.Live{}, err
	}
	if t.follows(r) && t.Work.place(r) != "" {
		if _, err := d.settle(ctx, t.Work, r); err != nil {
			return driver.Live{}, accepted(err, "")
		}
	}
	live, err := d.reread(ctx, t, id)
	if err == nil {
		live, err = d.ready(ctx, t, live, false)
	}
	return live, accepted(err, "")
}
