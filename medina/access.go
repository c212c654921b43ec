package medina

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"kasbah/core/disk"
	"kasbah/core/nearest"
)

// Token says who asks and what they may do.
type Token struct {
	Name   string   `json:"name"`
	Rights string   `json:"rights"`          // one of Rights
	Zones  []string `json:"zones,omitempty"` // where it may change things that are in a zone; anywhere when empty
	Token  string   `json:"token,omitempty"` // shown once, when it is made
}

// Rights are what tokens may do: each what those before it may as well.
var Rights = []string{"read", "write", "all"}

// may reports whether a token has a right.
func (t *Token) may(right string) bool {
	return slices.Index(Rights, t.Rights) >= slices.Index(Rights, right)
}

// inZone is a refusal where a token may not change what is in a zone.
func (t *Token) inZone(zone string) error {
	if zone == "" || len(t.Zones) == 0 || slices.Contains(t.Zones, zone) {
		return nil
	}
	return &refusal{status: 403, title: "not allowed",
		detail: fmt.Sprintf("token %s may change things in %s only, and this is in %s", t.Name,
			strings.Join(t.Zones, ", "), zone)}
}

// anybody is who asks a Medina without tokens.
var anybody = &Token{Name: "somebody", Rights: "all"}

func digest(token string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(token))) }

type askerKey struct{}

// asker is who makes a request.
func asker(ctx context.Context) *Token {
	if t, ok := ctx.Value(askerKey{}).(*Token); ok {
		return t
	}
	return anybody
}

// who acts in a request: the token's name. Where there are no tokens, or by one
// that may do all, it is whom the request names (RFC 9110, 10.1.2).
func who(r *http.Request) string {
	t := asker(r.Context())
	if from := r.Header.Get("From"); from != "" && t.may("all") {
		return from
	}
	return t.Name
}

// known lets requests pass that a token allows, where there are tokens.
func (s *Server) known(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !s.o.Tokens || open(r) {
			next.ServeHTTP(w, r)
			return
		}
		s.handle(func(w http.ResponseWriter, r *http.Request) error {
			page := strings.HasPrefix(r.URL.Path, "/console")
			given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
			if c, err := r.Cookie(tokenCookie); err == nil && page && !ok {
				given = c.Value
			}
			t, err := s.token(r.Context(), given)
			if err != nil {
				return err
			}
			if t == nil && page {
				http.Redirect(w, r, "/console/enter", http.StatusSeeOther)
				return nil
			}
			if t == nil {
				w.Header().Set("WWW-Authenticate", "Bearer")
				detail := "Medina knows no such token"
				if given == "" {
					detail = "Medina asks for a token"
				}
				return &refusal{status: 401, title: "who are you?", detail: detail}
			}
			if needed := right(r); !t.may(needed) {
				return &refusal{status: 403, title: "not allowed",
					detail: fmt.Sprintf("token %s may %s, and this needs the right to %s", t.Name, t.Rights, needed)}
			}
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), askerKey{}, t)))
			return nil
		})(w, r)
	})
}

// open reports whether anybody may make a request.
func open(r *http.Request) bool {
	return r.URL.Path == "/openapi.json" || r.URL.Path == "/console/enter" || strings.HasPrefix(r.URL.Path, "/sites/")
}

// right is what a request needs.
func right(r *http.Request) string {
	path := "/" + strings.SplitN(strings.TrimPrefix(r.URL.Path, "/"), "/", 2)[0]
	switch {
	case slices.Contains([]string{"/tokens", "/faults", "/snapshot", "/things"}, path) && !(path == "/faults" &&
		r.Method == http.MethodGet):
		return "all"
	case r.Method == http.MethodGet || r.Method == http.MethodHead:
		return "read"
	}
	return "write"
}

// token finds a token; nil when there is none.
func (s *Server) token(ctx context.Context, given string) (*Token, error) {
	if given == "" {
		return nil, nil
	}
	var t Token
	var zones string
	err := s.db.sql.QueryRowContext(ctx, `select name, rights, zones from tokens where digest = ?`,
		digest(given)).Scan(&t.Name, &t.Rights, &zones)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &t, json.Unmarshal([]byte(zones), &t.Zones)
}

