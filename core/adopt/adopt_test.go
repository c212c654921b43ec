package adopt

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/tidy"
	"kasbah/core/value"
)

// TestNatural: names are in the order of people, and the order is one.
func TestNatural(t *testing.T) {
	want := []string{"a", "a-1", "a-2", "a-010", "a-10", "a-10-b", "b", "b1", "b02", "b10"}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, natural)
	require.Equal(t, want, got)
	for _, a := range want {
		for _, b := range want {
			require.Equal(t, natural(a, b), -natural(b, a), "%s %s", a, b)
		}
	}
}

// lamp is a type with all that code is written for.
func lamp() *schema.Type {
	text := func(name string) *schema.Attribute { return &schema.Attribute{Name: name, Kind: schema.Text} }
	return &schema.Type{Name: "lamp", ID: "id", Identify: []string{"name"}, Attributes: []*schema.Attribute{
		{Name: "name", Kind: schema.Text, Required: true},
		{Name: "size", Kind: schema.Text, Default: "small", HasDefault: true}, text("image"),
		{Name: "on", Kind: schema.Text, Refers: "lamp"}, {Name: "watts", Kind: schema.Int},
		{Name: "tags", Kind: schema.MapOf, Elem: text("")}, {Name: "code", Kind: schema.Text, Secret: true, Required: true},
		{Name: "id", Kind: schema.Text, Output: true}, {Name: "address", Kind: schema.Text, Output: true}}}
}

// wrote is the code for some things of one environment.
func wrote(t *testing.T, others []Thing, things ...Thing) *Written {
	f := Found{Env: "trial", Names: "trial-shore-{name}", Things: things, Others: map[string]Thing{}}
	for _, o := range others {
		f.Others[thingKey(o.Type.Name, o.ID)] = o
	}
	w := Write("sea", []Found{f}, false)
	laidOut, err := tidy.Text("found.star", []byte(w.Text))
	require.NoError(t, err)
	require.Equal(t, string(laidOut), w.Text)
	return w
}

func thing(typ *schema.Type, id, name string, more value.Map) Thing {
	a := value.Map{"name": name, "id": id, "size": "small", "address": "10.0.0." + strings.TrimLeft(id, "l-")}
	for k, v := range more {
		a[k] = v
	}
	return Thing{Type: typ, ID: id, Attributes: a}
}

// TestCode: how references, texts, secrets, circles and what is not taken are written.
func TestCode(t *testing.T) {
	typ := lamp()
	open := *typ // without the secret code
	open.Attributes = slices.DeleteFunc(slices.Clone(typ.Attributes), func(a *schema.Attribute) bool { return a.Secret })
	for _, c := range []struct {
		name   string
		others []Thing
		things []Thing
		want   string
	}{
		{"a handle, an output and an id in a text", nil, []Thing{
			thing(&open, "l-101", "east", nil),
			thing(&open, "l-102", "west", value.Map{"on": "l-101", "image": "http://l-101/x"}),
			thing(&open, "l-103", "north", value.Map{"image": "10.0.0.101", "watts": int64(5)}),
		}, "east = sea.lamp(\"east\", name = \"east\")\nsea.lamp(\"north\", name = \"north\", image = east.address, watts = 5)\n" +
			"sea.lamp(\"west\", name = \"west\", image = \"http://%s/x\" % east.id, on = east)\n"},
		{"what is not taken is looked up", []Thing{thing(&open, "l-9", "old light", nil)}, []Thing{
			thing(&open, "l-1", "east", value.Map{"on": "l-9"}),
		}, "old_light = sea.lamp.find(name = \"old light\")\n\nsea.lamp(\"east\", name = \"east\", on = old_light)\n"},
		{"what is nowhere stays an id", nil, []Thing{thing(&open, "l-1", "east", value.Map{"on": "l-77"})},
			"sea.lamp(\"east\", name = \"east\", on = \"l-77\")\n"},
		{"a circle", nil, []Thing{thing(&open, "l-1", "a", value.Map{"on": "l-2"}), thing(&open, "l-2", "b", value.Map{"on": "l-1"})},
			"a = sea.lamp(\"a\", name = \"a\", on = \"l-2\")\nsea.lamp(\"b\", name = \"b\", on = a)\n"},
		{"a secret", nil, []Thing{thing(typ, "l-1", "east", nil)},
			"sea.lamp(\"east\", name = \"east\", code = secret(\"east_code\"))\n"},
		{"odd names", nil, []Thing{thing(&open, "l-1", `say "hi" % é`, nil), thing(&open, "l-2", "load", value.Map{"on": "l-1"})},
			"say_hi = sea.lamp(\"say--hi--%-é\", name = \"say \\\"hi\\\" % é\")\nsea.lamp(\"load\", name = \"load\", on = say_hi)\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := wrote(t, c.others, c.things...)
			_, body, _ := strings.Cut(w.Text, "\n\n")
			require.Equal(t, c.want, body)
			require.Equal(t, c.name == "a secret", len(w.Secrets) == 1)
			require.Equal(t, c.name == "a circle", len(w.Left) == 1)
		})
	}
}

