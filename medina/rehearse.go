package medina

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"kasbah/core/value"
)

// maxRehearsal bounds what is tried at once, in bytes.
const maxRehearsal = 64 << 20

// rehearsed is how one call of a rehearsal ended.
type rehearsed struct {
	Tried   bool   `json:"tried"`
	Because string `json:"because,omitempty"` // why not
	Refusal any    `json:"refusal,omitempty"`

	made value.Map
}

// rehearse tries calls in their order, on what there is at one moment and in memory.
func (s *Server) rehearse(w http.ResponseWriter, r *http.Request) error {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxRehearsal))
	if err != nil {
		return &refusal{status: 413, title: "too large",
			detail: fmt.Sprintf("the body did not come whole, or is larger than %d bytes", maxRehearsal)}
	}
	v, err := value.Parse(raw)
	m, _ := v.(map[string]any)
	calls, ok := m["calls"].([]any)
	if err != nil || !ok {
		return &refusal{status: 400, title: "not readable", detail: "the body has no list of calls"}
	}
	results := make([]rehearsed, len(calls))
	kinds := map[string]*kind{}
	for _, k := range s.kinds {
		kinds[k.Name] = k
	}
	err = s.db.look(r.Context(), func(t *tables) error {
		trial := newTrial(t)
		if err := trial.ahead(kinds, calls); err != nil {
			return err
		}
		for i, c := range calls {
			if err := r.Context().Err(); err != nil {
				return err
			}
			call, ok := c.(map[string]any)
			if !ok {
				return &refusal{status: 400, title: "not readable", detail: fmt.Sprintf("call %d is not an object", i)}
			}
			if err := s.try(trial, kinds, r, call, results, i); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(map[string]any{"results": results})
}

// try does one call.
func (s *Server) try(l *trial, kinds map[string]*kind, r *http.Request, call value.Map, results []rehearsed,
	i int) error {
	out := &results[i]
	typ, _ := call["type"].(string)
	k := kinds[typ]
	if k == nil {
		out.Because = fmt.Sprintf("there is no type %q", typ)
		return nil
	}
	id, _ := call["id"].(string)
	q := request{kind: k, id: id, who: who(r), by: asker(r.Context()), path: "/" + k.plural}
	do := map[string]func(*tx, request) (answer, error){"create": s.create, "update": s.edit,
		"delete": s.remove}[fmt.Sprint(call["do"])]
	if do == nil {
		out.Because = "do is none of create, update, delete"
		return nil
	}
	if call["body"] != nil {
		body, err := filled(call["body"], results[:i])
		if err != nil {
			out.Because = err.Error()
			return nil
		}
		if q.body, _ = body.(map[string]any); q.body == nil {
			q.body = value.Map{}
		}
	}
	out.Tried = true
	a, err := l.carry(func() (answer, error) {
		return do(&tx{held: l, quotas: s.o.Quotas, types: s.types}, q)
	})
	var no *refusal
	if errors.As(err, &no) {
		refusal := map[string]any{"title": no.title, "status": no.status, "detail": no.detail}
		if no.errors != nil {
			refusal["errors"] = no.errors
		}
		out.Refusal = refusal
		return nil
	}
	out.made = a.made
	return err
}

// filled puts what earlier calls made where it is wanted.
func filled(v any, before []rehearsed) (any, error) {
	switch v := v.(type) {
	case []any:
		for i := range v {
			is, err := filled(v[i], before)
			if err != nil {
				return nil, err
			}
			v[i] = is
		}
	case map[string]any:
		if n, ok := v["$call"].(int64); ok {
			if n < 0 || n >= int64(len(before)) || before[n].made == nil {
				return nil, fmt.Errorf("what call %d makes is not known", n)
			}
			at, _ := v["path"].(string)
			var is any = before[n].made
			for _, step := range value.PointerParts(at) {
				switch in := is.(type) {
				case map[string]any:
					is = in[step]
				case []any:
					i, err := strconv.Atoi(step)
					if err != nil || i < 0 || i >= len(in) {
						return nil, fmt.Errorf("call %d makes nothing at %s", n, at)
					}
					is = in[i]
				default:
					is = nil
				}
			}
			if is == nil {
				return nil, fmt.Errorf("call %d makes nothing at %s", n, at)
			}
			return is, nil
		}
		if parts, ok := v["$text"].([]any); ok {
			out := ""
			for _, p := range parts {
				is, err := filled(p, before)
				if err != nil {
					return nil, err
				}
				if text, ok := is.(string); ok {
					out += text
				} else {
					out += value.Plain(is)
				}
			}
			return out, nil
		}
		for k := range v {
			is, err := filled(v[k], before)
			if err != nil {
				return nil, err
			}
			v[k] = is
		}
	}
	return v, nil
}
