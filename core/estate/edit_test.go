package estate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const edited = `# the coast
estate = "coast"
wards  = [
  "shore",   # where it began
  "signal",
]
[kits]
beam = { git = "../kits", tag = "v1.0.0" }   # of the keepers
lamp = { git = '../kits', path = 'lamp', tag = 'v1.0.0' }
[kits.gate]
git = "../kits"
# tag = "v0.9.0" was too old
tag = "v1.0.0"
[env.trial]
[env.live.kits]
beam = { git = "../kits", tag = "v0.9.0" }
`

// TestWithTag: one tag moves, and not a byte besides.
func TestWithTag(t *testing.T) {
	e, err := Parse("/x", []byte(edited))
	require.NoError(t, err)
	for _, c := range []struct{ env, kit, before, after string }{
		{"trial", "beam", `tag = "v1.0.0" }   # of the keepers`, `tag = "v2.0.0$1" }   # of the keepers`},
		{"trial", "lamp", `path = 'lamp', tag = 'v1.0.0'`, `path = 'lamp', tag = 'v2.0.0$1'`},
		{"trial", "gate", "too old\ntag = \"v1.0.0\"", "too old\ntag = \"v2.0.0$1\""},
		{"live", "beam", `tag = "v0.9.0" }` + "\n", `tag = "v2.0.0$1" }` + "\n"},
	} {
		t.Run(c.env, func(t *testing.T) {
			src := e.Kits(c.env)[c.kit]
			body, err := WithTag(edited, src, "v2.0.0$1")
			require.NoError(t, err)
			require.Equal(t, strings.Replace(edited, c.before, c.after, 1), body)
		})
	}
	src := e.Kits("trial")["beam"]
	src.Tag = "v7.0.0"
	_, err = WithTag(edited, src, "v8.0.0")
	require.ErrorContains(t, err, `kasbah.toml:8:1: the tag "v7.0.0" of kit beam is not written here as a text`)
}

// TestWithWard: the list grows by one, and its comments stay.
func TestWithWard(t *testing.T) {
	for _, c := range []struct{ before, after string }{
		{"wards = [\"a\"]\n", "wards = [\"a\", \"b\"]\n"},
		{"wards = [\"a\", ]\n", "wards = [\"a\", \"b\", ]\n"},
		{"  wards=[ 'a' ]\nx = [1]\n", "  wards=[ 'a', \"b\" ]\nx = [1]\n"},
	} {
		t.Run(c.before, func(t *testing.T) {
			body, err := WithWard(c.before, "b")
			require.NoError(t, err)
			require.Equal(t, c.after, body)
		})
	}
	body, err := WithWard(edited, "chronicle")
	require.NoError(t, err)
	e, err := Parse("/x", []byte(body))
	require.NoError(t, err)
	require.Equal(t, []string{"shore", "signal", "chronicle"}, e.Wards)
	require.Contains(t, body, "# where it began")
	for _, c := range []struct{ before, after string }{
		{"wards = [\n  \"a\" # the first ]\n]\n", "wards = [\n  \"a\",\n  \"b\" # the first ]\n]\n"},
		{"wards = []\n", "wards = [\"b\"]\n"},
		{"\"wards\" = [\"a=[\"]\r\n[x]\r\n", "\"wards\" = [\"a=[\", \"b\"]\r\n[x]\r\n"},
		{"x = \"wards = [ ]\"\nwards = ['a']\n", "x = \"wards = [ ]\"\nwards = ['a', \"b\"]\n"},
	} {
		t.Run(c.before, func(t *testing.T) {
			body, err := WithWard(c.before, "b")
			require.NoError(t, err, c.before)
			require.Equal(t, c.after, body)
		})
	}
	_, err = WithWard("[env.t]\nwards = [\"a\"]\n", "b") // another key of that name
	require.ErrorContains(t, err, "kasbah.toml:1:1: the list of wards cannot be changed safely")
	_, err = WithWard("estate = \"x\"\n", "b")
	require.ErrorContains(t, err, "add \"b\" to it by hand")
}

// TestWithLedgerList: the list is rewritten, and not a byte besides.
func TestWithLedgerList(t *testing.T) {
	body := "estate = \"x\"\nwards = [\"a\"]\n[ledger]\nseal = \"all\"   # always\nrecipients = [\n  \"age1a " +
		"keeper-1\", # who began\n  \"age1b\",\n]\n[env.t]\n"
	e, err := Parse("/x", []byte(body))
	require.NoError(t, err)
	require.Equal(t, []string{"age1a keeper-1", "age1b"}, e.LedgerList("recipients"))
	require.Equal(t, "age1a", PublicKey(e.LedgerList("recipients")[0]))
	require.Equal(t, "keeper-1", KeyHolder(e.LedgerList("recipients")[0]))
	require.Equal(t, "ssh-ed25519 AAAA", PublicKey("ssh-ed25519  AAAA keeper-2@tower of the coast"))
	require.Equal(t, "keeper-2@tower of the coast", KeyHolder("ssh-ed25519  AAAA keeper-2@tower of the coast"))
	after, err := WithLedgerList(body, "recipients", []string{"age1c keeper-3"})
	require.NoError(t, err)
	require.Equal(t, "estate = \"x\"\nwards = [\"a\"]\n[ledger]\nseal = \"all\"   # always\nrecipients = [\"age1c "+
		"keeper-3\"]\n[env.t]\n", after)
	_, err = WithLedgerList("[ledger]\n", "recipients", []string{"age1c"})
	require.ErrorContains(t, err, `write recipients = ["age1c"] there by hand`)

	body = "[ledger]\nseal = \"all\"\n  estate_key = \"sha256:a\" # pinned\n[env.t]\n"
	after, err = WithLedgerText(body, "estate_key", "sha256:b")
	require.NoError(t, err)
	after, err = WithLedgerList(after, "former_keys", []string{"sha256:a"})
	require.NoError(t, err)
	require.Equal(t, "[ledger]\nseal = \"all\"\n  estate_key = \"sha256:b\" # pinned\n  former_keys = "+
		"[\"sha256:a\"]\n[env.t]\n", after)
}

// FuzzLayout: whatever a text holds, the places of its keys are in it, and a value that is
// replaced is the only thing that changes.
func FuzzLayout(f *testing.F) {
	for _, body := range []string{edited, "a.\"b.c\" = [1, [2]]\n[[x]]\ny = {z = \"=\", w = '''\n'''}\n", "a = ", "[",
		"\"", "a = [\n# ]\n", "\xff = 1"} {
		f.Add(body)
	}
	f.Fuzz(func(t *testing.T, body string) {
		l := newLayout(File, body)
		for key, e := range l.entries {
			require.LessOrEqual(t, e.key, len(body))
			require.Positive(t, l.position(key).Line)
			if e.end == 0 {
				continue
			}
			require.LessOrEqual(t, e.value, e.end)
			after := l.replaced(e, "0")
			require.Equal(t, len(body)-(e.end-e.value)+1, len(after))
		}
	})
}
