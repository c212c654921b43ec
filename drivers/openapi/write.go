package openapi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/wI2L/jsondiff"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// headers are those of a write.
func (d *Driver) headers(tag, key string) http.Header {
	h := http.Header{}
	if tag != "" {
		h.Set("If-Match", tag)
	}
	if key != "" {
		// In small letters the HTTP package does not know it, and so does not send a
		// request again by itself when a connection is lost: that a try had no
		// answer must be known here.
		h[strings.ToLower(d.doc.KeyHeader)] = []string{key}
	}
	return h
}

func gone(err error) bool { return errors.Is(err, driver.ErrGone) }

// subject is the thing that a write is about.
type subject struct {
	known value.Map // what its path tells of it
	id    string    // "" where that shows only once it is made
	made  bool      // by this write
}

// write sends one and follows the work until it is done.
func (d *Driver) write(ctx context.Context, t described, method, place string, header http.Header, media string,
	body []byte, of subject) (driver.Live, error) {
	header.Set("Content-Type", media)
	r, err := d.send(ctx, method, place, header, body)
	if err != nil {
		return driver.Live{}, err
	}
	live, err := d.written(ctx, t, r, of)
	made := ""
	if of.made && err != nil {
		made = cmp.Or(live.ID, of.id, t.told(r, of.known))
	}
	return live, accepted(err, made)
}

// written is what an accepted write came to. Its error says nothing about the outcome,
// unless it is an ended one.
func (d *Driver) written(ctx context.Context, t described, r *reply, of subject) (live driver.Live, err error) {
	switch {
	case t.follows(r):
		at, err := d.settle(ctx, t.Work, r)
		if err != nil {
			return live, err
		}
		if live, err = d.outcome(ctx, t, at, r, of); err != nil {
			return live, err
		}
	case len(r.body) == 0 && of.id != "":
		if live, err = d.reread(ctx, t, of.id); err != nil {
			return live, err
		}
	case len(r.body) == 0 && r.header.Get("Location") != "":
		if live, err = d.at(ctx, t, r.leads(r.header.Get("Location")), of.known); err != nil {
			return live, err
		}
	default:
		live, err = t.reply(r, of.known)
		if gone(err) && !of.made { // it takes edits of what it shows to be gone
			return live, errShownGone
		}
		if err != nil && of.id != "" {
			live, err = d.reread(ctx, t, of.id)
		}
		if err != nil {
			return live, err
		}
	}
	return d.ready(ctx, t, live, of.made)
}

// told is the id that the answer to a create tells, whatever became of the rest; "" for
// none.
func (t described) told(r *reply, known value.Map) string {
	m, err := t.object(r.body)
	if err != nil {
		return ""
	}
	live, err := t.live(m, "", value.CloneMap(known))
	if err != nil {
		return ""
	}
	return live.ID
}

// at reads the thing at a place that an accepted write leads to.
func (d *Driver) at(ctx context.Context, t described, place string, known value.Map) (live driver.Live, err error) {
	if t.Unshown {
		id, ok := t.idAt(place)
		if !ok {
			return live, &driver.Error{Message: fmt.Sprintf("what was made is at %s, which is not the address of a %s",
				place, schema.WithArticle(t.Name))}
		}
		return driver.Live{ID: id, Attributes: value.CloneMap(known)}, nil
	}
	if id, ok := t.idAt(place); ok && t.Read == "list" {
		return d.read(ctx, t, id)
	}
	_, err = d.follow(ctx, place, nil, func(r *reply) (err error) {
		live, err = t.reply(r, known)
		return err
	})
	return live, err
}

// reread reads a thing that an accepted write was about.
func (d *Driver) reread(ctx context.Context, t described, id string) (driver.Live, error) {
	place, err := t.place(id)
	if err != nil {
		return driver.Live{}, err
	}
	known, err := t.known(id)
	if err != nil {
		return driver.Live{}, err
	}
	switch t.Read {
	case "none":
		return driver.Live{ID: id, Attributes: known}, nil
	case "list":
		return d.read(ctx, t, id)
	}
	live, err := d.at(ctx, t, place, known)
	if err != nil {
		live = driver.Live{ID: id}
	}
	return live, err
}

// accepted is the error of what follows an accepted write: its outcome is unknown,
// unless the API itself says that the work ended without effect. made is the id of
// what it made, or "".
func accepted(err error, made string) error {
	var e *ended
	if err == nil || errors.As(err, &e) || errors.Is(err, errShownGone) {
		return err
	}
	return driver.Uncertain(err, made)
}

// errShownGone is the error of an edit whose own answer shows that the thing is gone.
var errShownGone = fmt.Errorf("what the cloud answers shows it as gone: %w", driver.ErrGone)

// ended is the error of work that the API took and of which it says that it failed.
type ended struct{ said *driver.Error }

func (e *ended) Error() string { return e.said.Error() }
func (e *ended) Unwrap() error { return e.said }

