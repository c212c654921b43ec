package medina

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"golang.org/x/time/rate"

	"kasbah/core/value"
)

// Options of a Medina.
type Options struct {
	Path   string           // of the database file
	Pace   float64          // 0: work takes no time, 1: as long as in a real cloud
	Quotas map[string]int64 // things of a type that one zone holds; none by default
	Tokens bool             // whoever asks must have a token
	Rate   float64          // requests a second, beyond which they are put off; 0 for no bound
	Habits []string         // of other clouds, that it has
	Hosts  []string         // names under which it is asked, besides localhost and addresses; in small letters

	own string // the token of the program that it is embedded in; "" for one on its own
}

// Server is the simulated cloud as an HTTP handler.
type Server struct {
	http.Handler
	db    *database
	o     Options
	kinds []*kind
	by    map[string]*kind // by plural
	types map[string]bool  // by name
}

const (
	pageSize    = 1000
	maxBody     = 1 << 20
	problemType = "application/problem+json"
)

// Open opens Medina's database, making it when it is not there.
func Open(o Options) (*Server, error) {
	if err := CheckHabits(o.Habits); err != nil {
		return nil, err
	}
	db, err := openDatabase(o.Path)
	if err != nil {
		return nil, fmt.Errorf("medina's database %s: %w", o.Path, err)
	}
	s := &Server{db: db, o: o, kinds: kinds(), by: map[string]*kind{}, types: map[string]bool{}}
	r := chi.NewRouter()
	r.Use(s.guarded, s.throttled(), s.known)
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		refuseWith(w, &refusal{status: 404, title: "not found", detail: "there is nothing at " + r.URL.Path})
	})
	r.Get("/openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(Document())
	})
	if len(o.Habits) > 0 {
		r.Get("/overlay.json", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			w.Write(habitsOverlay(o.Habits))
		})
	}
	r.Get("/events", s.handle(s.events))
	r.Post("/rehearsals", s.handle(s.rehearse))
	r.Get("/operations/{id}", s.handle(s.operation))
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodDelete} {
		r.Method(method, "/faults", s.handle(s.faults))
	}
	r.Get("/tokens", s.handle(s.tokens))
	r.Post("/tokens", s.handle(s.tokens))
	r.Delete("/tokens/{name}", s.handle(s.revoke))
	r.Get("/snapshot", s.handle(s.snapshot))
	r.Post("/snapshot", s.handle(s.snapshot))
	r.Delete("/things", s.handle(s.reset))
	r.Get("/sites/{bucket}/*", s.handle(s.site))
	s.console(r)
	for _, k := range s.kinds {
		s.by[k.plural], s.types[k.Name] = k, true
		route := func(method, path, call string, f func(http.ResponseWriter, *http.Request) error) {
			r.Method(method, "/"+k.plural+path, s.faulty(call, k, s.handle(f)))
		}
		route("GET", "", "list", func(w http.ResponseWriter, r *http.Request) error { return s.list(w, r, k) })
		route("POST", "", "create", func(w http.ResponseWriter, r *http.Request) error {
			return s.write(w, r, k,
				s.create)
		})
		route("GET", "/{id}", "read", func(w http.ResponseWriter, r *http.Request) error { return s.show(w, r, k) })
		if k.Copies {
			route("POST", "/{id}/copies", "copy", func(w http.ResponseWriter, r *http.Request) error {
				return s.write(w,
					r, k, s.copy)
			})
		}
		route("PATCH", "/{id}", "edit", func(w http.ResponseWriter, r *http.Request) error {
			return s.write(w, r, k,
				s.edit)
		})
		route("DELETE", "/{id}", "delete", func(w http.ResponseWriter, r *http.Request) error {
			return s.write(w, r, k,
				s.remove)
		})
	}
	s.Handler = newHabitual(r, o.Habits, s.by)
	return s, nil
}