// make makes a token.
func (t *Token) make(x *tx) error {
	fault := func(at, says string, of []string, is string) error {
		if h := nearest.Hint(is, of); h != "" {
			says += "; " + h
		}
		return refuse(at, "%s", says)
	}
	switch {
	case t.Name == "" || len(t.Name) > 63 || strings.ContainsAny(t.Name, " /"):
		return refuse("name", "a token needs a name of 63 letters at most, without spaces")
	case !slices.Contains(Rights, t.Rights):
		return fault("rights", fmt.Sprintf("%q is not one of %s", t.Rights, strings.Join(Rights, ", ")), Rights,
			t.Rights)
	}
	var all []string
	for _, z := range zone().OneOf {
		all = append(all, z.(string))
	}
	for i, z := range t.Zones {
		if !slices.Contains(all, z) {
			return fault(fmt.Sprintf("zones/%d", i), fmt.Sprintf("%q is not one of %s", z, strings.Join(all, ", ")),
				all, z)
		}
	}
	if t.Zones == nil {
		t.Zones = []string{}
	}
	var n int
	if err := x.real.row(`select count(*) from tokens where name = ?`, t.Name).Scan(&n); err != nil {
		return err
	}
	if n > 0 {
		return &refusal{status: 409, title: "already taken", detail: fmt.Sprintf("there is a token %s already", t.Name),
			errors: []pointed{{"/name", "is taken"}}}
	}
	t.Token = "medina-" + rand.Text()
	zones, err := json.Marshal(t.Zones)
	if err != nil {
		return err
	}
	return x.real.exec(`insert into tokens values (?, ?, ?, ?, ?)`, t.Name, digest(t.Token), t.Rights, string(zones),
		time.Now().UTC().Format(time.RFC3339))
}

// tokens answers for /tokens: GET lists, POST makes one.
func (s *Server) tokens(w http.ResponseWriter, r *http.Request) error {
	if r.Method == http.MethodPost {
		var t Token
		dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&t); err != nil {
			return &refusal{status: 400, title: "not readable", detail: "the body is not a token: " + err.Error()}
		}
		if err := s.db.update(r.Context(), t.make); err != nil {
			return err
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
		return json.NewEncoder(w).Encode(t)
	}
	rows, err := s.db.sql.QueryContext(r.Context(), `select name, rights, zones from tokens order by name`)
	if err != nil {
		return err
	}
	defer rows.Close()
	list := []Token{}
	for rows.Next() {
		var t Token
		var zones string
		if err := rows.Scan(&t.Name, &t.Rights, &zones); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(zones), &t.Zones); err != nil {
			return err
		}
		list = append(list, t)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(map[string]any{"items": list})
}

// revoke answers for DELETE /tokens/NAME. The last one that may do all stays.
func (s *Server) revoke(w http.ResponseWriter, r *http.Request) error {
	name := chi.URLParam(r, "name")
	err := s.db.update(r.Context(), func(t *tx) error {
		var there, others int
		if err := t.real.row(`select count(*) from tokens where name = ?`, name).Scan(&there); err != nil {
			return err
		}
		if there == 0 {
			return &refusal{status: 404, title: "not found", detail: "there is no token " + name}
		}
		if err := t.real.row(`select count(*) from tokens where name <> ? and rights = 'all'`,
			name).Scan(&others); err != nil {
			return err
		}
		if others == 0 {
			return &refusal{status: 409, title: "the last one", detail: "it is the only token that may do all; " +
				"without it no token could be made"}
		}
		return t.real.exec(`delete from tokens where name = ?`, name)
	})
	if err == nil {
		w.WriteHeader(http.StatusNoContent)
	}
	return err
}

// FirstToken makes a token that may do all, where there is none yet, and keeps it
// in a file beside the database that only its owner can read. It is the place of
// that file.
func (s *Server) FirstToken(ctx context.Context) (string, error) {
	path := s.o.Path + ".token"
	t := Token{Name: "keeper", Rights: "all"}
	err := s.db.update(ctx, func(x *tx) error {
		var n int
		if err := x.real.row(`select count(*) from tokens where rights = 'all'`).Scan(&n); err != nil || n > 0 {
			return err
		}
		if err := x.real.exec(`delete from tokens where name = ?`, t.Name); err != nil {
			return err
		}
		if err := t.make(x); err != nil {
			return err
		}
		return disk.ReplacePrivate(path, []byte(t.Token+"\n"))
	})
	return path, err
}
