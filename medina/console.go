package medina

import (
	"bytes"
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"maragu.dev/gomponents"

	"kasbah/core/value"
)

// The console: pages that the server draws, which work without scripts. What a
// form asks for goes the way of the API's own requests.

//go:embed pages
var pages embed.FS

const (
	tokenCookie = "medina-token"
	whoCookie   = "medina-who"
	consoleSize = 100 // things on a page
)

type console struct{ s *Server }

// console adds the pages to a router.
func (s *Server) console(r chi.Router) {
	c := &console{s}
	r.Get("/", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/console/", http.StatusSeeOther) })
	r.Get("/console", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/console/",
			http.StatusSeeOther)
	})
	r.Route("/console/", func(r chi.Router) {
		r.Use(func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				h := w.Header()
				h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; script-src 'self'; "+
					"form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
				h.Set("Cache-Control", "no-store")
				h.Set("X-Content-Type-Options", "nosniff")
				next.ServeHTTP(w, r)
			})
		})
		r.Get("/console.css", file("pages/console.css", "text/css; charset=utf-8"))
		r.Get("/console.js", file("pages/console.js", "text/javascript; charset=utf-8"))
		r.Get("/", c.page(c.home))
		r.Get("/enter", c.page(c.enter))
		r.Post("/enter", c.page(c.enter))
		r.Post("/leave", c.page(c.leave))
		r.Post("/who", c.page(c.who))
		r.Get("/events", c.page(c.events))
		r.Get("/find", c.page(c.find))
		r.Get("/{type}", c.page(c.list))
		r.Get("/{type}/new", c.page(c.form))
		r.Post("/{type}/new", c.page(c.form))
		r.Get("/{type}/{id}", c.page(c.thing))
		r.Get("/{type}/{id}/edit", c.page(c.form))
		r.Post("/{type}/{id}/edit", c.page(c.form))
		r.Post("/{type}/{id}/delete", c.page(c.remove))
	})
}

func file(name, media string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", media)
		http.ServeFileFS(w, r, pages, name)
	}
}

func day(at string) string {
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return at
	}
	return t.Local().Format("2 Jan 15:04:05")
}

// page answers with a page also where something is refused.
func (c *console) page(f func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return c.s.handle(func(w http.ResponseWriter, r *http.Request) error {
		err := f(w, r)
		var no *refusal
		if !errors.As(err, &no) {
			return err
		}
		all, err := c.frame(r, no.title, "")
		if err != nil {
			return err
		}
		all.Problem = no.detail
		return show(w, no.status, all.wrong())
	})
}

// frame is what every page shows.
type frame struct {
	Title    string
	Who      string
	MayName  bool // who acts can be changed
	MayWrite bool
	Tokens   bool
	Types    []typeCount
	At       string // the type that is shown
	Problem  string
	Said     string
}

type typeCount struct {
	Name, Plural, Help string
	Count              int64
}

func (c *console) frame(r *http.Request, title, at string) (frame, error) {
	t := asker(r.Context())
	f := frame{Title: title, Who: acts(r), MayName: t.may("all"), MayWrite: t.may("write"), Tokens: c.s.o.Tokens,
		At: at, Said: r.URL.Query().Get("said")}
	counts := map[string]int64{}
	rows, err := c.s.db.sql.QueryContext(r.Context(), `select type, count(*) from things group by type`)
	if err != nil {
		return f, err
	}
	defer rows.Close()
	for rows.Next() {
		var typ string
		var n int64
		if err := rows.Scan(&typ, &n); err != nil {
			return f, err
		}
		counts[typ] = n
	}
	for _, k := range c.s.kinds {
		f.Types = append(f.Types, typeCount{k.Name, k.plural, k.Help, counts[k.Name]})
	}
	slices.SortFunc(f.Types, func(a, b typeCount) int { return strings.Compare(a.Name, b.Name) })
	return f, rows.Err()
}

// acts is who acts on the console: the token's name, or whom its owner named.
func acts(r *http.Request) string {
	t := asker(r.Context())
	if c, err := r.Cookie(whoCookie); err == nil && t.may("all") {
		if name, err := url.QueryUnescape(c.Value); err == nil && name != "" {
			return name
		}
	}
	return t.Name
}

func show(w http.ResponseWriter, status int, page gomponents.Node) error {
	var b bytes.Buffer
	if err := page.Render(&b); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, err := w.Write(b.Bytes())
	return err
}

func (c *console) home(w http.ResponseWriter, r *http.Request) error {
	f, err := c.frame(r, "Medina", "")
	if err != nil {
		return err
	}
	latest, err := c.history(r.Context(), "", 8)
	if err != nil {
		return err
	}
	return show(w, http.StatusOK, f.home(latest))
}