// throttled puts requests off that come too fast; those for pages are not counted.
func (s *Server) throttled() func(http.Handler) http.Handler {
	if s.o.Rate <= 0 {
		return func(next http.Handler) http.Handler { return next }
	}
	limit := rate.NewLimiter(rate.Limit(s.o.Rate), max(1, int(s.o.Rate)))
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !limit.Allow() && !strings.HasPrefix(r.URL.Path, "/console") {
				w.Header().Set("Retry-After", "1")
				refuseWith(w, &refusal{status: http.StatusTooManyRequests, title: "too many requests",
					detail: fmt.Sprintf("Medina takes %g requests a second", s.o.Rate)})
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// Close closes the database.
func (s *Server) Close() error { return s.db.sql.Close() }

// refusal is an answer that is no success, as RFC 9457 has it.
type refusal struct {
	status int
	title  string
	detail string
	errors []pointed
}

type pointed struct {
	Pointer string `json:"pointer"` // RFC 6901, into the body that was sent
	Detail  string `json:"detail"`
}

func (r *refusal) Error() string { return r.detail }

// refuse makes the refusal of one attribute.
func refuse(attribute, format string, args ...any) *refusal {
	msg := fmt.Sprintf(format, args...)
	return &refusal{status: 422, title: "not acceptable", detail: msg, errors: []pointed{{Pointer: "/" + attribute,
		Detail: msg}}}
}

func refuseWith(w http.ResponseWriter, r *refusal) {
	w.Header().Set("Content-Type", problemType)
	if r.status == 503 {
		w.Header().Set("Retry-After", "1")
	}
	w.WriteHeader(r.status)
	json.NewEncoder(w).Encode(struct { // the client may be gone; nobody else can be told
		Title  string    `json:"title"`
		Status int       `json:"status"`
		Detail string    `json:"detail"`
		Errors []pointed `json:"errors,omitempty"`
	}{r.title, r.status, r.detail, r.errors})
}

func (s *Server) handle(f func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		err := f(w, r)
		var no *refusal
		switch {
		case err == nil:
		case errors.As(err, &no):
			refuseWith(w, no)
		case errors.Is(err, context.Canceled):
		case strings.Contains(err.Error(), "SQLITE_BUSY") || strings.Contains(err.Error(), "database is locked"):
			refuseWith(w, &refusal{status: 503, title: "busy", detail: "the database is busy; try again"})
		default:
			refuseWith(w, &refusal{status: 500, title: "failed", detail: err.Error()})
		}
	}
}

func (s *Server) show(w http.ResponseWriter, r *http.Request, k *kind) error {
	var body string
	var rev int64
	err := s.db.sql.QueryRowContext(r.Context(), `select body, revision from things where id = ? and type = ?`,
		chi.URLParam(r, "id"), k.Name).Scan(&body, &rev)
	if errors.Is(err, sql.ErrNoRows) {
		return &refusal{status: 404, title: "not found", detail: fmt.Sprintf("there is no %s %s", k.Name,
			chi.URLParam(r, "id"))}
	}
	if err != nil {
		return err
	}
	return answer{status: http.StatusOK, tag: fmt.Sprintf("%q", strconv.FormatInt(rev, 10)), body: body}.send(w)
}

// operation answers 202 while work goes on, and then leads to the thing, or
// answers 204 when the thing is gone.
func (s *Server) operation(w http.ResponseWriter, r *http.Request) error {
	var path string
	var ready int64
	err := s.db.sql.QueryRowContext(r.Context(), `select path, ready from operations where id = ?`,
		chi.URLParam(r, "id")).Scan(&path, &ready)
	if errors.Is(err, sql.ErrNoRows) {
		return &refusal{status: 404, title: "not found", detail: "there is no such operation"}
	}
	if err != nil {
		return err
	}
	left := ready - time.Now().UnixMilli()
	if patience := patience(r); left > 0 && patience > 0 {
		hold := time.NewTimer(min(time.Duration(left)*time.Millisecond, patience))
		defer hold.Stop()
		select {
		case <-hold.C:
		case <-r.Context().Done():
			return r.Context().Err()
		}
		left = ready - time.Now().UnixMilli()
	}
	if left > 0 {
		w.Header().Set("Retry-After", strconv.FormatInt((left+999)/1000, 10))
		w.WriteHeader(http.StatusAccepted)
		return nil
	}
	if path == "" {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	w.Header().Set("Location", path)
	w.WriteHeader(http.StatusSeeOther)
	return nil
}

// patience is how long a request asks to be held (RFC 7240, wait), at most
// 30 s.
func patience(r *http.Request) time.Duration {
	for _, p := range strings.Split(r.Header.Get("Prefer"), ",") {
		if k, v, _ := strings.Cut(strings.TrimSpace(p), "="); k == "wait" {
			if n, err := strconv.Atoi(v); err == nil && n > 0 {
				return time.Duration(min(n, 30)) * time.Second
			}
		}
	}
	return 0
}

// page reads limit and after.
func page(r *http.Request) (limit, after int64, err error) {
	limit = pageSize
	if s := r.URL.Query().Get("limit"); s != "" {
		if limit, err = strconv.ParseInt(s, 10, 64); err != nil || limit < 1 || limit > pageSize {
			return 0, 0, &refusal{status: 400, title: "not readable",
				detail: fmt.Sprintf("limit must lie between 1 and %d", pageSize)}
		}
	}
	if s := r.URL.Query().Get("after"); s != "" {
		if after, err = strconv.ParseInt(s, 10, 64); err != nil {
			return 0, 0, &refusal{status: 400, title: "not readable",
				detail: "after must be a number from a Link header"}
		}
	}
	return limit, after, nil
}

func (s *Server) list(w http.ResponseWriter, r *http.Request, k *kind) error {
	limit, after, err := page(r)
	if err != nil {
		return err
	}
	query, args := `select seq, body from things where type = ? and seq > ?`, []any{k.Name, after}
	if name := r.URL.Query().Get("name"); name != "" {
		query, args = query+` and name = ?`, append(args, name)
	}
	if key := r.URL.Query().Get("key"); key != "" {
		query, args = query+` and key = ?`, append(args, key)
	}
	rows, err := s.db.sql.QueryContext(r.Context(), query+` order by seq limit ?`, append(args, limit)...)
	if err != nil {
		return err
	}
	defer rows.Close()
	return sendPage(w, r, limit, rows, func(b []byte) ([]byte, int64, error) {
		var seq int64
		var body sql.RawBytes
		err := rows.Scan(&seq, &body)
		return append(b, body...), seq, err
	})
}

// sendPage writes {"items": […]} and, when the page is full, a Link to the
// next one (RFC 8288).
func sendPage(w http.ResponseWriter, r *http.Request, limit int64, rows *sql.Rows, item func([]byte) ([]byte, int64,
	error)) error {
	body := []byte(`{"items":[`)
	var n, last int64
	for rows.Next() {
		if n > 0 {
			body = append(body, ',')
		}
		var err error
		if body, last, err = item(body); err != nil {
			return err
		}
		n++
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if n == limit {
		q := r.URL.Query()
		q.Set("after", strconv.FormatInt(last, 10))
		w.Header().Set("Link", fmt.Sprintf(`<%s?%s>; rel="next"`, r.URL.Path, q.Encode()))
	}
	w.Header().Set("Content-Type", "application/json")
	_, err := w.Write(append(body, "]}\n"...))
	return err
}

func (s *Server) events(w http.ResponseWriter, r *http.Request) error {
	limit, after, err := page(r)
	if err != nil {
		return err
	}
	where, order := `seq > ?`, `seq`
	switch r.URL.Query().Get("order") {
	case "newest":
		order = `seq desc`
		if after > 0 {
			where = `seq < ?`
		}
	case "", "oldest":
	default:
		return &refusal{status: 400, title: "not readable", detail: "order must be newest or oldest"}
	}
	query, args := `select seq, at, who, what, type, thing, name, changes from events where `+where, []any{after}
	if id := r.URL.Query().Get("id"); id != "" {
		query, args = query+` and thing = ?`, append(args, id)
	}
	rows, err := s.db.sql.QueryContext(r.Context(), query+` order by `+order+` limit ?`, append(args, limit)...)
	if err != nil {
		return err
	}
	defer rows.Close()
	return sendPage(w, r, limit, rows, func(b []byte) ([]byte, int64, error) {
		var seq int64
		var at, who, what, typ, thing, changes string
		var name sql.NullString
		if err := rows.Scan(&seq, &at, &who, &what, &typ, &thing, &name, &changes); err != nil {
			return nil, 0, err
		}
		b = append(b, value.JSON(value.Map{"seq": strconv.FormatInt(seq, 10), "at": at, "who": who, "what": what,
			"type": typ, "id": thing, "name": name.String})...)
		b = append(append(b[:len(b)-1], `,"changes":`...), changes...) // as they are kept: JSON
		return append(b, '}'), seq, nil
	})
}
