package estate

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/problem"
)

func TestKitSources(t *testing.T) {
	e, err := Parse("/x", []byte(`
estate = "lantern-coast"
wards = ["shore"]
[kits]
beam = "kits/beam"
lamp = { git = "https://git.lantern-coast.example/kits", tag = "lamp/v1.2.0", path = "lamp" }
far = { folder = "../far" }
[env.trial]
[env.live.kits]
beam = { git = "../kits", tag = "v2.0.0" }
[env.live.secrets]
word = { env = "WORD" }
token = { run = ["cat", "token"] }
`))
	require.NoError(t, err)
	trial, live := e.Kits("trial"), e.Kits("live")
	require.Len(t, trial, 3)
	require.True(t, trial["beam"].InEstate())
	require.False(t, trial["far"].InEstate(), "outside of the estate")
	require.False(t, live["beam"].InEstate())
	require.Equal(t, "https://git.lantern-coast.example/kits lamp at lamp/v1.2.0", trial["lamp"].String())
	require.Equal(t, "../kits at v2.0.0", live["beam"].String())
	require.Equal(t, "../far", live["far"].String())
	require.Equal(t, "kasbah.toml:10:1", live["beam"].Position.String())
	require.Equal(t, []string{"token", "word"}, e.Secrets("live"))
	s, ok := e.Secret("live", "token")
	require.True(t, ok)
	require.Equal(t, []string{"cat", "token"}, s.Run)
	_, ok = e.Secret("trial", "token")
	require.False(t, ok)
}

func TestKitMistakes(t *testing.T) {
	const good = "estate = \"x\"\nwards = [\"a\"]\n[env.t]\n[kits]\n"
	for _, c := range []struct{ body, words string }{
		{"B = \"x\"", "B is not a valid name"},
		{"b = {}", "comes from a folder or from git, one of the two"},
		{"b = {folder = \"x\", git = \"y\", tag = \"v1\"}", "one of the two"},
		{"b = {folder = \"x\", tag = \"v1\"}", "a folder, which has no tag"},
		{"b = {git = \"-x\", tag = \"v1\"}", "is not a repository"},
		{"b = {git = \"ext::sh\", tag = \"v1\"}", "is not a repository"},
		{"b = {git = \"x\", tag = \"v1 v2\"}", "is not a tag"},
		{"b = {git = \"x\", tag = 1}", "tag of kit b must be a text"},
		{"b = {git = \"x\", tag = \"v1\", path = \"../y\"}", "leads out of the repository"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, err := Parse("/x", []byte(good+c.body))
			require.ErrorContains(t, err, c.words, c.body)
			require.ErrorContains(t, err, "kasbah.toml:5:", c.body)
		})
	}
	for _, c := range []struct{ body, words string }{
		{"name = \"b\"", "version is missing"},
		{"version = \"1\"", "name is missing"},
		{"name = \"b\"\nversion = \"1\"\ndrivers = \"m\"", "kit:b/kit.toml:3:1: drivers must be a list of names"},
		{"name = \"b\"\nversion = \"1\"\nkits = [\"B\"]", "B is not a valid name"},
		{"name = \"b\"\nversion = \"1\"\nhelpp = \"x\"", "did you mean"},
		{"name = ", "kit:b/kit.toml:1:"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, err := ParseKit("kit:b/kit.toml", []byte(c.body))
			if c.words == "did you mean" {
				require.ErrorContains(t, err, "unknown key \"helpp\"")
				return
			}
			require.ErrorContains(t, err, c.words, c.body)
		})
	}
	k, err := ParseKit("kit.toml", []byte("name = \"b\"\nversion = \"1\"\nhelp = \"h\"\ndrivers = [\"medina\"]\nkits "+
		"= [\"lamp\"]\n"))
	require.NoError(t, err)
	require.Equal(t, &Kit{Name: "b", Version: "1", Help: "h", Drivers: []string{"medina"}, Kits: []string{"lamp"}}, k)
}

func TestPins(t *testing.T) {
	digest := "sha256:05aec71be84a81f15bdb456138e8201f6f98069829b3a0abbf785edaca3d594a"
	p := &Pins{}
	p.Set(Pin{Name: "lamp", Source: "b", Version: "1", Digest: digest})
	p.Set(Pin{Name: "beam", Source: "z", Version: "1", Commit: "abc", Digest: digest})
	p.Set(Pin{Name: "lamp", Source: "a", Version: "1", Digest: digest})
	p.Set(Pin{Name: "lamp", Source: "b", Version: "2", Digest: digest})
	body, err := p.Encode()
	require.NoError(t, err)
	q, err := ParsePins(body)
	require.NoError(t, err)
	require.Equal(t, p, q)
	require.Equal(t, []string{"beam z 1", "lamp a 1", "lamp b 2"}, func() (out []string) {
		for _, k := range q.Kits {
			out = append(out, k.Name+" "+k.Source+" "+k.Version)
		}
		return out
	}())
	require.Nil(t, q.Of("beam", "a"))
	for _, c := range []struct{ body, words string }{
		{"[[kit]]\nname = \"b\"\nsource = \"s\"\ndigest = \"sha256:1\"", "has no digest such as"},
		{"[[kit]]\nname = \"b\"\ndigest = \"" + digest + "\"", "has no name or no source"},
		{"[[kit]]\nnam = \"b\"", "did you mean \"name\"?"},
		{"[[kit]", "pins.toml:1:"},
		{"kit = 5", "pins.toml"},
		{string(body) + "[[kit]]\nname = \"lamp\"\nsource = \"a\"\ndigest = \"" + digest + "\"\n", "is pinned twice"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, err := ParsePins([]byte(c.body))
			require.Error(t, err, c.body)
			text := err.Error()
			require.Contains(t, text+hintOf(err), c.words, c.body)
		})
	}
}

// FuzzKitFiles: no text makes the readers of kit.toml and pins.toml panic.
func FuzzKitFiles(f *testing.F) {
	f.Add("name = \"b\"\nversion = \"1\"\ndrivers = [\"m\", 5]\n")
	f.Add("[[kit]]\nname = \"b\"\nsource = \"s\"\ndigest = \"sha256:1\"\n[kits.x]\n")
	f.Add("name = [[1]]\n[version]\nkits = {a = 1}\n")
	f.Fuzz(func(t *testing.T, body string) {
		if k, err := ParseKit("kit.toml", []byte(body)); err == nil && k.Name == "" {
			t.Error("a kit without a name")
		}
		if p, err := ParsePins([]byte(body)); err == nil {
			if _, err := p.Encode(); err != nil {
				t.Error(err)
			}
		}
	})
}

func hintOf(err error) string {
	var p *problem.Problem
	if errors.As(err, &p) {
		return " " + p.Hint
	}
	return ""
}
