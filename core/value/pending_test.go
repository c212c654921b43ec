package value

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestResolve: pending values are filled in where they are known, a text only
// as a whole, and JSON is escaped when it is filled in.
func TestResolve(t *testing.T) {
	id, gate := NewRef("s:t.net/a", Key("id")), NewRef("s:t.net/a", Key("gate"))
	url := Concat(Part{Text: "http://"}, Part{Value: gate}, Part{Text: "/"}, Part{Value: id})
	doc := Concat(Part{Text: `{"g":`}, Part{Value: gate, As: AsJSON}, Part{Text: "}"})
	known := map[string]any{"gate": "10.0.0.1"}
	lookup := func(r Ref) (any, error) {
		v, ok := known[r.Path[0].Key]
		if !ok {
			return nil, ErrUnknown
		}
		return v, nil
	}
	in := Map{"list": []any{id, gate, "x"}, "url": url, "doc": doc}
	out, err := Resolve(in, lookup)
	require.NoError(t, err)
	require.True(t, IsPending(out))
	m := out.(map[string]any)
	require.Equal(t, []any{id, "10.0.0.1", "x"}, m["list"])
	require.Same(t, url, m["url"], "a text is filled in as a whole or not at all")
	require.Equal(t, `{"g":"10.0.0.1"}`, m["doc"])
	require.True(t, IsPending(in["list"]), "the value that was resolved stays as it was")

	known["id"], known["gate"] = int64(7), "a \"quoted\"\nline"
	out, err = Resolve(in, lookup)
	require.NoError(t, err)
	require.False(t, IsPending(out))
	require.Equal(t, "http://a \"quoted\"\nline/7", out.(map[string]any)["url"])
	require.Equal(t, "{\"g\":\"a \\\"quoted\\\"\\nline\"}", out.(map[string]any)["doc"])

	known["gate"] = []any{"a", "b"}
	_, err = Resolve(url, lookup)
	require.ErrorContains(t, err, "a list cannot be written into a text")
	out, err = Resolve(doc, lookup)
	require.NoError(t, err, "in JSON it can")
	require.Equal(t, `{"g":["a","b"]}`, out)
	boom := errors.New("the ledger cannot be read")
	_, err = Resolve(in, func(Ref) (any, error) { return nil, boom })
	require.ErrorIs(t, err, boom)
	known["gate"], known["id"] = nil, true
	out, err = Resolve(url, lookup)
	require.NoError(t, err)
	require.Equal(t, "http://None/True", out, "as str() writes them")
}

func TestConcat(t *testing.T) {
	a := NewRef("s:t.a/b", Key("x"))
	p := Concat(Part{Text: "1"}, Part{Text: ""}, Part{Text: "2"}, Part{Value: Concat(Part{Text: "3"}, Part{Value: a},
		Part{Text: "4"})}, Part{Text: "5"})
	require.Equal(t, "123{t.a/b x}45", p.String(), "texts in texts become one")
	require.Len(t, p.Parts, 3)
	require.Nil(t, p.Below(Key("x")), "a text has nothing below it")
	require.Equal(t, "t.a/b x[2].y", a.Below(Item(2)).Below(Key("y")).String())
	require.Equal(t, "t.a/b x", a.String(), "what is below is another value")
	var refs []string
	Refs(Map{"k": []any{p, a, "x"}, "a": a.Below(Key("z"))}, func(r Ref) { refs = append(refs, r.String()) })
	require.Equal(t, []string{"t.a/b x.z", "t.a/b x", "t.a/b x"}, refs)
}

func TestNormalAndClone(t *testing.T) {
	v, err := Normal(map[string]any{"a": 5, "b": []any{float64(2)}, "c": nil})
	require.NoError(t, err)
	require.Equal(t, Map{"a": int64(5), "b": []any{2.0}, "c": nil}, v)
	for _, bad := range []any{uint8(3), []string{"a"}, struct{}{}, map[string]any{"deep": []any{make(chan int)}}} {
		_, err := Normal(bad)
		require.Error(t, err, "%T", bad)
	}
	inner := []any{int64(1)}
	copied := Clone(Map{"a": inner}).(map[string]any)
	inner[0] = int64(2)
	require.Equal(t, []any{int64(1)}, copied["a"])
	require.Nil(t, CloneMap(nil))
}
