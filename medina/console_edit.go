package medina

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/go-chi/chi/v5"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// field is an attribute in a form.
type field struct {
	Name, Help, Kind, Value, Problem string // Kind: line, text, number, choice, secret, json
	Choices                          []string
	Required, Fixed                  bool
	Near                             []row // things that it may refer to
}

// filling is what a form shows.
type filling struct {
	ID, Back, Revision string // ID is "" of a new thing
	Fields             []*field
}

// form shows a form for a new thing or one that is there, and sends it.
func (c *console) form(w http.ResponseWriter, r *http.Request) error {
	k, err := c.kind(r)
	if err != nil {
		return err
	}
	id := chi.URLParam(r, "id")
	was := value.Map{}
	if id != "" {
		if was, err = c.body(r.Context(), k, id); err != nil {
			return err
		}
	}
	f, err := c.frame(r, map[bool]string{true: "New " + k.Name, false: "Edit " + plainOf(orID(was))}[id == ""], k.Name)
	if err != nil {
		return err
	}
	fields := fieldsOf(k, was, id != "")
	for _, x := range fields {
		if refers := k.Attribute(x.Name).Refers; refers != "" && !x.Fixed {
			near, err := c.rows(r.Context(), `type = ?`, "", refers)
			if err != nil {
				return err
			}
			x.Near = near.list
		}
	}
	status := http.StatusOK
	if r.Method == http.MethodPost {
		problem, place := c.send(r, k, id, was, fields)
		if place != "" {
			http.Redirect(w, r, place, http.StatusSeeOther)
			return nil
		}
		f.Problem, status = problem, http.StatusUnprocessableEntity
	}
	back := "/console/" + k.Name
	if id != "" {
		back += "/" + id
	}
	return show(w, status, f.form(filling{id, back, plainOf(orRevision(was)), fields}))
}

func orID(m value.Map) any {
	if m["name"] != nil {
		return m["name"]
	}
	return m["id"]
}

func orRevision(m value.Map) any {
	if m["revision"] == nil {
		return ""
	}
	return m["revision"]
}

func fieldsOf(k *kind, was value.Map, there bool) []*field {
	var out []*field
	for _, a := range k.Inputs() {
		f := &field{Name: a.Name, Help: a.Help, Kind: "line", Required: a.Required, Fixed: there && a.Fixed}
		v, ok := was[a.Name]
		if !ok && !there && a.HasDefault {
			v, ok = a.Default, true
		}
		switch {
		case a.Secret:
			f.Kind, f.Required = "secret", a.Required && !there
		case a.Kind == schema.Bool:
			f.Kind, f.Choices = "choice", []string{"true", "false"}
		case len(a.OneOf) > 0:
			f.Kind = "choice"
			for _, c := range a.OneOf {
				f.Choices = append(f.Choices, plainOf(c))
			}
		case a.Kind == schema.Int || a.Kind == schema.Number:
			f.Kind = "number"
		case a.Kind != schema.Text:
			f.Kind = "json"
			f.Help += " (as JSON)"
		case a.MaxLength != nil && *a.MaxLength > 1000:
			f.Kind = "text"
		}
		if ok && !a.Secret {
			f.Value = plainOf(v)
			if f.Kind == "json" {
				f.Value = string(value.JSON(v))
			}
		}
		out = append(out, f)
	}
	return out
}

