package ledger

import (
	"encoding/json"
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

// each calls f with a value of the type of v in which one field after the other is filled, alone, and then all.
func each(v reflect.Value, f func(field string)) {
	for i := range v.NumField() {
		fill(v.Field(i), 0)
		f(v.Type().Field(i).Name)
		v.Field(i).SetZero()
	}
	for i := range v.NumField() {
		fill(v.Field(i), 0)
	}
	f("all")
}

// fill makes v say something in each of its fields, to some depth.
func fill(v reflect.Value, depth int) {
	switch {
	case depth > 4:
	case v.Type() == reflect.TypeFor[value.Attributes]():
		v.Set(reflect.ValueOf(value.Attributes{"size": "a \"b\" <c>\n\u2028\x01", "n": int64(7), "list": []any{true, 1.5, nil}}))
	case v.Type() == reflect.TypeFor[time.Time]():
		v.Set(reflect.ValueOf(time.Date(2026, 11, 30, 8, 0, 0, 120, time.UTC)))
	case v.Type() == reflect.TypeFor[value.Path]():
		path, _ := value.ParsePath("tags.light")
		v.Set(reflect.ValueOf(path))
	case v.Kind() == reflect.String:
		v.SetString("quay \"7\" <&>\\ é\t\x02")
	case v.Kind() == reflect.Bool:
		v.SetBool(true)
	case v.CanInt():
		v.SetInt(3)
	case v.CanFloat():
		v.SetFloat(0.0000001)
	case v.Kind() == reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		fill(v.Index(0), depth+1)
		fill(v.Index(1), depth+1)
	case v.Kind() == reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		element := reflect.New(v.Type().Elem()).Elem()
		fill(element, depth+1)
		v.SetMapIndex(reflect.ValueOf("rule").Convert(v.Type().Key()), element)
	case v.Kind() == reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), depth+1)
	case v.Kind() == reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				fill(v.Field(i), depth+1)
			}
		}
	}
}

// TestLinesByHand: what is written by hand reads as what encoding/json writes, for each field alone and for all.
func TestLinesByHand(t *testing.T) {
	same := func(field string, line Line) {
		t.Helper()
		ours, err := linesOf([]Line{line})
		require.NoError(t, err, field)
		theirs, err := json.Marshal(line)
		require.NoError(t, err, field)
		var a, b Line
		require.NoError(t, json.Unmarshal(ours, &a), "%s: %s", field, ours)
		require.NoError(t, json.Unmarshal(theirs, &b), field)
		require.Equal(t, b, a, field)
		require.Equal(t, 1, strings.Count(string(ours), "\n"), field)
	}
	var in Intent
	each(reflect.ValueOf(&in).Elem(), func(field string) { same("intent "+field, Line{Kind: KindIntent, Intent: &in}) })
	var result Result
	each(reflect.ValueOf(&result).Elem(), func(field string) { same("result "+field, Line{Kind: KindResult, Result: &result}) })
	note := Note{Record: &Record{}}
	each(reflect.ValueOf(&note).Elem(), func(field string) { same("note "+field, Line{Kind: KindNote, Note: &note}) })
	var r Record
	each(reflect.ValueOf(&r).Elem(), func(field string) {
		same("record "+field, Line{Kind: KindNote, Note: &Note{What: "seen", Record: &r}})
		stored := stored(&r, 1)
		body, err := stored.body()
		require.NoError(t, err)
		var back Record
		require.NoError(t, json.Unmarshal(body, &back))
		require.Equal(t, r.ID, back.ID)
	})
	var st Stored
	for _, st.ID = range []string{"", "mac-1", "quay \"7\"\n\x01", "a\xffb"} {
		for _, st.Needs = range [][]string{nil, {}, {"shore:medina.subnet/quay", "a\xff"}} {
			st.Address, st.Whole, st.Seq = "medina.machine/"+st.ID+"é", st.ID == "", 12
			theirs, err := json.Marshal([]any{st.Address, st.Type, st.ID, st.Tag, st.Needs, st.Declared, st.Whole,
				st.Settled, st.Seq, 7})
			require.NoError(t, err)
			require.JSONEq(t, string(theirs), string(st.appendHead(nil, 7)))
		}
	}
	var care Record
	each(reflect.ValueOf(&care.Care).Elem(), func(field string) {
		same("care "+field, Line{Kind: KindNote, Note: &Note{What: "seen", Record: &care}})
	})
	var line Line
	each(reflect.ValueOf(&line).Elem(), func(field string) { same("line "+field, line) })
	_, err := linesOf([]Line{{Kind: KindResult, Result: &Result{Seconds: math.NaN()}}})
	require.Error(t, err)
}
