package schema

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

func machine() *Type {
	t := &Type{Name: "machine", Attributes: []*Attribute{
		{Name: "size", Kind: Text, Default: "small", HasDefault: true}, {Name: "gigabytes", Kind: Int},
		{Name: "spare", Kind: Bool},
	}}
	t.Index()
	return t
}

func TestPriceOf(t *testing.T) {
	typ := machine()
	_, known := typ.PriceOf(value.Map{})
	require.False(t, known, "the cloud does not say")
	typ.Price = &Price{Month: 1.105, By: map[string]map[string]float64{"size": {"small": 2, "large": 5},
		"spare": {"true": 0.5}}, Per: map[string]float64{"gigabytes": 0.08}}
	for _, c := range []struct {
		attributes value.Map
		want       float64
	}{
		{value.Map{}, 3.11}, // the default's price
		{value.Map{"size": "large", "gigabytes": int64(20)}, 7.71},
		{value.Map{"size": "odd", "spare": true, "gigabytes": 2.5}, 1.81},
		{value.Map{"size": nil, "spare": false}, 3.11},
	} {
		got, known := typ.PriceOf(c.attributes)
		require.True(t, known)
		require.InDelta(t, c.want, got, 0.0001, "%v", c.attributes)
	}
	pending := value.NewRef("shore:a.b/c", value.Key("size"))
	_, known = typ.PriceOf(value.Map{"size": pending})
	require.False(t, known)
	_, known = typ.PriceOf(value.Map{"gigabytes": pending})
	require.False(t, known)
	_, known = typ.PriceOf(value.Map{"other": pending})
	require.True(t, known, "it does not count")
}

func TestPriceBook(t *testing.T) {
	fromCSV, err := ReadPriceBook("prices.csv", []byte("type,attribute,value,month\n# agreed in "+
		"spring\nmedina.machine,,,1.5\nmedina.machine,size,small,2\nmedina.machine, size, large, "+
		"5\nmedina.machine,gigabytes,each,0.08\nmedina.network,,,2\n"))
	require.NoError(t, err)
	fromJSON, err := ReadPriceBook("prices.json",
		[]byte(`{"medina.machine": {"month": 1.5, "by": {"size": {"small": 2, "large": 5}}, "per": {"gigabytes": 0.08}}, "medina.network": {"month": 2, "by": {}, "per": {}}}`))
	require.NoError(t, err)
	require.Equal(t, fromJSON, fromCSV)
	require.NoError(t, fromCSV["medina.machine"].Check(machine()))
	for _, c := range []struct{ name, body, words string }{
		{"p.csv", "medina.machine,,,dear\n", `p.csv:1: "dear" is not an amount`},
		{"p.csv", "medina.machine,,,-1\n", `"-1" is not an amount`},
		{"p.csv", "a,b\n", "wrong number of fields"},
		{"p.csv", "type,attribute,value,month\n\nmedina.machine,,small,1\n",
			`p.csv:3: the value "small" belongs to no attribute`},
		{"p.csv", "medina.machine,\"size,small,1\n", "p.csv: "},
		{"p.json", `{"a": {"mnth": 1}}`, "unknown field"},
		{"p.json", `{"a": null}`, "a has no price"},
		{"p.json", `[`, "p.json: "},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := ReadPriceBook(c.name, []byte(c.body))
			require.ErrorContains(t, err, c.words, c.body)
		})
	}
	require.ErrorContains(t, (&Price{By: map[string]map[string]float64{"sise": nil}}).Check(machine()),
		`has no attribute "sise"`)
	require.ErrorContains(t, (&Price{Per: map[string]float64{"gigs": 1}}).Check(machine()), `has no attribute "gigs"`)
	require.ErrorContains(t, (&Price{Per: map[string]float64{"size": 1}}).Check(machine()), "is not a number")
}

// FuzzPriceBook: no text makes the reader panic.
func FuzzPriceBook(f *testing.F) {
	f.Add("p.csv", "medina.machine,size,small,2\n")
	f.Add("p.json", `{"a": {"month": 1e300}}`)
	f.Fuzz(func(t *testing.T, name, body string) {
		book, err := ReadPriceBook(name, []byte(body))
		for typ, p := range book {
			if err == nil && p.Check(machine()) == nil {
				m := machine()
				m.Price = p
				m.PriceOf(value.Map{"size": typ, "gigabytes": int64(3)})
			}
		}
	})
}
