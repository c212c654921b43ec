package session_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/home"
	"kasbah/session"
)

const coast = `estate = "coast"
wards = ["shore", "isle"]
[drivers.medina]
kind = "medina"
api = "embedded"
path = "medina.db"
pace = 0
[ledger]
store = "file"
path = "ledger"
[env.trial]
[env.live]
`

// config is how the estate of a folder is opened for one who acts.
func config(dir, env string) session.Config {
	return session.Config{
		Dir: dir, Env: env, Identity: ledger.Identity{Who: "keeper-1", Host: "t3", Program: "test"},
		Home: func() (*home.Home, error) { return nil, errors.New("no home here") },
		Tell: func(string) {},
	}
}

func write(t *testing.T, dir string, files map[string]string) {
	for name, body := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
}

// TestOpen: what is wrong with a choice is a UsageError, and names what there is.
func TestOpen(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, map[string]string{"kasbah.toml": coast, "shore/a.star": "", "isle/a.star": ""})
	t.Setenv("KASBAH_ENV", "")
	for _, c := range []struct {
		name       string
		change     func(*session.Config)
		says, hint string
	}{
		{"no environment", func(c *session.Config) { c.Env = "" }, "which environment?",
			"-env live, -env trial, or KASBAH_ENV"},
		{"wrong environment", func(c *session.Config) { c.Env = "tral" }, `-env: no environment is called "tral"`,
			`did you mean "trial"?`},
		{"wrong ward", func(c *session.Config) { c.Wards = []string{"harbour"} }, `no ward is called "harbour"`,
			"there is shore, isle"},
		{"wrong setting", func(c *session.Config) { c.Given.Settings = []string{"ledger"} },
			`-with must be ledger.KEY=VALUE`, ""},
		{"wrong driver", func(c *session.Config) { c.Given.Settings = []string{"drivers.medna.pace=1"} },
			`-with: no driver is called "medna"`, `did you mean "medina"?`},
	} {
		t.Run(c.name, func(t *testing.T) {
			with := config(dir, "trial")
			c.change(&with)
			_, err := session.Open(context.Background(), with)
			var usage *problem.UsageError
			require.ErrorAs(t, err, &usage)
			require.Contains(t, usage.Message, c.says)
			require.Equal(t, c.hint, usage.Hint)
		})
	}
	s, err := session.Open(context.Background(), config(dir, "trial"))
	require.NoError(t, err)
	require.Equal(t, []string{"shore", "isle"}, s.Wards)
	require.NotNil(t, s.Type("medina.network"))
	require.Nil(t, s.Type("medina.boat"))
	require.NoError(t, s.Close())
}

// TestSessionStays: one session evaluates and proposes again and again, for several wards
// and side by side, and nothing of one answer shows in another.
func TestSessionStays(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, map[string]string{
		"kasbah.toml": coast,
		"shore/shore.star": "depth = input(\"depth\", kind.int, default = 3)\nmedina.network(\"coast\", range = " +
			"\"10.1.0.0/16\")\npublish(\"depth\", depth)\n",
		"isle/isle.star": "medina.bucket(\"log\", public = True)\n",
		"rules/house.star": "rule(\"closed\", each = lambda r: \"it is open\" if r.type == \"medina.bucket\" and " +
			"r.inputs.public else None, level = \"warn\")\n",
	})
	ctx := context.Background()
	c := config(dir, "trial")
	c.Given.Inputs = []string{"depth=5"}
	s, err := session.Open(ctx, c)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	first, err := s.Evaluate(ctx, s.Others())
	require.NoError(t, err)
	require.NoError(t, first.Problems.Err())
	require.Len(t, first.Findings(), 1)
	done := make(chan error, 8)
	for range cap(done) {
		go func() {
			made, err := s.Propose(ctx, session.Request{Offline: true, Anew: true})
			if err == nil && (made.Proposal.Counts.New != 2 || made.Proposal.Env != "trial") {
				err = errors.New("another proposal")
			}
			done <- err
		}()
	}
	for range cap(done) {
		require.NoError(t, <-done)
	}
	again, err := s.Evaluate(ctx, s.Others())
	require.NoError(t, err)
	require.Equal(t, first.Findings(), again.Findings())
	require.EqualValues(t, 5, again.Declared.Wards[0].Published["depth"].Value)

	wards, note, err := s.Status(ctx)
	require.NoError(t, err)
	require.Empty(t, note)
	require.Equal(t, "kasbah propose -env trial", wards[0].Next)
}
