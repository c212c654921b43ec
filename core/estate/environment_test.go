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

// TestWardFile: what ward.toml says holds for its ward alone.
func TestWardFile(t *testing.T) {
	key := "ed25519 MCowBQYDK2VwAyEAGb9ECWmEzf6FQbrBZ9w7lshQhqowtrbLDFw4rXAxZuE="
	files := map[string][]byte{"kasbah.toml": []byte(likeTrial + "[env.trial-2]\nlike = \"trial\"\n"), "shore/ward.toml": []byte(`[inputs]
span = 5
lamps = 7
[env.trial.inputs]
span = 6
[approval]
signatures = 2
keys = { keeper-2 = "` + key + `", keeper-3 = "ed25519 MCowBQYDK2VwAyEAGb9ECWmEzf6FQbrBZ9w7lshQhqowtrbLDFw4rXAxZuI=" }
[env.live.approval]
valid = "1h"
[[notify]]
name = "hooks"
url = "https://chat.lantern.example/shore"
`)}
	e, err := Read("/coast", files)
	require.NoError(t, err)
	input := func(env, ward, name string) (is any, source string) {
		for _, in := range e.Inputs(env) {
			if in.Name == name && (in.Ward == "" || in.Ward == ward) {
				is, source = in.Value, in.Source
			}
		}
		return is, source
	}
	for _, c := range []struct {
		env, ward, name string
		is              any
		source          string
	}{
		{"live", "shore", "span", int64(5), "shore/ward.toml [inputs]"},
		{"live", "isle", "span", int64(1), "kasbah.toml [inputs]"},
		{"trial", "shore", "span", int64(6), "shore/ward.toml [env.trial.inputs]"},
		{"trial-2", "shore", "span", int64(6), "shore/ward.toml [env.trial.inputs]"},
		{"trial", "isle", "span", int64(2), "kasbah.toml [env.trial.inputs]"},
		{"live", "shore", "lamps", int64(7), "shore/ward.toml [inputs]"},
		{"trial", "shore", "lamps", map[string]any{"sallow": int64(0)}, "kasbah.toml [env.trial.inputs]"},
	} {
		is, source := input(c.env, c.ward, c.name)
		require.Equal(t, c.is, is, "%s %s %s", c.env, c.ward, c.name)
		require.Equal(t, c.source, source)
	}
	signatures := func(env, ward string) string {
		p, err := e.Approval(env, ward)
		require.NoError(t, err)
		return fmt.Sprint(p.Signatures, " ", len(p.Keys), " ", p.Valid)
	}
	require.Equal(t, "2 2 24h", signatures("trial", "shore"))
	require.Equal(t, "2 2 1h", signatures("live", "shore"))
	require.Equal(t, "1 1 72h", signatures("live", "isle"))
	require.Len(t, e.Notify, 1)
	require.Equal(t, "shore", e.Notify[0].Ward)
	require.Equal(t, "shore:hooks", e.Notify[0].Name)
	other, err := Read("/coast", map[string][]byte{"kasbah.toml": files["kasbah.toml"],
		"shore/ward.toml": []byte("[inputs]\nspan = 9\n")})
	require.NoError(t, err)
	require.NotEqual(t, e.Digest, other.Digest)
	for text, says := range map[string]string{
		"[approval]\nsignatures = 3\n":           "shore/ward.toml:1:1: 3 signatures are asked for, and 1 keys are listed",
		"[env.nowhere.inputs]\nspan = 1\n":       `shore/ward.toml:1:1: kasbah.toml has no section for the environment "nowhere"`,
		"inputs = 3\n":                           "shore/ward.toml:1:1: inputs must be a table",
		"[[notify]]\nname = \"x\"\n":             "shore/ward.toml:1:1: notify needs one of url, mail and run",
		"span = 1\n":                             `shore/ward.toml:1:1: unknown key "span" at the top level`,
		"[inputs\n":                              "shore/ward.toml:2:8: ",
		"[env.trial.drivers.medina]\npace = 1\n": `unknown key "drivers" in [env.trial]`,
	} {
		_, err := Read("/coast", map[string][]byte{"kasbah.toml": files["kasbah.toml"], "shore/ward.toml": []byte(text)})
		require.ErrorContains(t, err, says, text)
	}
}