// enter takes a token and keeps it in a cookie that scripts cannot read.
func (c *console) enter(w http.ResponseWriter, r *http.Request) error {
	f := frame{Title: "Enter"}
	if r.Method == http.MethodPost {
		given := strings.TrimSpace(r.PostFormValue("token"))
		t, err := c.s.token(r.Context(), given)
		if err != nil {
			return err
		}
		if t != nil {
			http.SetCookie(w, &http.Cookie{Name: tokenCookie, Value: given, Path: "/console", HttpOnly: true,
				Secure: r.TLS != nil, SameSite: http.SameSiteStrictMode})
			http.Redirect(w, r, "/console/", http.StatusSeeOther)
			return nil
		}
		f.Problem = "Medina knows no such token."
	}
	return show(w, http.StatusOK, f.enter())
}

func (c *console) leave(w http.ResponseWriter, r *http.Request) error {
	http.SetCookie(w, &http.Cookie{Name: tokenCookie, Path: "/console", MaxAge: -1, HttpOnly: true,
		SameSite: http.SameSiteStrictMode})
	http.Redirect(w, r, "/console/enter", http.StatusSeeOther)
	return nil
}

func (c *console) who(w http.ResponseWriter, r *http.Request) error {
	http.SetCookie(w, &http.Cookie{Name: whoCookie, Value: url.QueryEscape(strings.TrimSpace(r.PostFormValue("who"))),
		Path: "/console", HttpOnly: true, SameSite: http.SameSiteStrictMode})
	http.Redirect(w, r, "/console/", http.StatusSeeOther)
	return nil
}

func (c *console) kind(r *http.Request) (*kind, error) {
	for _, k := range c.s.kinds {
		if k.Name == chi.URLParam(r, "type") {
			return k, nil
		}
	}
	return nil, &refusal{status: 404, title: "not found", detail: "Medina has no type " + chi.URLParam(r, "type")}
}

// row is a thing in a list.
type row struct {
	Type, ID, Name, More string
}

// listing is what a list shows.
type listing struct {
	Help, Query, Next string
	Rows              []row
	First             bool
}

// list shows the things of a type, a page at a time; q narrows it to names and ids
// that hold a text.
func (c *console) list(w http.ResponseWriter, r *http.Request) error {
	k, err := c.kind(r)
	if err != nil {
		return err
	}
	f, err := c.frame(r, k.plural, k.Name)
	if err != nil {
		return err
	}
	q := r.URL.Query().Get("q")
	after, _ := strconv.ParseInt(r.URL.Query().Get("after"), 10, 64) // from the first where it is none
	rows, err := c.rows(r.Context(), `type = ? and seq > ?`, q, k.Name, after)
	if err != nil {
		return err
	}
	next := ""
	if len(rows.list) > consoleSize {
		rows.list = rows.list[:consoleSize]
		next = "/console/" + k.Name + "?" + url.Values{"q": {q}, "after": {strconv.FormatInt(rows.seqs[consoleSize-1],
			10)}}.Encode()
	}
	return show(w, http.StatusOK, f.list(listing{k.Help, q, next, rows.list, after == 0}))
}

// find looks for a text in the names and ids of all types.
func (c *console) find(w http.ResponseWriter, r *http.Request) error {
	f, err := c.frame(r, "search", "")
	if err != nil {
		return err
	}
	q := strings.TrimSpace(r.URL.Query().Get("q"))
	var found found
	if q != "" {
		if found, err = c.rows(r.Context(), `1`, q); err != nil {
			return err
		}
	}
	more := len(found.list) > consoleSize
	if more {
		found.list = found.list[:consoleSize]
	}
	return show(w, http.StatusOK, f.list(listing{map[bool]string{true: fmt.Sprintf("the first %d", consoleSize)}[more],
		q, "", found.list, true}))
}

type found struct {
	list []row
	seqs []int64
}

func (c *console) rows(ctx context.Context, where, q string, args ...any) (out found, err error) {
	if q != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(q) + "%"
		where, args = where+` and (name like ? escape '\' or id like ? escape '\')`, append(args, like, like)
	}
	rows, err := c.s.db.sql.QueryContext(ctx,
		`select seq, type, id, name, body from things where `+where+` order by seq limit ?`,
		append(args, consoleSize+1)...)
	if err != nil {
		return out, err
	}
	defer rows.Close()
	for rows.Next() {
		var seq int64
		var name sql.NullString
		var x row
		var body string
		if err := rows.Scan(&seq, &x.Type, &x.ID, &name, &body); err != nil {
			return out, err
		}
		m, err := decode(body)
		if err != nil {
			return out, err
		}
		for _, k := range []string{"id", "name", "revision", "tags", "pem", "text"} {
			delete(m, k)
		}
		x.Name, x.More = name.String, shortened(strings.Trim(value.Plain(m), "{}"), 90)
		out.list, out.seqs = append(out.list, x), append(out.seqs, seq)
	}
	return out, rows.Err()
}

