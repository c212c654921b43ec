package openapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// rehearseExtension says how calls are tried without effect.
type rehearseExtension struct {
	Path  string            `yaml:"path"`  // that takes all calls at once, as docs/formats/openapi.md has it
	Query map[string]string `yaml:"query"` // or what one request has in its query that is to have no effect
}

// Rehearsals says what the document says of rehearsing.
func (d *Driver) Rehearsals() (can, together bool) {
	r := d.doc.documentExtension.Rehearse
	return r != nil, r != nil && r.Path != ""
}

// Rehearse tries calls: all with one request, or those whose values are known one by one.
func (d *Driver) Rehearse(ctx context.Context, calls []driver.Call) ([]driver.Tried, error) {
	how := d.doc.documentExtension.Rehearse
	if how == nil {
		return nil, errors.New("the API has no way to try calls without effect")
	}
	if how.Path != "" {
		return d.together(ctx, how.Path, calls)
	}
	out := make([]driver.Tried, len(calls))
	dry := *d // what it sends has no effect
	dry.query = url.Values{}
	for name, v := range d.query {
		dry.query[name] = v
	}
	for name, v := range how.Query {
		dry.query.Set(name, v)
	}
	for i, c := range calls {
		if hasMade(c.Inputs) || hasMade(c.Change.To) {
			continue
		}
		err := dry.tryOne(ctx, c)
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if said := (*driver.Error)(nil); err == nil || driver.OutcomeOf(err) == driver.NotDone && !errors.Is(err,
			driver.ErrTag) && (!errors.As(err, &said) || !said.Passing) {
			out[i] = driver.Tried{Tried: true, Alone: true, Err: err}
		}
	}
	return out, nil
}

// tryOne sends one request that is to have no effect, and does not look at what it came to.
func (d *Driver) tryOne(ctx context.Context, c driver.Call) error {
	t, err := d.typ(c.Type)
	if err != nil {
		return err
	}
	if t.whole != nil {
		return driver.Uncertain(errors.New("a part of a whole is not tried"), "")
	}
	header := d.headers("", "")
	switch c.Do {
	case "create":
		values, err := within(t.parentParams(), c.Inputs)
		if err != nil {
			return driver.Uncertain(err, "")
		}
		header.Set("Content-Type", t.makes)
		method, place := http.MethodPost, t.list.fill(values[:len(t.list.params)])
		if t.create == "put" {
			all, err := within(t.item.params, c.Inputs)
			if err != nil {
				return driver.Uncertain(err, "")
			}
			method, place = http.MethodPut, t.item.fill(all)
		}
		_, err = d.send(ctx, method, place, header, t.body(t.makes, c.Inputs))
		return err
	case "update":
		place, err := t.place(c.ID)
		if err != nil || t.edit != "merge-patch" || t.editAt.path != "" {
			return driver.Uncertain(errors.New("such an edit is not tried"), "")
		}
		header.Set("Content-Type", t.edits)
		_, err = d.send(ctx, t.method, place, header, t.body(t.edits, mergePatch(c.Change.From, c.Change.To)))
		return err
	}
	place, err := t.place(c.ID)
	if err != nil {
		return err
	}
	_, err = d.send(ctx, http.MethodDelete, place, header, nil)
	return err
}

// together sends all calls at once.
func (d *Driver) together(ctx context.Context, path string, calls []driver.Call) ([]driver.Tried, error) {
	list := make([]any, len(calls))
	for i, c := range calls {
		if _, err := d.typ(c.Type); err != nil {
			return nil, err
		}
		one := value.Map{"do": c.Do, "type": c.Type}
		switch c.Do {
		case "create":
			one["body"] = driver.Written(c.Inputs)
		case "update":
			one["id"], one["body"] = c.ID, driver.Written(mergePatch(c.Change.From, c.Change.To))
		default:
			one["id"] = c.ID
		}
		list[i] = one
	}
	header := http.Header{"Content-Type": {"application/json"}}
	r, err := d.send(ctx, http.MethodPost, path, header, value.JSON(value.Map{"calls": list}))
	if err != nil {
		return nil, err
	}
	var said struct {
		Results []struct {
			Tried   bool      `json:"tried"`
			Refusal value.Any `json:"refusal"`
		} `json:"results"`
	}
	if err := json.Unmarshal(r.body, &said); err != nil || len(said.Results) != len(calls) {
		return nil, fmt.Errorf("%s answers with something else than one result for each call", r.asked)
	}
	out := make([]driver.Tried, len(calls))
	for i, result := range said.Results {
		out[i].Tried = result.Tried
		no, _ := result.Refusal.V.(map[string]any)
		if !out[i].Tried || no == nil {
			continue
		}
		e := &driver.Error{Message: "the cloud would refuse it", NotDone: true}
		explain(e, no, d.doc.Refusals.or(problemType))
		if out[i].Err = e; no["status"] == int64(http.StatusNotFound) {
			out[i].Err = fmt.Errorf("%w: %w", driver.ErrGone, e)
		}
	}
	return out, nil
}

func hasMade(v any) bool {
	switch v := v.(type) {
	case driver.Made, driver.Joined:
		return true
	case []any:
		for _, x := range v {
			if hasMade(x) {
				return true
			}
		}
	case value.Map: // which is map[string]any
		for _, x := range v {
			if hasMade(x) {
				return true
			}
		}
	}
	return false
}
