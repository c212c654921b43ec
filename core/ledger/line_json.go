package ledger

import (
	"bytes"
	"encoding/json"
	"math"
	"strconv"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// What a run writes most, calls and records, is written here by hand, as encoding/json would write it: by
// reflection it takes three to four times as long, which is what callers wait for where the disk is quick.
// TestLinesByHand compares the two for every field that there is.

// linesOf writes lines as they follow the header of an entry.
func linesOf(lines []Line) ([]byte, error) {
	w := writing{b: make([]byte, 0, 512)}
	for i := range lines {
		w.line(&lines[i])
		w.b = append(w.b, '\n')
	}
	return w.b, w.err
}

// writing writes JSON, up to the first error.
type writing struct {
	b   []byte
	err error
}

// reflected writes any value as encoding/json does, but for HTML.
func (w *writing) reflected(v any) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		if w.err == nil {
			w.err = err
		}
		return
	}
	w.b = append(w.b, bytes.TrimSuffix(b.Bytes(), []byte("\n"))...)
}

func (w *writing) key(name string) {
	if w.b[len(w.b)-1] != '{' {
		w.b = append(w.b, ',')
	}
	w.b = append(append(append(w.b, '"'), name...), `":`...)
}

func (w *writing) text(name, s string) {
	w.key(name)
	w.b = value.AppendText(w.b, s)
}

// The following write nothing where there is nothing to say.

func (w *writing) anyText(name, s string) {
	if s != "" {
		w.text(name, s)
	}
}

func (w *writing) anyTexts(name string, list []string) {
	if len(list) == 0 {
		return
	}
	w.key(name)
	for i, s := range list {
		w.b = append(w.b, "[,"[min(i, 1)])
		w.b = value.AppendText(w.b, s)
	}
	w.b = append(w.b, ']')
}

func (w *writing) anyTrue(name string, is bool) {
	if is {
		w.key(name)
		w.b = append(w.b, "true"...)
	}
}

func (w *writing) anySeconds(name string, s float64) {
	switch {
	case s == 0:
	case math.IsNaN(s) || math.IsInf(s, 0):
		w.reflected(s) // it is an error
	default:
		w.key(name)
		w.b = strconv.AppendFloat(w.b, s, 'g', -1, 64)
	}
}

func (w *writing) anyAttributes(name string, a value.Attributes) {
	if len(a) > 0 {
		w.attributes(name, a)
	}
}

func (w *writing) anyRecord(r *Record) {
	if r != nil {
		w.key("record")
		w.record(r)
	}
}

func (w *writing) attributes(name string, a value.Attributes) {
	w.key(name)
	if a == nil {
		w.b = append(w.b, "null"...)
		return
	}
	w.b = value.Append(w.b, map[string]any(a))
}

func (w *writing) number(name string, n int64) {
	w.key(name)
	w.b = strconv.AppendInt(w.b, n, 10)
}

func (w *writing) time(name string, t time.Time) {
	w.key(name)
	w.b = append(t.AppendFormat(append(w.b, '"'), time.RFC3339Nano), '"')
}

func (w *writing) line(l *Line) {
	switch {
	case l.Kind == KindIntent && l.Intent != nil:
		w.b = append(w.b, `{"kind":"intent","intent":`...)
		w.intent(l.Intent)
	case l.Kind == KindResult && l.Result != nil:
		w.b = append(w.b, `{"kind":"result","result":`...)
		w.result(l.Result)
	case l.Kind == KindNote && l.Note != nil && l.Note.Record != nil && l.Note.Drift == nil && !l.Note.wide():
		w.b = append(w.b, `{"kind":"note","note":{`...)
		w.text("what", l.Note.What)
		w.anyRecord(l.Note.Record)
		w.anyText("dropped", l.Note.Dropped)
		w.b = append(w.b, '}')
	default:
		w.reflected(l)
		return
	}
	w.b = append(w.b, '}')
}

func (w *writing) intent(in *Intent) {
	w.b = append(w.b, '{')
	w.text("id", in.ID)
	w.text("address", in.Address)
	w.text("type", in.Type)
	w.text("action", in.Action)
	w.anyText("half", in.Half)
	w.anyTrue("undo", in.Undo)
	w.text("call", in.Call)
	w.anyText("thing", in.Thing)
	w.anyAttributes("inputs", in.Inputs)
	w.anyAttributes("from", in.From)
	w.anyAttributes("to", in.To)
	w.anyAttributes("before", in.Before)
	w.anyText("tag", in.Tag)
	w.text("key", in.Key)
	w.number("attempt", int64(in.Attempt))
	if in.Plan != nil {
		w.key("plan")
		w.record(in.Plan)
	}
	w.anyText("made", in.Made)
	w.b = append(w.b, '}')
}

func (w *writing) result(r *Result) {
	w.b = append(w.b, '{')
	w.text("intent", r.Intent)
	w.anyText("run", r.Run)
	w.text("address", r.Address)
	w.text("outcome", string(r.Outcome))
	w.anyText("error", r.Error)
	w.anySeconds("seconds", r.Seconds)
	w.anyRecord(r.Record)
	w.anyTrue("dropped", r.Dropped)
	w.anyText("made", r.Made)
	w.b = append(w.b, '}')
}

func (w *writing) record(r *Record) {
	w.b = append(w.b, '{')
	w.text("address", r.Address)
	w.text("type", r.Type)
	w.text("driver_version", r.DriverVersion)
	w.text("id", r.ID)
	w.attributes("inputs", r.Inputs)
	w.attributes("live", r.Live)
	w.anyTexts("absent", r.Absent)
	w.anyTexts("needs", r.Needs)
	w.key("care")
	w.care(&r.Care)
	w.anyText("kit", r.Kit)
	w.anyText("tag", r.Tag)
	w.number("version", r.Version)
	w.time("changed", r.Changed)
	w.text("run", r.Run)
	w.anyText("seen", r.Seen)
	if len(r.Leftovers) > 0 {
		w.key("leftovers")
		w.reflected(r.Leftovers)
	}
	w.anyAttributes("hidden", r.Hidden)
	if len(r.Copies) > 0 {
		w.key("copies")
		w.reflected(r.Copies)
	}
	w.anyText("moving_to", r.MovingTo)
	w.anyText("declared", r.Declared)
	w.b = append(w.b, '}')
}

// care is rarely anything.
func (w *writing) care(c *schema.Care) {
	if c.None() {
		w.b = append(w.b, "{}"...)
		return
	}
	w.reflected(c)
}
