package value

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// random makes a random value, pending ones included.
func random(r *rand.Rand, depth int) any {
	texts := []string{"", "a", "$pending", "$", "$$x", "ä\n\"\\\x00\u2028", "5", "true", "net-1"}
	switch n := r.IntN(10); {
	case n == 0:
		return nil
	case n == 1:
		return r.IntN(2) == 0
	case n == 2:
		return int64(r.Uint64())
	case n == 3:
		return r.NormFloat64() * 1e6
	case n < 6 || depth == 0:
		return texts[r.IntN(len(texts))]
	case n == 6:
		return &Pending{Ref: &Ref{Address: "shore:medina.x/" + texts[1+r.IntN(8)], Path: randomPath(r)}}
	case n == 7:
		return Concat(Part{Text: texts[r.IntN(9)]},
			Part{Value: &Pending{Ref: &Ref{Address: "a:b.c/d", Path: randomPath(r)}}, As: []Encoding{AsText,
				AsJSON}[r.IntN(2)]}, Part{Text: "z"})
	case n == 8:
		list := make([]any, r.IntN(4))
		for i := range list {
			list[i] = random(r, depth-1)
		}
		return list
	}
	m := Map{}
	for range r.IntN(4) {
		m[texts[r.IntN(len(texts))]] = random(r, depth-1)
	}
	return m
}

func randomPath(r *rand.Rand) Path {
	keys := []string{"id", "tags", "a.b", "", "x[0]", "\"", "ä b"}
	p := Path{Key("id")}
	for range r.IntN(3) {
		if r.IntN(2) == 0 {
			p = append(p, Item(r.IntN(100)))
		} else {
			p = append(p, Key(keys[r.IntN(len(keys))]))
		}
	}
	return p
}

// TestRoundTrips: what is encoded decodes to the same value, and equal values
// have equal encodings and fingerprints.
func TestRoundTrips(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 20_000 {
		v := random(r, 4)
		body := Encode(v)
		back, err := Decode(body)
		require.NoError(t, err, "%s", body)
		require.True(t, Equal(v, back), "%s", body)
		require.Equal(t, body, Encode(back))
		require.Equal(t, FingerprintOf(Encode(v)), FingerprintOf(Encode(Clone(v))))
		other := random(r, 4)
		require.Equal(t, Equal(v, other), string(body) == string(Encode(other)), "%s against %s", body, Encode(other))
		p := randomPath(r)
		q, err := ParsePath(p.String())
		require.NoError(t, err, p.String())
		require.Equal(t, p, q)
	}
}

func TestEqual(t *testing.T) {
	require.True(t, Equal(int64(3), 3.0))
	require.False(t, Equal(int64(3), "3"))
	require.False(t, Equal(nil, ""))
	require.True(t, Equal(Map{"a": []any{int64(1)}}, Map{"a": []any{1.0}}))
	require.Equal(t, Encode(int64(3)), Encode(3.0))
	require.False(t, Equal(NewRef("a", Key("x")), NewRef("a", Key("y"))))
}

func TestPaths(t *testing.T) {
	v := Map{"tags": Map{"a.b": "c"}, "ports": []any{int64(80)}, "p": NewRef("shore:t.x/y", Key("out"))}
	for _, c := range []struct {
		path string
		want any
	}{
		{`tags["a.b"]`, "c"},
		{"ports[0]", int64(80)},
	} {
		t.Run(c.path, func(t *testing.T) {
			p, err := ParsePath(c.path)
			require.NoError(t, err)
			got, ok := p.At(v)
			require.True(t, ok, c.path)
			require.Equal(t, c.want, got)
			require.Equal(t, c.path, p.String())
		})
	}
	p, err := ParsePath("p.deep[2]")
	require.NoError(t, err)
	got, ok := p.At(v)
	require.True(t, ok)
	require.Equal(t, "t.x/y out.deep[2]", got.(*Pending).String(), "below a pending value everything is pending")
	for _, bad := range []string{"a.", ".a", "a[", "a[x]", `a["x`, "a[-1]", "a]b[", "a[1]b"} {
		if _, err := ParsePath(bad); err == nil && bad != "a]b[" {
			t.Errorf("%q is read as a path", bad)
		}
	}
	ward, rest := SplitWard("shore:medina.subnet/a:b")
	require.Equal(t, []string{"shore", "medina.subnet/a:b"}, []string{ward, rest})
	ward, rest = SplitWard("medina.subnet/a:b")
	require.Equal(t, []string{"", "medina.subnet/a:b"}, []string{ward, rest}, "a colon in a name is not a ward")
}

func TestPlain(t *testing.T) {
	for _, c := range []struct {
		want string
		v    any
	}{
		{"small", "small"},
		{`"5"`, "5"},
		{`"true"`, "true"},
		{`""`, ""},
		{`" x"`, " x"},
		{"5", int64(5)},
		{"2.5", 2.5},
		{"none", nil},
		{`[1, "a"]`, []any{int64(1), "a"}},
		{`{a: "b", "c d": true}`, Map{"a": "b", "c d": true}},
		{"from t.x/y id", NewRef("w:t.x/y", Key("id"))},
	} {
		t.Run(c.want, func(t *testing.T) {
			c.want = strings.ReplaceAll(c.want, `"c d"`, "c d")
			require.Equal(t, c.want, Plain(c.v))
		})
	}
}

// FuzzDecode: no JSON makes the decoder panic, and what it accepts is stable.
func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"a": [1, 2.5, null, {"$pending": {"address": "a", "path": "b[0]"}}]}`))
	f.Add([]byte(`{"$pending": {"parts": [{"text": "x"}, {"value": {"$pending": {}}, "as": "json"}]}}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		v, err := Decode(body)
		if err != nil {
			return
		}
		back, err := Decode(Encode(v))
		require.NoError(t, err)
		require.Equal(t, Encode(v), Encode(back))
	})
}

// What others write is never taken for a pending value, and their keys stay
// as they are.
func TestJSONOfOthers(t *testing.T) {
	body := `{"$pending":{"address":"shore:medina.network/coast","path":"id"},"$ref":1,"tags":{"$":"x","a<b":"é"}}`
	v, err := Parse([]byte(body))
	require.NoError(t, err)
	require.False(t, IsPending(v))
	require.JSONEq(t, body, string(JSON(v)))
	back, err := Decode(Encode(v))
	require.NoError(t, err)
	require.True(t, Equal(v, back), "the ledger keeps it")
	require.Panics(t, func() { JSON(Map{"a": NewRef("x", Key("id"))}) })
}
