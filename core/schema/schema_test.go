package schema

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

func bound(n float64) *float64 { return &n }
func length(n int) *int        { return &n }

func TestCheck(t *testing.T) {
	typ := &Type{Name: "lamp", ID: "id", Attributes: []*Attribute{
		{Name: "name", Kind: Text, MinLength: length(2), MaxLength: length(4), Pattern: "^[a-z]+$"},
		{Name: "power", Kind: Int, Min: bound(1), Max: bound(10), Required: true},
		{Name: "level", Kind: Number},
		{Name: "on", Kind: Bool},
		{Name: "colour", Kind: Text, OneOf: []any{"red", "green"}},
		{Name: "range", Kind: Text, Format: "cidr"},
		{Name: "ports", Kind: List, Elem: &Attribute{Kind: Int, Min: bound(1)}, MaxLength: length(2)},
		{Name: "tags", Kind: MapOf, Elem: &Attribute{Kind: Text}},
		{Name: "beam", Kind: Record, Fields: []*Attribute{{Name: "width", Kind: Number, Required: true},
			{Name: "sectors", Kind: List, Elem: &Attribute{Kind: Text}}}},
		{Name: "extra", Kind: Any},
		{Name: "id", Kind: Text, Output: true},
	}}
	typ.Index()
	for _, c := range []struct {
		name string
		c    struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}
	}{
		{"name 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "abc", want: "abc"}},
		{"name 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "a", path: "name", says: "at least 2"}},
		{"name 3", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "abcde", path: "name", says: "at most 4"}},
		{"name 4", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "ABC", path: "name", says: "does not match"}},
		{"name 5", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: int64(5), path: "name", says: "must be a text, not a whole number"}},
		{"name 6", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "a\xff", path: "name", says: "not UTF-8"}},
		{"name 7", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: value.NewRef("a", value.Key("b")), want: value.NewRef("a", value.Key("b"))}},
		{"power 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: int64(5), want: int64(5)}},
		{"power 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: 5.0, want: int64(5)}},
		{"power 3", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: 5.5, path: "power", says: "whole number"}},
		{"power 4", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: int64(0), path: "power", says: "0 is less than 1"}},
		{"power 5", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: int64(11), path: "power", says: "11 is more than 10"}},
		{"power 6", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: value.Concat(value.Part{Value: value.NewRef("a")}), path: "power",
			says: "a text made from pending values"}},
		{"level 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: int64(5), want: 5.0}},
		{"level 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: true, path: "level", says: "must be a number, not a bool"}},
		{"on 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: true, want: true}},
		{"on 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "true", path: "on", says: "True or False"}},
		{"colour 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "red", want: "red"}},
		{"colour 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "gren", path: "colour", says: `"gren" is not one of red, green`,
			hint: `did you mean "green"?`}},
		{"range 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "fd00::/8", want: "fd00::/8"}},
		{"range 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "10.0.0.1", path: "range", says: "not an address range"}},
		{"ports 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: []any{1.0, int64(2)}, want: []any{int64(1), int64(2)}}},
		{"ports 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: []any{int64(1), int64(0)}, path: "ports[1]", says: "0 is less than 1"}},
		{"ports 3", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: []any{int64(1), int64(2), int64(3)}, path: "ports", says: "at most 2"}},
		{"ports 4", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "80", path: "ports", says: "must be a list"}},
		{"tags 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: value.Map{"a": "b"}, want: value.Map{"a": "b"}}},
		{"tags 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: value.Map{"a.b": int64(1)}, path: `tags["a.b"]`, says: "must be a text"}},
		{"beam 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: value.Map{"width": int64(2)}, want: value.Map{"width": 2.0}}},
		{"beam 2", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: value.Map{"widht": int64(2), "width": int64(1)}, path: "beam.widht",
			says: `beam has no field "widht"`, hint: `did you mean "width"?`}},
		{"beam 3", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: value.Map{}, path: "beam.width", says: "required and missing"}},
		{"extra 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: []any{value.Map{"a": nil}}, want: []any{value.Map{"a": nil}}}},
		{"id 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "x", path: "id", says: "decided by the cloud"}},
		{"idd 1", struct {
			in   any
			want any    // when it passes
			path string // of the fault, when it does not
			says string
			hint string
		}{in: "x", path: "idd", says: `a lamp has no attribute "idd"`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			attr, _, _ := cut(c.name)
			in := value.Map{"power": int64(1)}
			in[attr] = c.c.in
			out, faults := typ.Check(in)
			if c.c.path == "" {
				require.Empty(t, faults, c.name)
				require.Equal(t, c.c.want, out[attr], c.name)
				return
			}
			require.Len(t, faults, 1, c.name)
			require.Equal(t, c.c.path, faults[0].Path.String(), c.name)
			require.Contains(t, faults[0].Message, c.c.says, c.name)
			require.Equal(t, c.c.hint, faults[0].Hint, c.name)
		})
	}
	_, faults := typ.Check(value.Map{"power": nil})
	require.Len(t, faults, 1, "None is the same as leaving it out")
	require.Equal(t, Text, typ.Lookup(value.Path{value.Key("beam"), value.Key("sectors"), value.Item(3)}).Kind)
	require.Nil(t, typ.Lookup(value.Path{value.Key("name"), value.Key("x")}))
	require.True(t, typ.NamedByPattern())
	require.Equal(t, "create-first", typ.Order())
}

func cut(name string) (attr, n string, ok bool) {
	for i := range name {
		if name[i] == ' ' {
			return name[:i], name[i+1:], true
		}
	}
	return name, "", false
}