// TestTables: five and more that differ in little are a table, and those that differ in much are not.
func TestTables(t *testing.T) {
	typ := *lamp()
	typ.Attributes = slices.DeleteFunc(slices.Clone(typ.Attributes), func(a *schema.Attribute) bool { return a.Secret })
	var alike, odd []Thing
	for i := range 60 {
		m := value.Map{"watts": int64(i), "tags": value.Map{"owner": "keepers"}}
		alike = append(alike, thing(&typ, fmt.Sprint("l-", i), fmt.Sprint("light-", i), m))
		if i == 7 {
			m = value.Map{"watts": int64(i), "tags": value.Map{"owner": "harbour"}}
		}
		odd = append(odd, thing(&typ, fmt.Sprint("l-", i), fmt.Sprint("light-", i), m))
	}
	require.Contains(t, wrote(t, nil, alike[:4]...).Text, "sea.lamp(\"light-3\", name = \"light-3\", watts = 3, tags = owner_tags)")
	text := wrote(t, nil, alike...).Text
	require.Equal(t, 1, strings.Count(text, "sea.lamp("))
	require.Contains(t, text, "\"9\": 9,\n    \"10\": 10,")
	require.Contains(t, text, `sea.lamp("light-" + name, name = "light-" + name, watts = watts, tags = {"owner": "keepers"})`)
	text = wrote(t, nil, odd...).Text
	require.Equal(t, 2, strings.Count(text, "sea.lamp("), text)
	require.Contains(t, text, `sea.lamp("light-7", name = "light-7", watts = 7, tags = {"owner": "harbour"})`)
}

// TestPairs: what is certain, what is likely and by what, what is taken by whom, and why nothing fits.
func TestPairs(t *testing.T) {
	typ := lamp()
	typ.Attributes = slices.DeleteFunc(slices.Clone(typ.Attributes), func(a *schema.Attribute) bool { return a.Secret })
	typ.Attribute("image").Fixed = true
	declared := func(name string, inputs value.Map) *declare.Resource {
		r := &declare.Resource{Ward: "shore", Address: "sea.lamp/" + name, Driver: "sea", Type: typ, Name: name}
		r.SetInputs(inputs)
		return r
	}
	live := func(id, name string, more value.Map) driver.Live {
		return driver.Live{ID: id, Attributes: thing(typ, id, name, more).Attributes}
	}
	look := Look{
		Declared: []*declare.Resource{
			declared("east", value.Map{"name": "east"}),
			declared("west", value.Map{"name": "west", "watts": int64(40), "image": "round"}),
			declared("north", value.Map{"name": "north", "image": "square"}),
			declared("case", value.Map{"name": "Tower"}),
			declared("twin", value.Map{"name": "twin"}), declared("twin-2", value.Map{"name": "twin"}),
			declared("on-east", value.Map{"name": "on-east", "on": value.NewRef("shore:sea.lamp/east", value.Key("id"))}),
			declared("differs", value.Map{"name": "differs", "watts": int64(7)}),
		},
		Live: map[string][]driver.Live{"sea.lamp": {
			live("l-1", "east", nil), live("l-2", "western", value.Map{"watts": int64(40), "image": "round"}),
			live("l-3", "nord", value.Map{"image": "oval"}), live("l-4", "tower", nil), live("l-5", "twin", nil),
			live("l-6", "on-east", value.Map{"on": "l-1"}), live("l-7", "differs", value.Map{"watts": int64(8)}),
		}},
		Known: func(value.Ref) (any, error) { return nil, value.ErrUnknown },
	}
	told := func(p *Pairs) string {
		var b strings.Builder
		for _, x := range p.Certain {
			fmt.Fprintf(&b, "certain %s %s %s%s\n", x.Address, x.ID, strings.Join(x.By, ","), strings.Join(x.Because, ";"))
		}
		for _, x := range p.Likely {
			fmt.Fprintf(&b, "likely %s %s %s not %s\n", x.Address, x.ID, strings.Join(x.By, ","), strings.Join(x.Differ, ","))
		}
		for _, x := range p.Rest {
			fmt.Fprintf(&b, "rest %s %s\n", x.Address, x.Because)
		}
		return b.String()
	}
	rest := "rest sea.lamp/north no sea.lamp that no ledger records has its name\n" +
		"rest sea.lamp/case l-4 is called tower, which differs in case alone\n" +
		"rest sea.lamp/twin 2 resources are declared with its name\nrest sea.lamp/twin-2 2 resources are declared with its name\n"
	certain := "certain sea.lamp/east l-1 name\ncertain sea.lamp/on-east l-6 name\n" +
		"certain sea.lamp/differs l-7 nameit would adopt l-7, and watts is 8 live and 7 declared; -and-edit edits it, or " +
		"correct the declaration\n"
	p := Find(look)
	require.Equal(t, certain+"likely sea.lamp/west l-2 image,watts not name\nlikely sea.lamp/twin l-5 name not \n"+
		strings.Replace(rest, "rest sea.lamp/twin 2 resources are declared with its name\n", "", 1), told(p))
	require.False(t, p.Whole())
	require.Equal(t, map[string]string{"shore:sea.lamp/east": "l-1", "shore:sea.lamp/on-east": "l-6"}, p.Things())

	look.Chosen, look.AndEdit = map[string]string{"shore:sea.lamp/west": "l-2"}, true
	look.Refused = map[string]bool{"shore:sea.lamp/twin l-5": true, "shore:sea.lamp/twin-2 l-5": true}
	require.Contains(t, told(Find(look)), "certain sea.lamp/west l-2 chosen")
	require.Contains(t, told(Find(look)), rest)
	require.Contains(t, told(Find(look)), "certain sea.lamp/differs l-7 name\n")
}
