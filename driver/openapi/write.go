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

	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/driver"
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

// write sends one and follows the work until it is done. known is what the path
// tells of the thing, and id what it is, where it is there already.
func (d *Driver) write(ctx context.Context, t described, method, place string, header http.Header, media string, body []byte, known value.Map, id string) (driver.Live, error) {
	header.Set("Content-Type", media)
	r, err := d.send(ctx, method, place, header, body)
	if err != nil {
		return driver.Live{}, err
	}
	var live driver.Live
	switch {
	case t.follows(r):
		at, err := d.settle(ctx, t.Work, r)
		if err != nil {
			return driver.Live{}, err
		}
		if live, err = d.outcome(ctx, t, at, r, known, id); err != nil {
			return driver.Live{}, err
		}
	case len(r.body) == 0 && id != "":
		if live, err = d.read(ctx, t, id); err != nil {
			return driver.Live{}, err
		}
	case len(r.body) == 0 && r.header.Get("Location") != "":
		if r, err = d.get(ctx, r.leads(r.header.Get("Location"))); err != nil {
			return driver.Live{}, err
		}
		fallthrough
	default:
		if live, err = t.reply(r, known); err != nil {
			return driver.Live{}, unclear(err)
		}
	}
	return d.ready(ctx, t, live, id == "")
}

// unclear marks the error of a write that the API took and whose answer makes
// no sense.
func unclear(err error) error {
	var e *driver.Error
	if errors.As(err, &e) {
		marked := *e
		marked.Unclear = true
		return &marked
	}
	return &driver.Error{Message: err.Error(), Unclear: true}
}

// Update changes a thing in the way that the API knows, and waits until it is
// done.
func (d *Driver) Update(ctx context.Context, typ, id string, change driver.Change, tag, key string) (driver.Live, error) {
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
		return driver.Live{}, err
	}
	send := func(method, media, tag string, body []byte) (driver.Live, error) {
		return d.write(ctx, t, method, place, d.headers(tag, key), media, body, known, id)
	}
	switch t.edit {
	case "merge-patch":
		return send(http.MethodPatch, mergeType, tag, t.body(mergePatch(change.From, change.To)))
	case "json-patch":
		patch, err := jsonPatch(change.From, change.To)
		if err != nil {
			return driver.Live{}, err
		}
		return send(http.MethodPatch, patchType, tag, patch)
	case "put":
		is, err := d.read(ctx, t, id)
		if err != nil {
			return driver.Live{}, err
		}
		if tag != "" && is.Tag != tag {
			return driver.Live{}, driver.ErrTag
		}
		return send(http.MethodPut, "application/json", is.Tag, t.body(t.whole(is.Attributes, change)))
	}
	return driver.Live{}, &driver.Error{Message: fmt.Sprintf("%s cannot be edited: the API has no way to", schema.A(typ))}
}

// whole is a thing with a change in it, as a PUT sends it: all that may be given,
// also what others set.
func (t described) whole(is value.Map, change driver.Change) value.Map {
	out := value.Map{}
	for _, a := range t.Inputs() {
		if v, ok := is[a.Name]; ok {
			out[a.Name] = v
		}
	}
	for _, m := range []value.Map{change.All, change.To} {
		for k, v := range m {
			out[k] = v
		}
	}
	for k := range change.From {
		if _, ok := change.To[k]; !ok {
			delete(out, k)
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
		return nil, &driver.Error{Message: "the cloud accepted the work and does not say where to follow it", Unclear: true}
	}
	for wait := newWait(); ; {
		asked := time.Now()
		var err error
		r, err = d.send(ctx, http.MethodGet, place, http.Header{"Prefer": {"wait=20"}}, nil)
		if passing, after := driver.IsPassing(err); passing {
			if err := pause(ctx, max(after, 500*time.Millisecond)); err != nil {
				return nil, err
			}
			continue
		}
		if err != nil {
			return r, err
		}
		if r.status == http.StatusSeeOther {
			return d.get(ctx, r.leads(r.header.Get("Location")))
		}
		busy := r.status == http.StatusAccepted
		if w != nil && w.At != "" && len(r.body) > 0 {
			v, err := value.Parse(r.body)
			if err != nil {
				return nil, &driver.Error{Message: "what the cloud says of its work is no JSON", Unclear: true}
			}
			switch status := text(dig(v, w.At)); {
			case slices.Contains(w.Failed, status):
				return nil, failed(status, dig(v, w.Says))
			case slices.Contains(w.Busy, status):
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
	return &driver.Error{Message: msg}
}

// outcome is the thing that finished work was about.
func (d *Driver) outcome(ctx context.Context, t described, at, began *reply, known value.Map, id string) (driver.Live, error) {
	if t.Work == nil || t.Work.At == "" {
		if len(at.body) == 0 && id != "" {
			return d.read(ctx, t, id)
		}
		live, err := t.reply(at, known)
		if err != nil {
			err = unclear(err)
		}
		return live, err
	}
	if id == "" {
		v, err := value.Parse(at.body)
		if err != nil {
			return driver.Live{}, unclear(err)
		}
		result := text(dig(v, t.Work.Result))
		switch {
		case t.Work.Result == "" || result == "":
			m, err := object(began.body, t.In)
			if err != nil || m[t.ID] == nil {
				return driver.Live{}, &driver.Error{Message: "the cloud's work is done, and it does not say what it made", Unclear: true}
			}
			live, err := t.live(m, "", known)
			if err != nil {
				return driver.Live{}, unclear(err)
			}
			id = live.ID
		case strings.Contains(result, "/"):
			r, err := d.get(ctx, at.leads(result))
			if err != nil {
				return driver.Live{}, err
			}
			return t.reply(r, known)
		default:
			values, err := within(t.item.params[:len(t.item.params)-1], known)
			if err != nil {
				return driver.Live{}, unclear(err)
			}
			id = t.identity(append(values, result))
		}
	}
	return d.read(ctx, t, id)
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
				return live, &driver.Error{Message: fmt.Sprintf("%v; what it made is still there as %s and could not be deleted: %v", err, live.ID, e), Unclear: true}
			}
			return live, err
		}
		if !slices.Contains(t.Status.Busy, status) {
			return live, nil
		}
		if err := pause(ctx, wait.next()); err != nil {
			return live, err
		}
		var err error
		if live, err = d.read(ctx, t, live.ID); err != nil {
			if gone(err) && made {
				return live, &driver.Error{Message: "the cloud took the work, and what it made is gone again"}
			}
			return live, err
		}
	}
}

// vanish waits until a deleted thing is gone.
func (d *Driver) vanish(ctx context.Context, t described, id string) error {
	for wait := newWait(); ; {
		live, err := d.read(ctx, t, id)
		if gone(err) {
			return nil
		}
		if err != nil {
			return err
		}
		if s := t.Status; s != nil {
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