// Update changes a thing in the way that the API knows, and waits until it is
// done.
func (d *Driver) Update(ctx context.Context, typ, id string, change driver.Change, tag, key string) (driver.Live,
	error) {
	t, err := d.typ(typ)
	if err != nil {
		return driver.Live{}, err
	}
	place, err := t.place(id)
	if err != nil {
		return driver.Live{}, fmt.Errorf("%w: %w", driver.ErrGone, err)
	}
	known, err := t.known(id)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	if t.whole != nil {
		return d.putPart(ctx, t, nil, known, nil, id, false, change)
	}
	change, actions, err := t.actionsOf(change)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	if t.editAt.path != "" {
		parts, err := t.parts(id)
		if err != nil {
			return driver.Live{}, driver.Unsent(err)
		}
		place = t.editAt.fill(parts)
	}
	send := func(tag string, body []byte) (driver.Live, error) {
		return d.write(ctx, t, t.method, place, d.headers(tag, key), t.edits, body, subject{known: known, id: id})
	}
	live, sent := driver.Live{}, false
	if len(actions) == 0 || len(change.To) > 0 || len(change.From) > 0 {
		sent = true
		switch t.edit {
		case "merge-patch":
			live, err = send(tag, t.body(t.edits, mergePatch(change.From, change.To)))
		case "json-patch":
			patch, wrong := jsonPatch(change.From, change.To)
			if wrong != nil {
				return driver.Live{}, driver.Unsent(wrong)
			}
			live, err = send(tag, patch)
		case "put":
			var is driver.Live
			if !t.Unshown {
				var wrong error
				if is, wrong = d.read(ctx, t, id); wrong != nil {
					return driver.Live{}, driver.Unsent(wrong)
				}
			}
			if tag != "" && is.Tag != tag {
				return driver.Live{}, driver.ErrTag
			}
			live, err = send(is.Tag, t.body(t.edits, t.replaced(is.Attributes, change)))
		default:
			return driver.Live{}, driver.Refuse("%s cannot be edited: the API has no way to", schema.WithArticle(typ))
		}
	}
	for _, a := range actions {
		if err != nil {
			return live, err
		}
		live, err = d.act(ctx, t, a, key, known, id)
		if err != nil && sent { // the edit was done, whatever became of this
			err = driver.Uncertain(err, "")
		}
		sent = true
	}
	return live, err
}

// replaced is a thing with a change in it, as a PUT sends it: all that may be given, also
// what others set. What the API does not show, such as a secret, is as it was given.
func (t described) replaced(is value.Map, change driver.Change) value.Map {
	out := value.Map{}
	for _, a := range t.Inputs() {
		v, ok := is[a.Name]
		if !ok {
			v, ok = change.All[a.Name]
		}
		if to, changes := change.To[a.Name]; changes {
			v, ok = to, true
		} else if _, was := change.From[a.Name]; was {
			ok = false
		}
		if ok {
			out[a.Name] = v
		}
	}
	return out
}

// mergePatch is the patch that turns from into to.
func mergePatch(from, to value.Map) value.Map {
	patch := value.Map{}
	for k, v := range to {
		old, had := from[k]
		if had && value.Equal(old, v) {
			continue
		}
		oldMap, ok1 := old.(map[string]any)
		newMap, ok2 := v.(map[string]any)
		if ok1 && ok2 {
			patch[k] = mergePatch(oldMap, newMap)
		} else {
			patch[k] = v
		}
	}
	for k := range from {
		if _, ok := to[k]; !ok {
			patch[k] = nil
		}
	}
	return patch
}

// jsonPatch is the JSON Patch (RFC 6902) that turns from into to.
func jsonPatch(from, to value.Map) ([]byte, error) {
	p, err := jsondiff.CompareJSON(value.JSON(from), value.JSON(to))
	if err != nil {
		return nil, err
	}
	out := make([]any, len(p))
	for i, op := range p {
		m := value.Map{"op": op.Type, "path": op.Path}
		if op.Type != jsondiff.OperationRemove {
			v, err := value.Normal(op.Value)
			if err != nil {
				return nil, err
			}
			m["value"] = v
		}
		out[i] = m
	}
	return value.JSON(out), nil
}

// follows reports whether an answer leads to work that goes on.
func (t described) follows(r *reply) bool {
	if r.status == http.StatusAccepted {
		return t.Work != nil || r.header.Get("Location") != "" || t.Status == nil
	}
	return t.Work != nil && t.Work.place(r) != "" && (t.Work.Header != "" || t.Work.From != "")
}

// place is where an answer says that its work can be followed; "" where it does
// not.
func (w *workExtension) place(r *reply) string {
	if w != nil && w.From != "" {
		v, err := value.Parse(r.body)
		if at, ok := dig(v, w.From).(string); ok && err == nil {
			return r.leads(at)
		}
		return ""
	}
	header := "Location"
	if w != nil {
		header = cmp.Or(w.Header, header)
	}
	return r.leads(r.header.Get(header))
}

