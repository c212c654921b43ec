package medina

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
)

// Snapshots of all that Medina holds, and beginning anew. They are SQLite files;
// tokens are not in them.

const maxSnapshot = 4 << 30

// kept are the tables of a snapshot.
var kept = []string{"things", "refs", "claims", "hosts", "hidden", "counters", "keys", "operations", "events", "faults"}

// snapshot answers for /snapshot: GET gives one, POST takes one over.
func (s *Server) snapshot(w http.ResponseWriter, r *http.Request) error {
	dir, err := os.MkdirTemp(filepath.Dir(s.o.Path), ".snapshot-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "medina.db")
	if r.Method == http.MethodPost {
		return s.takeOver(w, r, path)
	}
	if _, err := s.db.sql.ExecContext(r.Context(), `vacuum into ?`, path); err != nil {
		return err
	}
	copied, err := openDatabase(path)
	if err != nil {
		return err
	}
	_, err = copied.sql.ExecContext(r.Context(), `delete from tokens; pragma journal_mode = delete;`)
	if err := errors.Join(err, copied.sql.Close()); err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w.Header().Set("Content-Type", "application/vnd.sqlite3")
	_, err = io.Copy(w, f)
	return err
}

func (s *Server) takeOver(w http.ResponseWriter, r *http.Request, path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, http.MaxBytesReader(w, r.Body, maxSnapshot))
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	no := func(err error) error {
		return &refusal{status: 422, title: "not acceptable", detail: "the body is no snapshot of a Medina: " + err.Error()}
	}
	theirs, err := openDatabase(path) // makes what an older one lacks
	if err != nil {
		return no(err)
	}
	var sound string
	err = theirs.sql.QueryRowContext(r.Context(), `pragma integrity_check(1)`).Scan(&sound)
	if err == nil && sound != "ok" {
		err = errors.New(sound)
	}
	if err := errors.Join(err, theirs.sql.Close()); err != nil {
		return no(err)
	}
	if err := s.replaced(r.Context(), path); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}

// replaced puts what a file holds in the place of everything; of no file, nothing.
func (s *Server) replaced(ctx context.Context, path string) error {
	s.db.write.Lock()
	defer s.db.write.Unlock()
	conn, err := s.db.sql.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	script := []string{`begin immediate`}
	if path != "" {
		if _, err := conn.ExecContext(ctx, `attach ? as theirs`, path); err != nil {
			return err
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), `detach theirs`) // the connection goes anyway where that fails
	}
	for _, table := range kept {
		script = append(script, "delete from main."+table)
		if path == "" {
			continue
		}
		columns, err := columnsOf(ctx, conn, table)
		if err != nil {
			return err
		}
		script = append(script, fmt.Sprintf("insert into main.%s (%s) select %s from theirs.%s", table, columns, columns, table))
	}
	for _, query := range append(script, `commit`) {
		if _, err := conn.ExecContext(ctx, query); err != nil {
			_, undo := conn.ExecContext(context.WithoutCancel(ctx), `rollback`)
			return errors.Join(err, undo)
		}
	}
	return nil
}

// columnsOf lists a table's columns by name, as two files may have them in another
// order.
func columnsOf(ctx context.Context, conn *sql.Conn, table string) (string, error) {
	list, err := conn.QueryContext(ctx, `select name from pragma_table_info(?)`, table)
	if err != nil {
		return "", err
	}
	defer list.Close()
	var names []string
	for list.Next() {
		var n string
		if err := list.Scan(&n); err != nil {
			return "", err
		}
		names = append(names, `"`+n+`"`)
	}
	return strings.Join(names, ", "), list.Err()
}

// reset answers for DELETE /things: nothing is left, as in a new Medina.
func (s *Server) reset(w http.ResponseWriter, r *http.Request) error {
	if err := s.replaced(r.Context(), ""); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
