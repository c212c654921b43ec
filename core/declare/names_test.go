package declare_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// odd is a driver whose names are no identifiers, as real APIs have them.
func odd() map[string]*schema.Catalog {
	route := &schema.Type{Name: "route-map", ID: "id", Attributes: []*schema.Attribute{
		{Name: "from", Kind: schema.Text, Required: true},
		{Name: "max-hops", Kind: schema.Int},
		{Name: "import", Kind: schema.Bool},
		{Name: "2nd", Kind: schema.Text},
		{Name: "parent", Kind: schema.Text, Refers: "route-map"},
		{Name: "also", Kind: schema.List, Elem: &schema.Attribute{Kind: schema.Text, Refers: "route-map"}},
		{Name: "spec", Kind: schema.Record, Fields: []*schema.Attribute{{Name: "host", Kind: schema.Text, Output: true},
			{Name: "port", Kind: schema.Int}}},
		{Name: "id", Kind: schema.Text, Output: true},
		{Name: "if", Kind: schema.Int, Output: true},
	}}
	route.Index()
	return map[string]*schema.Catalog{"odd-cloud": {Types: map[string]*schema.Type{"route-map": route}}}
}

func oddStar(t *testing.T, body string) (*declare.Declared, problem.List) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "shore"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "shore", "a.star"), []byte(body), 0o644))
	e, err := estate.Parse(dir, []byte("estate = \"x\"\nwards = [\"shore\"]\n[drivers.odd-cloud]\nkind = "+
		"\"x\"\n[env.t]\n"))
	require.NoError(t, err)
	return declare.Evaluate(context.Background(), declare.Options{Estate: e, Env: "t", Wards: e.Wards, Catalogs: odd()})
}

// TestOddNames: a schema name that is a reserved word ends in _, other
// characters become _, and messages show the schema's own name.
func TestOddNames(t *testing.T) {
	d, problems := oddStar(t, `
a = odd_cloud.route_map("a", from_ = "x", max_hops = 3, import_ = True, _nd = "y")
b = odd_cloud.route_map("b", from_ = a.from_, parent = a, also = [a, a.id], spec = {"port": 5})
publish("x", [a.if_, b.max_hops, b.from_])
`)
	require.NoError(t, problems.Err())
	require.Equal(t, "odd-cloud.route-map/a", d.Resources[0].Address)
	require.Equal(t, value.Map{"from": "x", "max-hops": int64(3), "import": true, "2nd": "y"}, d.Resources[0].Inputs())
	require.Equal(t, []declare.Need{{Address: "shore:odd-cloud.route-map/a", Why: "parent"}}, d.Resources[1].Needs)
	also := d.Resources[1].Inputs()["also"].([]any)
	require.True(t, value.Equal(also[0], also[1]), "a handle in a list is its id")
	list := d.Wards[0].Published["x"].Value.([]any)
	require.Equal(t, "odd-cloud.route-map/a if", list[0].(*value.Pending).String())
	require.Equal(t, "odd-cloud.route-map/b max-hops", list[1].(*value.Pending).String(),
		"what was left out is pending")
	require.Equal(t, "x", list[2])

	for _, c := range []struct{ body, want string }{
		{`odd_cloud.route_map("a", from_ = 5)`, "shore/a.star:1:34: odd-cloud.route-map/a: " +
			"from must be a text, not a whole number"},
		{`odd_cloud.route_map("a", from_ = "x", max_hops = "y")`, "shore/a.star:1:50: odd-cloud.route-map/a: " +
			"max-hops must be a whole number, not a text"},
		{`odd_cloud.route_map("a", from_ = "x", spec = {"host": "y"})`, ""},
		{`odd_cloud.route_map("a", from_ = "x", spec = {"prot": 1})`, `spec has no field "prot"`},
		{`a = odd_cloud.route_map("a", from_ = "x"); a.spec.port + 1`, "arithmetic (+) must look at " +
			"odd-cloud.route-map/a spec.port"},
		{`a = odd_cloud.route_map("a", from_ = "x"); a.spec.prot`, `spec has no field "prot"`},
		{`a = odd_cloud.route_map("a", from_ = "x"); a.also[0].upper()`, "the text method upper must look at " +
			"odd-cloud.route-map/a also[0]"},
		{`a = odd_cloud.route_map("a", from_ = "x"); a.also["k"]`, "cannot be indexed so"},
		{`odd_cloud.route_map("a", from_ = "x", also = [odd_cloud])`, "cannot hold a driver"},
		{`odd_cloud.route_map("a", from_ = "x", parent = "given-by-id")`, ""},
		{`odd_cloud.route_map.find(form_ = "x")`, "did you mean \"from_\"?"},
		{`odd_cloud.route_map("a", {"from": "x"})`, "takes one name"},
		{`odd_cloud.route_map("a", from_ = 99999999999999999999)`, "is too large a number"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, problems := oddStar(t, c.body)
			if c.want == "" {
				require.NoError(t, problems.Err(), c.body)
				return
			}
			require.ErrorContains(t, problems.Err(), c.want, c.body)
		})
	}
}

// TestDriverNames: a driver may not take a name of the language.
func TestDriverNames(t *testing.T) {
	dir := t.TempDir()
	e, err := estate.Parse(dir, []byte("estate = \"x\"\nwards = [\"shore\"]\n[drivers.file]\nkind = \"x\"\n[env.t]\n"))
	require.NoError(t, err)
	_, problems := declare.Evaluate(context.Background(), declare.Options{Estate: e, Env: "t", Wards: e.Wards,
		Catalogs: map[string]*schema.Catalog{"file": {}}})
	require.ErrorContains(t, problems.Err(), `driver "file" has a name that the language uses`)
}
