package estate

import (
	"fmt"
	"maps"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

const likeTrial = `estate = "coast"
wards = ["shore", "isle"]
[inputs]
span = 1
[ledger]
store = "file"
path = "ledger"
[drivers.medina]
kind = "medina"
pace = 2
[kits]
beam = "kits/beam"
[watch]
every = "6h"
[approval]
signatures = 1
keys = { keeper-1 = "ed25519 MCowBQYDK2VwAyEAGb9ECWmEzf6FQbrBZ9w7lshQhqowtrbLDFw4rXAxZuE=" }
[env.trial]
ends = "72h"
[env.trial.inputs]
span = 2
lamps = { sallow = 0 }
[env.trial.ward.shore.inputs]
span = 3
[env.trial.ward.shore.watch]
every = "2h"
[env.trial.ledger]
path = "trial"
[env.trial.drivers.medina]
pace = 3
api = "https://medina.example"
[env.trial.kits]
beam = "kits/beam-2"
[env.trial.secrets]
token = { env = "TRIAL_TOKEN" }
[env.trial.approval]
valid = "24h"
[env.trial.watch]
zone = "Europe/Lisbon"
[env.trial.adopt]
"shore:medina.bucket/charts" = "bkt-1"
[env.live]
`

// TestLike: an environment that is like another one takes everything from it, and overrides it key by key; things
// of the other one are not its own.
func TestLike(t *testing.T) {
	input := func(e *Estate, env, ward, name string) any {
		var is any
		for _, in := range e.Inputs(env) {
			if in.Name == name && (in.Ward == "" || in.Ward == ward) {
				is = in.Value
			}
		}
		return is
	}
	setting := func(of value.Map, key string) any { return of[key] }
	for i, c := range []struct {
		own  string // of the environment
		of   func(e *Estate, env string) any
		is   any
		name string
	}{
		{"", func(e *Estate, env string) any { return input(e, env, "isle", "span") }, int64(2), "an input"},
		{"inputs = { span = 9 }", func(e *Estate, env string) any { return input(e, env, "isle", "span") }, int64(9),
			"its own input"},
		{"inputs = { span = 9 }", func(e *Estate, env string) any { return input(e, env, "shore", "span") }, int64(3),
			"an input of a ward stays the stronger one"},
		{"ward = { shore = { inputs = { span = 8 } } }", func(e *Estate, env string) any {
			return input(e, env, "shore",
				"span")
		}, int64(8), "its own input of a ward"},
		{"inputs = { span = 9 }", func(e *Estate, env string) any { return input(e, env, "isle", "lamps") },
			map[string]any{"sallow": int64(0)}, "another input"},
		{"inputs = { lamps = { merrow = 1 } }", func(e *Estate, env string) any { return input(e, env, "isle", "lamps") },
			map[string]any{"merrow": int64(1)}, "a map is one value"},
		{"", func(e *Estate, env string) any { return setting(e.Ledger(env), "path") }, "trial", "a setting of the ledger"},
		{"ledger = { path = \"mine\" }", func(e *Estate, env string) any { return setting(e.Ledger(env), "path") }, "mine",
			"its own setting of the ledger"},
		{"ledger = { seal = \"off\" }", func(e *Estate, env string) any { return setting(e.Ledger(env), "path") }, "trial",
			"another setting of the ledger"},
		{"", func(e *Estate, env string) any { return setting(e.Driver("medina", env), "pace") }, int64(3),
			"a setting of a driver"},
		{"drivers = { medina = { pace = 7 } }", func(e *Estate, env string) any {
			return setting(e.Driver("medina", env),
				"pace")
		}, int64(7), "its own setting of a driver"},
		{"drivers = { medina = { pace = 7 } }", func(e *Estate, env string) any {
			return setting(e.Driver("medina", env),
				"api")
		}, "https://medina.example", "another setting of the driver"},
		{"", func(e *Estate, env string) any { return e.Kits(env)["beam"].Folder }, "kits/beam-2", "a kit"},
		{"kits = { beam = \"kits/beam-3\" }", func(e *Estate, env string) any { return e.Kits(env)["beam"].Folder },
			"kits/beam-3", "its own kit"},
		{"", func(e *Estate, env string) any { s, _ := e.Secret(env, "token"); return s.From }, "TRIAL_TOKEN", "a secret"},
		{"secrets = { token = { file = \"t\" } }", func(e *Estate, env string) any {
			s,
				_ := e.Secret(env, "token")
			return s.Kind + s.From
		}, "filet", "its own secret"},
		{"", func(e *Estate, env string) any { p, _ := e.Approval(env, "shore"); return p.Valid }, "24h",
			"how long a proposal holds"},
		{"approval = { valid = \"5h\" }", func(e *Estate, env string) any {
			p, _ := e.Approval(env, "shore")
			return fmt.Sprint(p.Valid, len(p.Keys))
		}, "5h1", "its own time, and the keys of all"},
		{"", func(e *Estate, env string) any { return e.Schedule(env, "shore").String() }, "2h", "when a ward is surveyed"},
		{"watch = { every = \"1h\" }", func(e *Estate, env string) any { return e.Schedule(env, "isle").String() }, "1h",
			"its own time of surveys"},
		{"", func(e *Estate, env string) any { return e.Ends(env) }, 72 * time.Hour, "when it ends"},
		{"ends = \"never\"", func(e *Estate, env string) any { return e.Ends(env) }, time.Duration(0), "its own end"},
		{"", func(e *Estate, env string) any { return len(e.Adoptions(env)) }, 0,
			"things that the other one adopts are not its own"},
	} {
		for _, name := range []string{"trial-2", `"pr-*"`} {
			env := map[string]string{"trial-2": "trial-2", `"pr-*"`: "pr-7"}[name]
			text := fmt.Sprintf("%s[env.%s]\nlike = \"trial\"\n%s\n", likeTrial, name, c.own)
			e, err := Parse("/coast", []byte(text))
			require.NoError(t, err, "%d %s", i, c.name)
			require.Equal(t, c.is, c.of(e, env), "%s in %s", c.name, env)
			plain, err := Parse("/coast", []byte(likeTrial))
			require.NoError(t, err)
			for _, other := range []string{"trial", "live"} { // nothing of another environment is touched
				require.Equal(t, plain.Ledger(other), e.Ledger(other))
				require.Equal(t, plain.Driver("medina", other), e.Driver("medina", other))
				require.True(t, maps.Equal(plain.Kits(other), e.Kits(other)))
				require.Equal(t, input(plain, other, "shore", "span"), input(e, other, "shore", "span"))
				require.Equal(t, plain.Ends(other), e.Ends(other))
			}
		}
	}
}

// TestPatterns: an environment's own section goes before a pattern, and a pattern that leaves less open before
// others.
func TestPatterns(t *testing.T) {
	e, err := Parse("/coast", []byte(likeTrial+`[env.pr-1]
like = "live"
[env."pr-*"]
inputs = { span = 10 }
[env."pr-b*"]
inputs = { span = 11 }
[env."*-lamp"]
inputs = { span = 12 }
`))
	require.NoError(t, err)
	for env, is := range map[string]struct{ part, pattern string }{
		"pr-7": {"7", "pr-*"}, "pr-beam": {"eam", "pr-b*"}, "pr-b": {"b",
			"pr-*"}, "pr-1": {}, "pr-": {}, "pr": {}, "trial": {},
		"x-lamp": {"x", "*-lamp"}, "pr-x-lamp": {"pr-x", "*-lamp"}, "PR-7": {}, "pr-7/8": {},
	} {
		require.Equal(t, is.part, e.Part(env), env)
		require.Equal(t, is.pattern, e.PatternOf(env), env)
	}
	require.Equal(t, []string{"live", "pr-1", "trial"}, e.Environments())
	require.True(t, e.HasEnvironment("pr-7"))
	require.False(t, e.HasEnvironment("pr-"))
	in := e.Inputs("pr-7")
	require.Equal(t, `kasbah.toml [env."pr-*".inputs]`, in[len(in)-1].Source)
	require.Equal(t, "kasbah.toml:46", in[len(in)-1].Position.Short())
}
