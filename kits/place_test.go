package kits

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/schema"
)

// TestPlacing: what is given becomes an expression of the language, and the file calls the
// kit's function with it.
func TestPlacing(t *testing.T) {
	in := &Instance{Name: "west", Ward: "shore", Kit: &declare.Kit{Kit: &estate.Kit{Name: "beam"}},
		Function: declare.KitFunction{Name: "beam"}}
	for _, c := range []struct {
		name, raw, is, says string
		attr                schema.Attribute
	}{
		{name: "text", raw: "spring tide", is: `"spring tide"`, attr: schema.Attribute{Name: "note",
			Kind: schema.Text}},
		{name: "number", raw: "3", is: "3", attr: schema.Attribute{Name: "lamps", Kind: schema.Int}},
		{name: "list", raw: `["a", "b"]`, is: `["a", "b"]`, attr: schema.Attribute{Name: "zones", Kind: schema.List,
			Elem: &schema.Attribute{Kind: schema.Text}}},
		{name: "code", raw: "=1 + 2", is: "1 + 2", attr: schema.Attribute{Name: "lamps", Kind: schema.Int}},
		{name: "other file", raw: "shore.star:coast.id", is: "coast.id", attr: schema.Attribute{Name: "network",
			Kind: schema.Text}},
		{name: "wrong kind", raw: "many", says: "lamps", attr: schema.Attribute{Name: "lamps", Kind: schema.Int}},
	} {
		t.Run(c.name, func(t *testing.T) {
			is, err := in.Expression(c.raw, &c.attr)
			if c.says != "" {
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.is, is)
		})
	}
	in.Give("lamps", "3")
	body, err := in.Text()
	require.NoError(t, err)
	require.Equal(t, "load(\"shore.star\", \"coast\")\nload(\"kit:beam\", \"beam\")\n\nbeam(\n    \"west\",\n    "+
		"lamps = 3,\n)\n", string(body))
}

// TestPlacingIsTakenBack: where the check finds something wrong, all is as before.
func TestPlacingIsTakenBack(t *testing.T) {
	dir := t.TempDir()
	toml := filepath.Join(dir, estate.File)
	before := "estate = \"x\"\nwards = [\"shore\"]   # for now\n[env.t]\n"
	require.NoError(t, os.WriteFile(toml, []byte(before), 0o644))
	e, err := estate.Load(dir)
	require.NoError(t, err)
	in := &Instance{Name: "west", Ward: "isle"}
	wrong := errors.New("it is wrong")
	_, err = in.Write(e, []byte("x = 1\n"), func() error {
		during, err := os.ReadFile(toml)
		require.NoError(t, err)
		require.Contains(t, string(during), `wards = ["shore", "isle"]   # for now`)
		return wrong
	})
	require.ErrorIs(t, err, wrong)
	after, err := os.ReadFile(toml)
	require.NoError(t, err)
	require.Equal(t, before, string(after))
	_, err = os.Stat(filepath.Join(dir, "isle"))
	require.ErrorIs(t, err, fs.ErrNotExist)

	wrote, err := in.Write(e, []byte("x = 1\n"), func() error { return nil })
	require.NoError(t, err)
	require.Equal(t, []string{"isle/west.star", "kasbah.toml"}, wrote)
}
