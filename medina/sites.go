package medina

import (
	"database/sql"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// site answers for /sites/BUCKET/PATH: an object of a bucket that is a site, to
// anybody. A path that ends in a slash is that of its index.html.
func (s *Server) site(w http.ResponseWriter, r *http.Request) error {
	none := &refusal{status: 404, title: "not found", detail: "there is no such page"}
	bucket, path := chi.URLParam(r, "bucket"), chi.URLParam(r, "*")
	if path == "" || strings.HasSuffix(path, "/") {
		path += "index.html"
	}
	var id, body string
	err := s.db.sql.QueryRowContext(r.Context(), `select id, body from things where type = 'bucket' and name = ?`,
		bucket).Scan(&id, &body)
	if errors.Is(err, sql.ErrNoRows) {
		return none
	}
	if err != nil {
		return err
	}
	is, err := decode(body)
	if err != nil {
		return err
	}
	if is["site"] != true {
		return none
	}
	err = s.db.sql.QueryRowContext(r.Context(),
		`select things.body from claims join things on things.id = claims.thing where claims.type = 'object' and claims.claim = ?`, claimOf(id, path)).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return none
	}
	if err != nil {
		return err
	}
	if is, err = decode(body); err != nil {
		return err
	}
	h := w.Header()
	h.Set("Content-Type", is["media_type"].(string))
	h.Set("ETag", `"`+is["sha256"].(string)+`"`)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Content-Security-Policy", "sandbox allow-scripts") // it shares its address with the console
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(is["text"].(string)))
	return nil
}
