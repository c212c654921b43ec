package session_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/session"
)

// history is a repository with an estate whose files change at random.
type history struct {
	t     *testing.T
	r     *rand.Rand
	dir   string
	files map[string]string
}

func (h *history) git(args ...string) string {
	cmd := exec.Command("git", append([]string{"-c", "user.name=keeper-1", "-c", "user.email=keeper-1@lantern.example"},
		args...)...)
	cmd.Dir = h.dir
	out, err := cmd.CombinedOutput()
	require.NoError(h.t, err, string(out))
	return strings.TrimSpace(string(out))
}

// commit writes the files and commits them.
func (h *history) commit() string {
	for _, at := range h.entries() {
		if _, keep := h.files[at]; !keep {
			require.NoError(h.t, os.Remove(filepath.Join(h.dir, at)))
		}
	}
	write(h.t, h.dir, h.files)
	h.git("add", "-A")
	h.git("commit", "-q", "--allow-empty", "-m", "a change")
	return h.git("rev-parse", "HEAD")
}

// entries are the files of the repository.
func (h *history) entries() []string {
	return strings.Fields(h.git("ls-files"))
}

// wards are those of the random estate; each may read those before it.
var wardFolders = []string{"shore", "isle", "lights/sallow", "lights/merrow", "lights/brindle"}

func (h *history) begin() {
	h.files = map[string]string{
		"kasbah.toml": strings.Replace(strings.Replace(coast, `wards = ["shore", "isle"]`,
			`wards = ["shore", "isle", "lights/*"]`, 1), "[env.trial]", "[inputs]\nspan = 3\n[env.trial]", 1),
		"common/tags.star": "TAGS = {\"of\": \"coast\"}\n", "rules/house.star": "", ".gitignore": "ledger\nmedina.db*\n.kasbah\n",
	}
	for _, folder := range wardFolders {
		h.ward(folder)
	}
}

// ward writes a ward's file at random.
func (h *history) ward(folder string) {
	var b strings.Builder
	if h.r.IntN(2) == 0 {
		b.WriteString("load(\"/common/tags.star\", \"TAGS\")\n")
	} else {
		b.WriteString("TAGS = {\"of\": env}\n")
	}
	b.WriteString("span = input(\"span\", kind.int, default = 1)\n")
	n := 1 + h.r.IntN(4)
	for i := range n {
		of := "\"10.0.0.0/16\""
		if i > 0 {
			of = fmt.Sprintf("\"10.%d.0.0/16\"", h.r.IntN(4))
		}
		tags := []string{"TAGS", `{"span": str(span)}`, "{}", `{"of": "lamp"}`}[h.r.IntN(4)]
		fmt.Fprintf(&b, "n%d = medina.network(\"n%d\", range = %s, tags = %s)\n", i, i, of, tags)
	}
	values := []string{"n0.id", `"lamp"`, "str(span)", `n0.range`, `"tide"`}
	fmt.Fprintf(&b, "publish(\"a\", %s)\n", values[h.r.IntN(len(values))])
	at := slices.Index(wardFolders, folder)
	if at > 0 && h.r.IntN(3) > 0 {
		from := strings.ReplaceAll(wardFolders[h.r.IntN(at)], "/", "-")
		read := fmt.Sprintf("published(%q, \"a\")", from)
		if h.r.IntN(4) == 0 {
			read = fmt.Sprintf("[published(w, \"a\") for w in [%q]][0]", from)
		}
		fmt.Fprintf(&b, "medina.network(\"r\", range = \"10.9.0.0/16\", tags = {\"of\": %s})\n", read)
		if h.r.IntN(2) == 0 {
			fmt.Fprintf(&b, "publish(\"b\", %s)\n", read)
		}
	}
	h.files[folder+"/"+[]string{"a.star", "b.star"}[h.r.IntN(2)]] = b.String()
}

// edit changes one thing or two.
func (h *history) edit() {
	for range 1 + h.r.IntN(2) {
		folder := wardFolders[h.r.IntN(len(wardFolders))]
		switch h.r.IntN(8) {
		case 0:
			h.files["common/tags.star"] = fmt.Sprintf("TAGS = {\"of\": \"coast%d\"}\n", h.r.IntN(3))
		case 1:
			h.files["rules/house.star"] += "# a remark\n"
		case 2:
			h.files[folder+"/ward.toml"] = fmt.Sprintf("[inputs]\nspan = %d\n", h.r.IntN(4))
		case 3:
			h.files["kasbah.toml"] = strings.Replace(h.files["kasbah.toml"], "span = 3", fmt.Sprintf("span = %d", h.r.IntN(4)),
				1)
		case 4:
			h.files["notes.md"] += "A remark.\n"
		case 5:
			for name := range h.files {
				if strings.HasPrefix(name, folder+"/") && strings.HasSuffix(name, ".star") {
					h.files[name] += "# a remark\n"
				}
			}
		default:
			maps.DeleteFunc(h.files, func(name, _ string) bool {
				return strings.HasPrefix(name, folder+"/") && strings.HasSuffix(name, ".star")
			})
			h.ward(folder)
		}
	}
}

// proposed proposes all wards of a folder's estate against an empty ledger.
func proposed(t *testing.T, dir, env string) *propose.Proposal {
	c := config(dir, env)
	c.Given.Settings = []string{"ledger.path=" + t.TempDir()}
	s, err := session.Open(context.Background(), c)
	require.NoError(t, err)
	defer s.Close()
	made, err := s.Propose(context.Background(), session.Request{Offline: true, Anew: true, Rehearse: "never"})
	require.NoError(t, err)
	return made.Proposal
}

// TestAffected: which wards and addresses are affected between two commits at random is what proposing both and
// comparing says.
func TestAffected(t *testing.T) {
	pairs := 15
	if os.Getenv("THOROUGH") != "" {
		pairs = 200
	}
	t.Setenv("KASBAH_ENV", "")
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	h := &history{t: t, r: rand.New(rand.NewPCG(seed, 1)), dir: t.TempDir()}
	h.git("init", "-q", "-b", "main")
	h.begin()
	first := h.commit()
	before := proposed(t, h.dir, "trial")
	some := 0
	for i := range pairs {
		h.edit()
		second := h.commit()
		c := config(h.dir, "trial")
		d, err := session.AffectedSince(context.Background(), c, first)
		require.NoError(t, err)
		after := proposed(t, h.dir, "trial")
		want := map[string]bool{}
		for _, a := range propose.OtherActions(before, after) {
			want[a.Full()] = true
		}
		for j, w := range after.Wards {
			for _, name := range append(value.Keys(w.Published), value.Keys(before.Wards[j].Published)...) {
				was, is := before.Wards[j].Published[name], w.Published[name]
				if string(value.Append(nil, was.V)) != string(value.Append(nil, is.V)) {
					want[w.Ward+" publishes "+name] = true
				}
			}
		}
		got := map[string]bool{}
		for _, w := range d.Envs[0].Wards {
			for _, address := range slices.Concat(w.New, w.Edit, w.Drop) {
				got[value.InWard(w.Ward, address)] = true
			}
			for _, name := range w.Published {
				got[w.Ward+" publishes "+name] = true
			}
			require.Empty(t, w.Because)
		}
		require.Equal(t, want, got, "pair %d: %s", i, h.git("diff", first, second))
		if len(got) > 0 {
			some++
		}
		first, before = second, after
	}
	require.Positive(t, some)
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "kasbah-[0-9]*"))
	require.NoError(t, err)
	require.Empty(t, left, "what was written for the comparison is gone")
}