// send asks the API for what a form says, and is what it refuses, or where to go.
func (c *console) send(r *http.Request, k *kind, id string, was value.Map, fields []*field) (problem, place string) {
	if err := r.ParseForm(); err != nil {
		return "the form cannot be read", ""
	}
	body, wrong := value.Map{}, false
	for _, f := range fields {
		if f.Fixed || !r.PostForm.Has(f.Name) {
			continue
		}
		text := strings.ReplaceAll(r.PostForm.Get(f.Name), "\r\n", "\n")
		old := f.Value
		if f.Kind != "secret" {
			f.Value = text
		}
		v, err := read(k.Attribute(f.Name), text)
		switch {
		case err != nil:
			f.Problem, wrong = err.Error(), true
		case text == "" && f.Kind == "secret":
		case text == "" && id == "":
		case id != "" && text == old:
		default:
			body[f.Name] = v
		}
	}
	if wrong {
		return "Some of it cannot be read.", ""
	}
	method, path := http.MethodPost, "/"+k.plural
	if id != "" {
		method, path = http.MethodPatch, path+"/"+id
	}
	status, answer := c.api(r, method, path, body, r.PostForm.Get("revision"))
	if status < 300 {
		if id == "" {
			id = c.newest(r.Context(), k, answer)
		}
		return "", "/console/" + k.Name + "/" + id + "?" +
			url.Values{"said": {map[bool]string{true: "made", false: "edited"}[method == http.MethodPost]}}.Encode()
	}
	list, _ := answer["errors"].([]any)
	for _, e := range list {
		e, _ := e.(map[string]any)
		pointer, _ := e["pointer"].(string)
		name, below, _ := strings.Cut(strings.TrimPrefix(pointer, "/"), "/")
		for _, f := range fields {
			if f.Name == name {
				f.Problem = plainOf(e["detail"])
				if below != "" {
					f.Problem = below + ": " + f.Problem
				}
			}
		}
	}
	return plainOf(answer["detail"]), ""
}

// read reads what is in a form as a value of an attribute.
func read(a *schema.Attribute, text string) (any, error) {
	if text == "" && a.Kind != schema.Text || text == "" && !a.Required {
		return nil, nil
	}
	if a.Kind == schema.Text {
		return text, nil
	}
	v, err := value.Parse([]byte(text))
	if err != nil {
		return nil, fmt.Errorf("%q is not JSON", shortened(text, 40))
	}
	return v, nil
}

// api makes a request to this server itself, for whom the console acts.
func (c *console) api(r *http.Request, method, path string, body value.Map, revision string) (int, value.Map) {
	ctx := context.WithValue(r.Context(), chi.RouteCtxKey, nil) // it begins at the first route again
	in, err := http.NewRequestWithContext(ctx, method, "http://localhost"+path, bytes.NewReader(value.JSON(body)))
	if err != nil {
		return http.StatusBadRequest, value.Map{"detail": err.Error()}
	}
	in.Header.Set("From", acts(r))
	if cookie, err := r.Cookie(tokenCookie); err == nil {
		in.Header.Set("Authorization", "Bearer "+cookie.Value)
	}
	if revision != "" {
		in.Header.Set("If-Match", `"`+revision+`"`)
	}
	w := &keptAnswer{header: http.Header{}, status: http.StatusOK}
	c.s.Handler.ServeHTTP(w, in)
	v, err := value.Parse(w.body.Bytes())
	m, ok := v.(map[string]any)
	if err != nil || !ok {
		m = value.Map{"detail": http.StatusText(w.status)}
	}
	m["location"] = w.header.Get("Location")
	return w.status, m
}

// newest is the id of what was just made: the answer tells, or leads to it.
func (c *console) newest(ctx context.Context, k *kind, answer value.Map) string {
	if id, ok := answer["id"].(string); ok {
		return id
	}
	var id string
	operation := strings.TrimPrefix(plainOf(answer["location"]), "/operations/")
	if err := c.s.db.sql.QueryRowContext(ctx, `select thing from operations where id = ?`,
		operation).Scan(&id); err != nil {
		return "" // the list of its type shows it
	}
	return id
}

func (c *console) remove(w http.ResponseWriter, r *http.Request) error {
	k, err := c.kind(r)
	if err != nil {
		return err
	}
	id := chi.URLParam(r, "id")
	status, answer := c.api(r, http.MethodDelete, "/"+k.plural+"/"+id, nil, "")
	place := "/console/" + k.Name + "?" + url.Values{"said": {"deleted " + id}}.Encode()
	if status >= 300 {
		place = "/console/" + k.Name + "/" + id + "?" + url.Values{"problem": {plainOf(answer["detail"])}}.Encode()
	}
	http.Redirect(w, r, place, http.StatusSeeOther)
	return nil
}