func shortened(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n]) + "…"
	}
	return s
}

// event is a line of a thing's history.
type event struct {
	At, Who, What, Type, ID, Name string
	Changes                       []string
}

func (c *console) history(ctx context.Context, id string, n int) ([]event, error) {
	where, args := "", []any{}
	if id != "" {
		where, args = ` where thing = ?`, []any{id}
	}
	rows, err := c.s.db.sql.QueryContext(ctx,
		`select at, who, what, type, thing, name, changes from events`+where+` order by seq desc limit ?`,
		append(args, n)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []event
	for rows.Next() {
		var e event
		var name sql.NullString
		var changes string
		if err := rows.Scan(&e.At, &e.Who, &e.What, &e.Type, &e.ID, &name, &changes); err != nil {
			return nil, err
		}
		e.Name = name.String
		v, err := value.Parse([]byte(changes))
		if err != nil {
			return nil, err
		}
		list, _ := v.([]any)
		for _, x := range list {
			m, _ := x.(map[string]any)
			e.Changes = append(e.Changes, fmt.Sprintf("%v: %s → %s", m["path"], shortened(orNone(m["was"]), 60),
				shortened(orNone(m["is"]), 60)))
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

func orNone(v any) string {
	if v == nil {
		return "–"
	}
	return value.Plain(v)
}

func (c *console) events(w http.ResponseWriter, r *http.Request) error {
	f, err := c.frame(r, "events", "events")
	if err != nil {
		return err
	}
	list, err := c.history(r.Context(), "", consoleSize)
	if err != nil {
		return err
	}
	return show(w, http.StatusOK, f.events(list))
}

// shown is an attribute on a thing's page.
type shown struct {
	Name, Help, Value string
	Links             []row // what it refers to
	Output            bool
}

// thingShown is what the page of a thing shows.
type thingShown struct {
	Type, ID, Help, Site string
	Attributes           []shown
	Users                []row
	History              []event
}

// thing shows one with its attributes, what it uses and is used by, and what
// happened to it.
func (c *console) thing(w http.ResponseWriter, r *http.Request) error {
	k, err := c.kind(r)
	if err != nil {
		return err
	}
	is, err := c.body(r.Context(), k, chi.URLParam(r, "id"))
	if err != nil {
		return err
	}
	id := is["id"].(string)
	title, _ := is["name"].(string)
	if title == "" {
		title = id
	}
	f, err := c.frame(r, title, k.Name)
	if err != nil {
		return err
	}
	f.Problem = r.URL.Query().Get("problem")
	uses, err := c.related(r.Context(),
		`select things.type, things.id, things.name, refs.attribute from refs join things on things.id = refs.target where refs.thing = ? order by refs.attribute`, id)
	if err != nil {
		return err
	}
	users, err := c.related(r.Context(),
		`select things.type, things.id, things.name, refs.attribute from refs join things on things.id = refs.thing where refs.target = ? order by things.seq limit 200`, id)
	if err != nil {
		return err
	}
	var attributes []shown
	for _, a := range k.Attributes {
		v, ok := is[a.Name]
		x := shown{Name: a.Name, Help: a.Help, Output: a.Output}
		switch {
		case a.Secret:
			x.Value = "(secret)"
		case !ok:
			x.Value = "–"
		default:
			x.Value = plainOf(v)
		}
		for _, u := range uses {
			if u.More == a.Name || strings.HasPrefix(u.More, a.Name+"/") {
				x.Links = append(x.Links, u)
			}
		}
		attributes = append(attributes, x)
	}
	happened, err := c.history(r.Context(), id, 50)
	if err != nil {
		return err
	}
	site := ""
	if k.Name == "bucket" && is["site"] == true {
		site = "/sites/" + url.PathEscape(title) + "/"
	}
	return show(w, http.StatusOK, f.thing(thingShown{k.Name, id, k.Help, site, attributes, users, happened}))
}

// plainOf is a value as a person reads it: texts without quotes.
func plainOf(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	return value.Plain(v)
}

func (c *console) body(ctx context.Context, k *kind, id string) (value.Map, error) {
	var body string
	err := c.s.db.sql.QueryRowContext(ctx, `select body from things where id = ? and type = ?`, id, k.Name).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, &refusal{status: 404, title: "not found", detail: fmt.Sprintf("there is no %s %s", k.Name, id)}
	}
	if err != nil {
		return nil, err
	}
	return decode(body)
}

func (c *console) related(ctx context.Context, query, id string) ([]row, error) {
	rows, err := c.s.db.sql.QueryContext(ctx, query, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []row
	for rows.Next() {
		var x row
		var name sql.NullString
		if err := rows.Scan(&x.Type, &x.ID, &name, &x.More); err != nil {
			return nil, err
		}
		x.Name = name.String
		out = append(out, x)
	}
	return out, rows.Err()
}
