package medina

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Snapshots of all that Medina holds, and starting from one. They are SQLite files;
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
	if err := http.NewResponseController(w).SetReadDeadline(time.Now().Add(snapshotTime)); err != nil && !errors.Is(err,
		http.ErrNotSupported) {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, http.MaxBytesReader(w, r.Body, maxSnapshot))
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	no := func(err error) error {
		return &refusal{status: 422, title: "not acceptable", detail: "the body is not a snapshot of a Medina: " +
			err.Error()}
	}
	if err := foreign(r.Context(), path); err != nil {
		return no(err)
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

// foreign is an error unless a file holds nothing but tables and indexes of a Medina: a
// view or a trigger would run what another person or program has written. Nothing of the file runs here.
func foreign(ctx context.Context, path string) error {
	u := url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(),
		RawQuery: "mode=ro&immutable=1&_pragma=trusted_schema(off)&_pragma=query_only(on)&_pragma=cell_size_check(on)"}
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, `select type, name, tbl_name, coalesce(sql, '') from sqlite_master`)
	if err != nil {
		return err
	}
	defer rows.Close()
	n := 0
	for rows.Next() {
		var typ, name, table, text string
		if err := rows.Scan(&typ, &name, &table, &text); err != nil {
			return err
		}
		known := table == "tokens" || table == "sqlite_sequence" || slices.Contains(kept, table)
		plain := typ == "table" && !strings.HasPrefix(strings.ToLower(strings.TrimSpace(text)), "create virtual") ||
			typ == "index"
		if !known || !plain {
			return fmt.Errorf("it holds a %s %q, which no Medina has", typ, name)
		}
		n++
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if n == 0 {
		return errors.New("it is empty")
	}
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
		// the connection goes anyway where that fails
		defer conn.ExecContext(context.WithoutCancel(ctx), `detach theirs`)
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
		script = append(script, fmt.Sprintf("insert into main.%s (%s) select %s from theirs.%s", table, columns,
			columns, table))
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
