package medina

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"kasbah/core/nearest"
)

// Fault is something that Medina does wrong on demand.
type Fault struct {
	Kind  string `json:"kind"`           // one of FaultKinds
	On    string `json:"on,omitempty"`   // one of faultCalls; any when empty
	Type  string `json:"type,omitempty"` // of the thing; any when empty
	After int    `json:"after"`          // so many calls pass first
	Times int    `json:"times"`          // so many calls meet it, at least 1
	// Millis is how long a delayed call waits, and after how long a throttled
	// one may be tried again.
	Millis int64 `json:"millis"`
}

// FaultKinds are the kinds of faults, with what each does.
var FaultKinds = []struct{ Name, Help string }{
	{"refuse", "the call is refused for good"},
	{"delay", "the call waits before it is carried out"},
	{"drop-before", "the connection is lost before the call has an effect"},
	{"drop-after", "the connection is lost after the call had its effect"},
	{"half", "half of the answer comes, after the call had its effect"},
	{"throttle", "the call is put off: 429, with Retry-After"},
}

// faultCalls are the calls that a fault can be limited to.
var faultCalls = []string{"create", "edit", "copy", "delete", "read", "list"}

func (f *Fault) check(types []string) error {
	var kinds []string
	for _, k := range FaultKinds {
		kinds = append(kinds, k.Name)
	}
	for _, x := range []struct {
		what, is string
		of       []string
	}{{"kind", f.Kind, kinds}, {"on", f.On, faultCalls}, {"type", f.Type, types}} {
		if slices.Contains(x.of, x.is) || x.is == "" && x.what != "kind" {
			continue
		}
		detail := fmt.Sprintf("%q is not one of %s", x.is, strings.Join(x.of, ", "))
		if h := nearest.Hint(x.is, x.of); h != "" {
			detail += "; " + h
		}
		return refuse(x.what, "%s", detail)
	}
	if f.After < 0 || f.Times < 1 || f.Millis < 0 || f.Millis > int64(time.Hour/time.Millisecond) {
		return refuse("times", "a fault meets at least one call, after none or some, and lasts at most an hour")
	}
	return nil
}

// faults answers for /faults: GET lists, POST adds one, DELETE clears all.
func (s *Server) faults(w http.ResponseWriter, r *http.Request) error {
	switch r.Method {
	case http.MethodPost:
		f := Fault{Times: 1}
		dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, maxBody))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&f); err != nil {
			return &refusal{status: 400, title: "not readable", detail: "the body is not a fault: " + err.Error()}
		}
		var types []string
		for _, k := range s.kinds {
			types = append(types, k.Name)
		}
		if err := f.check(types); err != nil {
			return err
		}
		err := s.db.update(r.Context(), func(t *tx) error {
			return t.real.exec(`insert into faults (kind, call, type, after, times, millis) values (?, ?, ?, ?, ?, ?)`,
				f.Kind, f.On, f.Type, f.After, f.Times, f.Millis)
		})
		if err != nil {
			return err
		}
	case http.MethodDelete:
		if err := s.db.update(r.Context(), func(t *tx) error { return t.real.exec(`delete from faults`) }); err != nil {
			return err
		}
	}
	rows, err := s.db.sql.QueryContext(r.Context(),
		`select kind, call, type, after, times, millis from faults order by seq`)
	if err != nil {
		return err
	}
	defer rows.Close()
	list := []Fault{}
	for rows.Next() {
		var f Fault
		if err := rows.Scan(&f.Kind, &f.On, &f.Type, &f.After, &f.Times, &f.Millis); err != nil {
			return err
		}
		list = append(list, f)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(map[string]any{"items": list})
}

// meets finds the fault that a call meets, and counts it. It is nil when
// there is none, as nearly always.
func (s *Server) meets(ctx context.Context, call string, k *kind) (*Fault, error) {
	const which = `from faults where call in ('', ?) and type in ('', ?) order by seq limit 1`
	var seq int64
	err := s.db.sql.QueryRowContext(ctx, `select seq `+which, call, k.Name).Scan(&seq)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	var met *Fault
	if err != nil {
		return nil, err
	}
	err = s.db.update(ctx, func(t *tx) error {
		var f Fault
		err := t.real.row(`select seq, kind, after, times, millis `+which, call, k.Name).Scan(&seq, &f.Kind, &f.After,
			&f.Times, &f.Millis)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return nil // another call met the last one meanwhile
		case err != nil:
			return err
		case f.After > 0:
			return t.real.exec(`update faults set after = after - 1 where seq = ?`, seq)
		}
		met = &f
		if f.Times > 1 {
			return t.real.exec(`update faults set times = times - 1 where seq = ?`, seq)
		}
		return t.real.exec(`delete from faults where seq = ?`, seq)
	})
	return met, err
}

// faulty lets a call meet the faults that somebody asked for.
func (s *Server) faulty(call string, k *kind, serve http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var f *Fault
		s.handle(func(w http.ResponseWriter, r *http.Request) (err error) {
			f, err = s.meets(r.Context(), call, k)
			switch {
			case err != nil:
			case f == nil:
				serve(w, r)
			case f.Kind == "refuse":
				err = &refusal{status: 422, title: "not acceptable", detail: "Medina was asked to refuse this call"}
			case f.Kind == "throttle":
				w.Header().Set("Retry-After", fmt.Sprint((f.Millis+999)/1000))
				err = &refusal{status: http.StatusTooManyRequests, title: "too many requests",
					detail: "Medina was asked to put this call off"}
			}
			return err
		})(w, r)
		if f == nil {
			return
		}
		switch f.Kind {
		case "delay":
			t := time.NewTimer(time.Duration(f.Millis) * time.Millisecond)
			defer t.Stop()
			select {
			case <-t.C:
				serve(w, r)
			case <-r.Context().Done():
			}
		case "drop-before":
			panic(http.ErrAbortHandler)
		case "drop-after", "half":
			// the caller's going away must not undo what the fault says has happened
			r = r.WithContext(context.WithoutCancel(r.Context()))
			answer := &keptAnswer{header: http.Header{}, status: http.StatusOK}
			serve(answer, r)
			if f.Kind == "half" {
				sendHalf(w, answer)
			}
			panic(http.ErrAbortHandler)
		}
	}
}

// keptAnswer keeps an answer instead of sending it.
type keptAnswer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *keptAnswer) Header() http.Header         { return a.header }
func (a *keptAnswer) WriteHeader(status int)      { a.status = status }
func (a *keptAnswer) Write(b []byte) (int, error) { return a.body.Write(b) }

// sendHalf sends an answer's header and the first half of its body.
func sendHalf(w http.ResponseWriter, answer *keptAnswer) {
	body := answer.body.Bytes()
	if len(body) == 0 {
		return // there is no half of nothing: the connection is lost
	}
	for k, v := range answer.header {
		w.Header()[k] = v
	}
	w.Header().Set("Content-Length", fmt.Sprint(len(body)))
	w.WriteHeader(answer.status)
	if _, err := w.Write(body[:len(body)/2]); err != nil {
		return // the caller is gone already
	}
	if f, ok := w.(http.Flusher); ok {
		f.Flush()
	}
}
