package estate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	e, err := Parse("/x", []byte(`
estate = "lantern-coast"
wards  = ["shore", "signal"]
names  = "{estate}-{name}"
[inputs]
a = 1
[drivers.medina]
kind = "medina"
api = "embedded"
[drivers.medina.deep]
k = 2
[env.trial.inputs]
a = 2
lights = { sallow = 0 }
[env.live.ward.shore.inputs]
a = 3
[env.live.drivers.medina]
api = "https://medina.example"
[env.live.ledger]
path = "elsewhere"
[limits]
steps = 5
`))
	require.NoError(t, err)
	require.Equal(t, []string{"live", "trial"}, e.Environments())
	require.Equal(t, "embedded", e.Driver("medina", "trial")["api"])
	require.Equal(t, "https://medina.example", e.Driver("medina", "live")["api"])
	require.Equal(t, "medina", e.Driver("medina", "live")["kind"], "keys are overridden one by one")
	require.Equal(t, "elsewhere", e.Ledger("live")["path"])
	require.Equal(t, "file", e.Ledger("trial")["store"])
	require.EqualValues(t, 5, e.Limits.Steps)
	given := e.Inputs("live")
	require.Len(t, given, 2)
	require.Equal(t, int64(1), given[0].Value)
	require.Equal(t, "shore", given[1].Ward)
	require.Equal(t, "kasbah.toml:16:1", given[1].Position.String())
	require.Equal(t, "kasbah.toml [env.live.ward.shore.inputs]", given[1].Source)
	require.Equal(t, "kasbah.toml:14:12", e.At("env.trial.inputs.lights.sallow").String())
}

func TestMistakes(t *testing.T) {
	const good = "estate = \"x\"\nwards = [\"a\"]\n[env.t]\n"
	for _, c := range []struct{ body, words string }{
		{"estate = ", "kasbah.toml:1:"},
		{"wards = [\"a\"]\n[env.t]", "estate is missing"},
		{"estate = \"X\"\nwards = [\"a\"]\n[env.t]", "X is not a valid name"},
		{"estate = \"x\"\n[env.t]", "wards must list at least one folder"},
		{"estate = \"x\"\nwards = [\"a\", \"a\"]\n[env.t]", `ward "a" is listed twice`},
		{"estate = \"x\"\nwards = [\"../a\"]\n[env.t]", "the folder \"../a\" makes the name"},
		{"estate = \"x\"\nwards = [\"a\"]", "no environment"},
		{good + "[legder]\nstore = \"file\"", `kasbah.toml:4:1: unknown key "legder" at the top level`},
		{good + "[env.t.inptus]\na = 1", `kasbah.toml:4:1: unknown key "inptus" in [env.t]`},
		{good + "[env.t.ward.b.inputs]\na = 1", `no ward is called "b"`},
		{good + "[env.t.drivers.m]\napi = \"x\"", `no driver is called "m"`},
		{good + "[drivers.m]\napi = \"x\"", "driver m needs a kind"},
		{good + "[limits]\nsteps = 0", "steps must be more than 0"},
		{good + "[limits]\nstep = 1", `unknown key "step" in [limits]`},
		{good + "[kits]\nb = 5", "kits.b must be a folder, or a table"},
		{good + "[kits]\nb = {git = \"x\"}", "kit b needs a tag"},
		{good + "[kits]\nb = {git = \"x\", tag = \"-f\"}", "is not a tag"},
		{good + "[kits]\nb = {gti = \"x\"}", `unknown key "gti" in [kits.b]`},
		{good + "[env.t.secrets]\ns = \"clear\"", "never written into"},
		{good + "[env.t.secrets]\ns = {env = \"A\", x = 1}", "secret s needs one of"},
		{good + "[ledger]\nseal = \"some\"", "must be \"all\" or \"off\""},
		{good + "[ledger]\nrecipients = \"age1\"", "recipients must be a list of public keys"},
		{"names = \"{nam}\"\n" + good, "names must be a text that holds {name}"},
		{"names = \"{name}{who}\"\n" + good, "not {who}"},
		{good + "[prices]\ncurrency = \"Euro\"", "currency must be a code of three letters"},
		{good + "[prices]\nbook = 5", "book must name a file"},
		{good + "[prices]\nprice = 5", "price"},
		{good + "[survey]\nignore = 5", "ignore must be a list of texts"},
		{good + "[survey]\nignore = [\"a b c\"]", "ignore must list a pattern of addresses and a path"},
		{good + "[survey]\nignore = [\"a/** b[\"]", "is not an attribute path"},
		{good + "[survey]\nhide = 5", "hide"},
		{good + "[watch]\nevery = \"often\"", `"often" is neither a span such as 6h nor a cron line`},
		{good + "[watch]\nevery = 5", "every must be a text, not 5"},
		{good + "[env.t.watch]\nevery = \"1h\"\nzone = \"Lantern/Coast\"", `the zone "Lantern/Coast" is not known`},
		{good + "[watch]\nzone = \"Lantern/Coast\"", `the zone "Lantern/Coast" is not known`},
		{good + "[env.t.ward.a.watch]\nevery = \"20s\"", "20s is shorter than a minute"},
		{good + "[watch]\nevry = \"1h\"", `unknown key "evry" in [watch]`},
		{good + "[notify]\nmail = \"x\"", "notify must be tables, each as [[notify]]"},
		{good + "[[notify]]\nname = \"x\"", "notify needs one of url, mail and run"},
		{good + "[[notify]]\nurl = \"http://x\"\nrun = [\"a\"]", "notify needs one of url, mail and run"},
		{good + "[[notify]]\nurl = \"ftp://x\"", "url must begin with http:// or https://"},
		{good + "[[notify]]\nurl = \"http://\"", "url must begin with http:// or https://"},
		{good + "[[notify]]\nurl = 5", "url must be a text, or one of { env"},
		{good + "[[notify]]\nurl = \"http://x\"\nsign = \"clear\"", "sign must be one of { env"},
		{good + "[[notify]]\nmail = \"a@x\"", "mail needs a server, such as"},
		{good + "[[notify]]\nmail = 5\nserver = \"smtp://x\"", "mail must be an address, or a list of them"},
		{good + "[[notify]]\nrun = \"a\"", "run must be a list of texts"},
		{good + "[[notify]]\nurl = \"http://x\"\nevents = [\"[\"]", `no event is called "["; the events are drift.acknowledged, drift.changed`},
		{good + "[[notify]]\nurl = \"http://x\"\nevents = [\"drift.opend\"]", `no event is called "drift.opend"`},
		{good + "[[notify]]\nurl = \"http://x\"\nserver = \"smtp://x\"", "server goes with mail"},
		{good + "[[notify]]\nurl = \"http://x\"\n[[notify]]\nurl = \"http://x\"", `two receivers are called "x"`},
		{good + "[[notify]]\nurl = \"http://x\"\nevnts = []", `unknown key "evnts" in [notify]`},
		{"prices = 5\n" + good, "prices must name a file"},
		{"inputs = 5\n" + good, "inputs must be a table"},
		{"a = 1\na = 2", "a"},
	} {
		t.Run(c.body, func(t *testing.T) {
			_, err := Parse("/x", []byte(c.body))
			require.ErrorContains(t, err, c.words, c.body)
			require.ErrorContains(t, err, "kasbah.toml", c.body)
		})
	}
}