// settle follows work that takes time: its place is asked again until it
// answers something else than that it goes on. Where the server can hold the
// answer back it is asked to (RFC 7240, wait), so that nothing is polled.
func (d *Driver) settle(ctx context.Context, w *workExtension, r *reply) (*reply, error) {
	place := w.place(r)
	if place == "" {
		return nil, &driver.Error{Message: r.asked + " is accepted, and the cloud does not say where to follow it"}
	}
	for wait := newWait(); ; {
		asked := time.Now()
		var status any
		r, err := d.follow(ctx, place, http.Header{"Prefer": {"wait=20"}}, func(r *reply) error {
			if w == nil || w.At == "" || len(r.body) == 0 || r.status == http.StatusSeeOther {
				return nil
			}
			v, err := value.Parse(r.body)
			if err != nil {
				return &driver.Error{Message: "what the cloud says of its work is not JSON"}
			}
			status = v
			return nil
		})
		if err != nil {
			return r, err
		}
		if r.status == http.StatusSeeOther {
			return d.follow(ctx, r.leads(r.header.Get("Location")), nil, func(*reply) error { return nil })
		}
		busy := r.status == http.StatusAccepted
		if status != nil {
			switch is := text(dig(status, w.At)); {
			case slices.Contains(w.Failed, is):
				return nil, failed(is, dig(status, w.Says))
			case slices.Contains(w.Busy, is):
				busy = true
			}
		}
		if !busy {
			return r, nil
		}
		if err := pause(ctx, max(retryAfter(r.header.Get("Retry-After")), wait.next())-time.Since(asked)); err != nil {
			return nil, err
		}
	}
}

// failed is the error of work that the cloud took and could not do.
func failed(status string, why any) error {
	msg := "the cloud took the work, and it ended as " + status
	if words := text(why); words != "" {
		msg += ": " + words
	}
	return &ended{driver.Refuse("%s", msg)}
}

// outcome is the thing that finished work was about.
func (d *Driver) outcome(ctx context.Context, t described, at, began *reply, of subject) (driver.Live, error) {
	id, known := of.id, of.known
	if t.Work == nil || t.Work.At == "" {
		if id != "" {
			if live, err := t.reply(at, known); err == nil {
				return live, nil
			}
			return d.reread(ctx, t, id)
		}
		return t.reply(at, known)
	}
	if id == "" {
		v, err := value.Parse(at.body)
		if err != nil {
			return driver.Live{}, err
		}
		result := text(dig(v, t.Work.Result))
		switch {
		case t.Work.Result == "" || result == "":
			if id = t.told(began, known); id == "" {
				return driver.Live{},
					&driver.Error{Message: "the cloud's work is done, and it does not say what it made"}
			}
		case strings.Contains(result, "/"):
			return d.at(ctx, t, at.leads(result), known)
		default:
			values, err := within(t.item.params[:len(t.item.params)-1], known)
			if err != nil {
				return driver.Live{}, err
			}
			id = t.identity(append(values, result))
		}
	}
	return d.reread(ctx, t, id)
}

// ready waits until a thing's own status says that nothing goes on with it. One
// that was made and failed is deleted again, so that nothing is left behind.
func (d *Driver) ready(ctx context.Context, t described, live driver.Live, made bool) (driver.Live, error) {
	if t.Status == nil {
		return live, nil
	}
	for wait := newWait(); ; {
		status := text(dig(live.Attributes, t.Status.At))
		if slices.Contains(t.Status.Failed, status) {
			err := failed(status, dig(live.Attributes, t.Status.Message))
			if !made {
				return live, err
			}
			if e := d.Delete(ctx, t.Name, live.ID, "", ""); e != nil && !gone(e) {
				return live, &driver.Error{Message: fmt.Sprintf("%v; what it made is still there as %s and could not "+
					"be deleted: %v", err, live.ID, e)}
			}
			return live, err
		}
		if !slices.Contains(t.Status.Busy, status) {
			return live, nil
		}
		if err := pause(ctx, wait.next()); err != nil {
			return live, err
		}
		now, err := d.reread(ctx, t, live.ID)
		if err != nil {
			if gone(err) && made {
				return live, &ended{driver.Refuse("the cloud took the work, and what it made is gone again")}
			}
			return live, err
		}
		live = now
	}
}

// vanish waits until a deleted thing is gone.
func (d *Driver) vanish(ctx context.Context, t described, id string) error {
	for wait := newWait(); ; {
		live, err := d.read(ctx, t, id)
		if gone(err) {
			return nil
		}
		if passing, _ := driver.IsPassing(err); err != nil && !passing {
			return err
		}
		if s := t.Status; s != nil && err == nil {
			if status := text(dig(live.Attributes, s.At)); slices.Contains(s.Failed, status) {
				return failed(status, dig(live.Attributes, s.Message))
			}
		}
		if err := pause(ctx, wait.next()); err != nil {
			return err
		}
	}
}

// wait is how long to wait between two questions: longer each time.
type wait struct{ d time.Duration }

func newWait() *wait { return &wait{50 * time.Millisecond} }

func (w *wait) next() time.Duration {
	w.d = min(w.d*2, 5*time.Second)
	return w.d
}

func pause(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