// TestSchedule: what is said of a ward goes before its environment, and that before the estate.
func TestSchedule(t *testing.T) {
	e, err := Parse("/x", []byte("estate = \"x\"\nwards = [\"a\", \"b\", \"c\"]\n[watch]\nevery = \"6h\"\n[env.t]\n[env.l.watch]\n"+
		"every = \"0 9 * * *\"\nzone = \"Europe/Berlin\"\n[env.l.ward.b.watch]\nevery = \"15m\"\n[env.l.ward.c.watch]\nevery = \"never\"\n"))
	require.NoError(t, err)
	require.Equal(t, "6h", e.Schedule("t", "a").String())
	require.Equal(t, "0 9 * * *", e.Schedule("l", "a").String())
	require.Equal(t, "15m", e.Schedule("l", "b").String())
	require.Nil(t, e.Schedule("l", "c"))
	due := e.Schedule("l", "a").Next(time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC))
	require.Equal(t, 7, due.Hour(), "nine in Berlin")
	e, err = Parse("/x", []byte("estate = \"x\"\nwards = [\"a\"]\n[env.t]\n"))
	require.NoError(t, err)
	require.Nil(t, e.Schedule("t", "a"))
}

// FuzzParse: no text makes the reader panic.
func FuzzParse(f *testing.F) {
	f.Add("estate = \"x\"\nwards = [\"a\"]\n[env.t]\n[env.t.ward.a.inputs]\nx = [[1], {a = 2}]\n")
	f.Add("[[env]]\n[drivers]\nm = 5\n[limits]\nsteps = 1e3\n# [x\n\"a.b\".c = 2020-01-01\n")
	f.Fuzz(func(t *testing.T, body string) {
		e, err := Parse("/x", []byte(body))
		if err == nil {
			for _, env := range e.Environments() {
				e.Inputs(env)
				e.Ledger(env)
			}
		}
	})
}
