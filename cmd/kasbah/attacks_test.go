package main

import (
	"bytes"
	"crypto/ed25519"
	crand "crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Attacks on the built program, with bytes that the tests write themselves.

// fort is a sealed estate on a machine that has a home of its own.
func fort(t *testing.T) *program {
	p := &program{t: t, dir: t.TempDir()}
	p.env = []string{"XDG_CONFIG_HOME=" + filepath.Join(p.dir, "home"), "HOME=" + filepath.Join(p.dir, "home")}
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "home"), 0o700))
	lines := p.must("key", "estate", "-quiet")
	p.file("kasbah.toml",
		"estate = \"coast\"\nwards = [\"shore\", \"signal\"]\n[ledger]\n"+lines+"[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial]\n[env.live]\n[env.live.drivers.medina]\npath = \"live.db\"\n")
	p.file("shore/shore.star", "medina.network(\"coast\", range = \"10.1.0.0/16\")\nmedina.bucket(\"log\")\n")
	p.file("signal/signal.star", "medina.bucket(\"lamp\")\n")
	p.must("enact", "-yes", "-quiet", "-env", "trial")
	return p
}

// elsewhere is the same estate and person on a machine that remembers nothing.
func (p *program) elsewhere() *program {
	home := filepath.Join(p.dir, "home-"+fmt.Sprint(time.Now().UnixNano()))
	require.NoError(p.t, exec.Command("cp", "-r", filepath.Join(p.dir, "home"), home).Run())
	require.NoError(p.t, os.RemoveAll(filepath.Join(home, "kasbah", "seen")))
	return &program{t: p.t, dir: p.dir, env: []string{"XDG_CONFIG_HOME=" + home, "HOME=" + home}}
}

func (p *program) log(env, ward string) string {
	return filepath.Join(p.dir, ".kasbah", "ledger", "coast", env, ward, "log")
}

// entries are the stored entries of a ledger, oldest first, without the byte that a file
// store puts before each.
func (p *program) entries(env, ward string) [][]byte {
	files, err := os.ReadDir(p.log(env, ward))
	require.NoError(p.t, err)
	var out [][]byte
	for _, f := range files {
		body, err := os.ReadFile(filepath.Join(p.log(env, ward), f.Name()))
		require.NoError(p.t, err)
		out = append(out, bytes.TrimPrefix(body, []byte("K")))
	}
	return out
}

func (p *program) putEntry(env, ward string, seq int, body []byte) {
	require.NoError(p.t, os.MkdirAll(p.log(env, ward), 0o755))
	require.NoError(p.t, os.WriteFile(filepath.Join(p.log(env, ward), fmt.Sprintf("%010d", seq)),
		append([]byte("K"), body...), 0o600))
}

// clearEntry is an entry as nobody's key has sealed it.
func clearEntry(t *testing.T, seq int, prev []byte, lines ...string) []byte {
	hash := ""
	if prev != nil {
		hash = fmt.Sprintf("%x", sha256.Sum256(prev))
	}
	var kind struct{ Kind string }
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &kind))
	text := fmt.Sprintf(`{"format":"kasbah.entry/1","seq":%d,"prev":%q,"time":"2031-01-02T03:04:05Z","run":"forged","who":"keeper","host":"tower","program":"0","kind":%q}`, seq, hash, kind.Kind) + "\n" + strings.Join(lines, "\n") + "\n"
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	return enc.EncodeAll([]byte(text), nil)
}

const (
	forgedBegin  = `{"kind":"begin","begin":{"scope":{"whole":true},"command":"forged","process":{}}}`
	forgedUnseal = `{"kind":"note","note":{"what":"readers","readers":{"recipients":[]}}}`
	forgedDrop   = `{"kind":"note","note":{"what":"forged","dropped":"medina.bucket/log"}}`
	forgedEnd    = `{"kind":"end","end":{"outcome":"done","published":null}}`
)

// refuses wants every command to refuse the ledger, in words, and that following what they
// advise makes nothing believed.
func (p *program) refuses(words string) {
	p.t.Helper()
	for _, m := range []*program{p, p.elsewhere()} {
		before := m.store()
		for _, args := range [][]string{{"propose"}, {"enact", "-yes"}, {"ledger", "show"}, {"ledger", "verify"},
			{"survey"}, {"ledger", "reseal"}, {"ledger", "reseal", "-why", "it says so"}} {
			was := m.store()
			out, code := m.run(append(args, "-env", "trial")...)
			require.Equal(p.t, was, m.store(), "%v %v wrote: %d %s", m.env, args, code, out)
			require.NotZero(p.t, code, "%v\n%s", args, out)
			require.NotContains(p.t, out, "whole")
			require.NotContains(p.t, out, "panic")
			require.Regexp(p.t, words, strings.Join(strings.Fields(out), " "), "%v", args)
			for _, advised := range regexp.MustCompile("`kasbah ([^`]*)`").FindAllStringSubmatch(strings.Join(strings.Fields(out), " "), -1) {
				if !strings.Contains(advised[1], "NAME") && !strings.Contains(advised[1], "…") {
					out, code := m.run(append(strings.Fields(advised[1]), "-env", "trial")...)
					p.t.Logf("advised: kasbah %s: %d %s", advised[1], code, out)
				}
			}
		}
		require.Equal(p.t, before, m.store(), "nothing was written behind it")
	}
}

// store is all that is stored, as one digest.
func (p *program) store() string {
	out, err := exec.Command("sh", "-c", "cd "+filepath.Join(p.dir, ".kasbah",
		"ledger")+" && find . -type f | sort | xargs sha256sum").Output()
	require.NoError(p.t, err)
	return string(out)
}

// TestLaundering: nothing in clear is believed where kasbah.toml pins a key, whatever it
// says, and no advice leads around that.
func TestLaundering(t *testing.T) {
	t.Run("one entry that unseals", func(t *testing.T) {
		p := fort(t)
		all := p.entries("trial", "shore")
		last := all[len(all)-1]
		for i, lines := range [][]string{{forgedBegin}, {forgedUnseal}, {forgedDrop}, {forgedEnd}} {
			last = clearEntry(t, len(all)+1+i, last, lines...)
			p.putEntry("trial", "shore", len(all)+1+i, last)
		}
		p.refuses("is not sealed, so it was written without the estate's key")
	})
	t.Run("a ledger in clear", func(t *testing.T) {
		p := fort(t)
		require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".kasbah", "ledger", "coast", "trial", "shore")))
		var last []byte
		for i, lines := range [][]string{{forgedBegin}, {forgedEnd}} {
			last = clearEntry(t, 1+i, last, lines...)
			p.putEntry("trial", "shore", 1+i, last)
		}
		p.refuses("is in clear, and kasbah.toml says|was there, and now|it is not trusted|cannot be resealed on this " +
			"machine|not the one that this machine has seen")
	})
	t.Run("sealed with somebody's own key", func(t *testing.T) {
		p := fort(t)
		all := p.entries("trial", "shore")
		body, err := os.ReadFile(filepath.Join(p.dir, "kasbah.toml"))
		require.NoError(t, err)
		to, err := age.ParseX25519Recipient(regexp.MustCompile(`age1[a-z0-9]+`).FindString(string(body)))
		require.NoError(t, err)
		var sealed bytes.Buffer
		w, err := age.Encrypt(&sealed, to)
		require.NoError(t, err)
		_, err = w.Write(clearEntry(t, len(all)+1, all[len(all)-1], forgedBegin))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		mac := make([]byte, 32)
		_, _ = crand.Read(mac)
		p.putEntry("trial", "shore", len(all)+1, append(append([]byte("kasbah.sealed/1\n"), mac...), sealed.Bytes()...))
		p.refuses("it was not written with the estate's key")
	})
}

// TestCarriedOver: an entry of another ward, environment or estate is none of this ledger's.
func TestCarriedOver(t *testing.T) {
	p := fort(t)
	p.must("enact", "-yes", "-quiet", "-env", "live")
	all := p.entries("trial", "shore")
	for name, from := range map[string][][]byte{"ward": p.entries("trial", "signal"), "environment": p.entries("live",
		"shore"), "estate": fort(t).entries("trial", "shore")} {
		t.Run(name, func(t *testing.T) {
			here := *p
			here.t = t
			here.putEntry("trial", "shore", len(all)+1, from[len(from)-1])
			here.refuses("it was not written with the estate's key|it is sealed to keys that are not on this " +
				"machine|it says that it is entry")
			require.NoError(t, os.Remove(filepath.Join(p.log("trial", "shore"), fmt.Sprintf("%010d", len(all)+1))))
		})
	}
	p.must("propose", "-env", "trial")
}

// TestShownIsDone: a kept proposal that shows something else than it does is refused
// whenever it is looked at, whatever its digest says.
func TestShownIsDone(t *testing.T) {
	p := &program{t: t, dir: t.TempDir()}
	p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\npace = "+
		"0\n[env.trial]\n")
	p.file("shore/shore.star", "medina.network(\"coast\", range = \"10.1.0.0/16\")\nmedina.bucket(\"log\")\n")
	p.must("enact", "-yes", "-quiet", "-only", "medina.bucket/log")
	p.file("shore/shore.star", "medina.network(\"coast\", range = \"10.1.0.0/16\")\n")
	p.must("propose", "-o", "change.json")
	body, err := os.ReadFile(filepath.Join(p.dir, "change.json"))
	require.NoError(t, err)
	for _, c := range []struct {
		name string
		c    struct{ from, to, says string }
	}{
		{"another range is made",
			struct{ from, to, says string }{`"inputs":{"name":"trial-shore-coast","range":"10.1.0.0/16"}`,
				`"inputs":{"name":"trial-shore-coast","range":"10.66.0.0/16"}`,
				"range would be 10.66.0.0/16, and the file shows 10.1.0.0/16"}},
		{"data is not lost", struct{ from, to, says string }{`"data":["shore:medina.bucket/log"]`, `"data":[]`,
			"the resources whose data would be lost are shore:medina.bucket/log, and the file says"}},
		{"it holds no data", struct{ from, to, says string }{`"holds_data":true`, `"holds_data":false`,
			"whether it holds data differs from its type"}},
		{"gone already", struct{ from, to, says string }{`"because":"no longer declared"`,
			`"because":"no longer declared, gone from the cloud already"`,
			`the file says "no longer declared, gone from the cloud already"`}},
		{"another thing is dropped", struct{ from, to, says string }{`"id":"bkt-0001"`, `"id":"bkt-0666"`,
			"it is not recorded as the file says"}},
		{"an attribute is not shown",
			struct{ from, to, says string }{`,{"path":"range","was":null,"will_be":"10.1.0.0/16","fixed":true}`, ``,
				"range would be 10.1.0.0/16, and the file does not show it"}},
		{"undone it would be as was", struct{ from, to, says string }{`"undo":"make again, without its data"`,
			`"undo":"make again"`,
			"undoing it would be"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var compact bytes.Buffer
			require.NoError(t, json.Compact(&compact, body))
			text := compact.String()
			require.Contains(t, text, c.c.from)
			text = strings.Replace(text, c.c.from, c.c.to, 1)
			i := strings.LastIndex(text, `,"digest":"`)
			text = text[:i] + fmt.Sprintf(`,"digest":"%x"}`, sha256.Sum256([]byte(text[:i]+"}")))
			p.file("forged.json", text)
			for _, args := range [][]string{{"review", "forged.json"}, {"approve", "forged.json", "-key", "none",
				"-yes"}, {"enact", "forged.json", "-yes", "-allow", "data,security"}} {
				out, code := p.run(args...)
				require.Equal(t, 5, code, "%v\n%s", args, out)
				require.Contains(t, strings.Join(strings.Fields(out), " "), c.c.says, "%v", args)
			}
		})
	}
	require.Contains(t, p.must("medina", "list", "bucket"), "bkt-0001", "nothing was done")
	require.NotContains(t, p.must("medina", "list"), "10.66")
	p.must("enact", "change.json", "-yes", "-allow", "data")

	// in a sealed estate, and one with writers, nobody but they makes one
	f := fort(t)
	f.file("shore/shore.star", "medina.network(\"coast\", range = "+
		"\"10.1.0.0/16\")\nmedina.bucket(\"log\")\nmedina.bucket(\"more\")\n")
	f.must("propose", "-env", "trial", "-o", "change.age")
	plain := strings.ReplaceAll(string(body), "\n", "")
	f.file("plain.json", plain)
	out, code := f.run("enact", "plain.json", "-yes")
	require.Equal(t, 5, code, out)
	require.Contains(t, strings.Join(strings.Fields(out), " "), "it is not sealed, and this estate seals its proposals")
	// somebody who knows to whom it is sealed seals one of their own
	toml, err := os.ReadFile(filepath.Join(f.dir, "kasbah.toml"))
	require.NoError(t, err)
	recipient := regexp.MustCompile(`age1[a-z0-9]+`).FindString(string(toml))
	to, err := age.ParseX25519Recipient(recipient)
	require.NoError(t, err)
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, to)
	require.NoError(t, err)
	fmt.Fprintf(w, "{\"recipients\":[%q],\"proof\":\"AAAA\"}\n%s", recipient, plain)
	require.NoError(t, w.Close())
	f.file("sealed.age", string(pem.EncodeToMemory(&pem.Block{Type: "AGE ENCRYPTED FILE", Bytes: sealed.Bytes()})))
	out, code = f.run("enact", "sealed.age", "-yes")
	require.Equal(t, 5, code, out)
	require.Contains(t, strings.Join(strings.Fields(out), " "), "it was not made with the estate's current key")
	f.must("enact", "change.age", "-yes")
}

// TestDismissedWrites: who was dismissed still has their keys and what they once read, and
// writes to the store. Nobody believes it.
func TestDismissedWrites(t *testing.T) {
	p := fort(t)
	gone := &program{t: t, dir: p.dir, env: []string{"XDG_CONFIG_HOME=" + filepath.Join(p.dir, "gone"),
		"HOME=" + filepath.Join(p.dir, "gone")}}
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "gone"), 0o700))
	reads := strings.TrimSpace(gone.must("key", "new", "-quiet"))
	writes := strings.TrimSpace(gone.must("key", "writer", "-quiet"))
	p.must("key", "admit", "keeper-9", reads)
	p.must(append([]string{"key", "admit", "keeper-9", "-writer"}, strings.Fields(writes)...)...)
	p.must("ledger", "reseal", "-env", "trial")
	p.file("signal/signal.star", "medina.bucket(\"lamp\")\nmedina.bucket(\"nine\")\n")
	gone.must("enact", "-yes", "-quiet", "-env", "trial") // they may, by now
	before, err := os.ReadFile(filepath.Join(p.dir, "kasbah.toml"))
	require.NoError(t, err)
	p.must("propose", "-env", "trial")
	out := p.must("key", "dismiss", "keeper-9")
	require.Contains(t, strings.Join(strings.Fields(out), " "), "another estate_key")
	p.must("ledger", "reseal", "-env", "trial")
	p.must("propose", "-env", "trial")
	after, err := os.ReadFile(filepath.Join(p.dir, "kasbah.toml"))
	require.NoError(t, err)
	require.Contains(t, string(after), "former_keys")

	// with kasbah.toml as it was, they go on from what they could read
	entries := p.entries("trial", "signal")
	stored := p.store()
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "kasbah.toml"), before, 0o644))
	p.file("signal/signal.star", "medina.bucket(\"nine\")\n")
	out, code := gone.run("enact", "-yes", "-quiet", "-env", "trial", "-allow", "data")
	require.NotZero(t, code, out)
	require.Equal(t, stored, p.store(), "they cannot read on, so the program does not write")

	// an old copy, and their own entries behind it: kasbah.toml pins another key by now
	ledger := filepath.Join(p.dir, ".kasbah", "ledger")
	require.NoError(t, exec.Command("cp", "-r", ledger, ledger+".whole").Run())
	for _, ward := range []string{"shore", "signal"} {
		files, err := os.ReadDir(p.log("trial", ward))
		require.NoError(t, err)
		cut := false
		for i, f := range files {
			body, err := os.ReadFile(filepath.Join(p.log("trial", ward), f.Name()))
			require.NoError(t, err)
			_ = body
			cut = cut || i >= len(files)-4 // the last reseal: begin, two notes, end
			if cut {
				require.NoError(t, os.Remove(filepath.Join(p.log("trial", ward), f.Name())))
			}
		}
		for _, f := range checkpoints(t, p, ward) {
			require.NoError(t, os.Remove(f))
		}
	}
	out, code = gone.run("enact", "-yes", "-quiet", "-env", "trial", "-allow", "data")
	t.Logf("who was dismissed, on an old copy: %d\n%s", code, out)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "kasbah.toml"), after, 0o644))
	p.refuses("former key of the estate|not the one that this machine has seen|it was not written with the estate's key")
	require.NoError(t, os.RemoveAll(ledger))
	require.NoError(t, os.Rename(ledger+".whole", ledger))
	p.must("propose", "-env", "trial")
	require.NotEmpty(t, entries)
}

func checkpoints(t *testing.T, p *program, ward string) []string {
	list, err := filepath.Glob(filepath.Join(p.dir, ".kasbah", "ledger", "coast", "trial", ward, "checkpoint", "*"))
	require.NoError(t, err)
	return list
}

// TestStrangeWriter: a reader without a writer's key writes nothing, whatever key they have.
func TestStrangeWriter(t *testing.T) {
	p := fort(t)
	_, private, err := ed25519.GenerateKey(crand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	p.file("stranger", string(pem.EncodeToMemory(block)))
	m := p.elsewhere()
	m.env = append(m.env, "KASBAH_WRITER="+filepath.Join(p.dir, "stranger"))
	m.must("propose", "-env", "trial")
	p.file("shore/shore.star", "medina.bucket(\"log\")\nmedina.bucket(\"more\")\n")
	before := p.store()
	out, code := m.run("enact", "-yes", "-env", "trial", "-allow", "data,security")
	require.NotZero(t, code, out)
	require.Contains(t, strings.Join(strings.Fields(out), " "), "no key on this machine may write the ledger of shore")
	require.Equal(t, before, p.store())
	require.NotContains(t, p.must("medina", "list", "-env", "trial"), "more")
}

// TestBombs: files that take all memory or time are refused in words.
func TestBombs(t *testing.T) {
	for _, c := range []struct {
		name string
		c    struct{ file, body, says string }
	}{
		{"nested lists", struct{ file, body, says string }{"kasbah.toml",
			"estate = \"coast\"\nwards = [\"shore\"]\nx = " + strings.Repeat("[",
				500_000), "kasbah.toml:3: lists and tables are nested deeper than 100 levels"}},
		{"a huge file", struct{ file, body, says string }{"kasbah.toml", "estate = \"coast\"\n# " + strings.Repeat("x",
			5<<20),
			"it is larger than 4194304 bytes"}},
		{"a kit's lists", struct{ file, body, says string }{"kits/k/kit.toml",
			"name = \"k\"\nversion = \"1.0.0\"\nx = " + strings.Repeat("[{a=",
				200_000), "nested deeper than 100 levels"}},
		{"a kit's text", struct{ file, body, says string }{"kits/k/kit.star", "x = " + strings.Repeat("(", 300_000),
			"kit.star"}},
		{"a huge kit.star", struct{ file, body, says string }{"kits/k/kit.star", "huge", "kit.star"}},
		{"a huge kit.toml", struct{ file, body, says string }{"kits/k/kit.toml", "huge", "kit.toml is larger than"}},
		{"a huge ward", struct{ file, body, says string }{"shore/shore.star", "huge", "shore.star"}},
		{"a whole number", struct{ file, body, says string }{"shore/shore.star",
			"def _f():\n    x = 3\n    for i in range(60):\n        x = x * " +
				"x\n_f()\n", "a whole number of more than 65536 bits"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := &program{t: t, dir: t.TempDir()}
			p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = "+
				"\"medina\"\n[kits]\nk = \"kits/k\"\n[env.trial]\n")
			p.file("kits/k/kit.toml", "name = \"k\"\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\n")
			p.file("kits/k/kit.star", "k = kit(lambda: None)\n")
			p.file("shore/shore.star", "load(\"kit:k\", \"k\")\n")
			p.file(c.c.file, c.c.body)
			if huge := strings.TrimPrefix(c.c.body, "huge"); huge != c.c.body { // a file with a hole of 8 GB
				require.NoError(t, os.Truncate(filepath.Join(p.dir, c.c.file), 8<<30))
			}
			began := time.Now()
			out, code := p.run("check")
			require.Equal(t, 1, code, out[:min(len(out), 2000)])
			require.Contains(t, strings.Join(strings.Fields(out), " "), c.c.says)
			require.NotContains(t, out, "goroutine ")
			require.Less(t, len(out), 20_000)
			require.Less(t, time.Since(began), time.Minute)
		})
	}
}

const hostileText = "quiet\x1b[31m\u202eda\u200bngerous\u2028\x9b2J\nFAKE: all is well\r\n"

// TestHostileTexts: what a cloud, its document and people say reaches a terminal as text,
// on the line where it belongs.
func TestHostileTexts(t *testing.T) {
	text, err := json.Marshal(hostileText)
	require.NoError(t, err)
	hostile := string(text)
	hostile = strings.ReplaceAll(hostile, "\u009b", `\u009b`)
	document := `{"openapi": "3.1.0", "info": {"title": ` + hostile + `, "version": "1"}, "paths": {
"/lamps": {"get": {"responses": {"200": {"description": "", "content": {"application/json": {"schema": {"type": "array", "items": {"$ref": "#/components/schemas/lamp"}}}}}}},
  "post": {"requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/lamp"}}}}, "responses": {"201": {"description": ""}}}},
"/lamps/{id}": {"get": {"responses": {"200": {"description": ""}}}, "patch": {"requestBody": {"content": {"application/merge-patch+json": {"schema": {"$ref": "#/components/schemas/lamp"}}}}, "responses": {"200": {"description": ""}}}, "delete": {"responses": {"204": {"description": ""}}}}},
"components": {"schemas": {"lamp": {"type": "object", "description": ` + hostile + `, "x-kasbah": {"type": "lamp", "path": "/lamps", "id": "id"}, "required": ["label"], "properties": {
  "label": {"type": "string", "description": ` + hostile + `, "pattern": "^[a-z]+$"}, "says": {"type": "string", "readOnly": true, "description": ` + hostile + `}, "id": {"type": "string", "readOnly": true}}}}}}`
	lamps := map[string]map[string]any{}
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		id := strings.TrimPrefix(r.URL.Path, "/lamps/")
		switch {
		case r.Method == "GET" && r.URL.Path == "/lamps":
			list := []map[string]any{}
			for _, l := range lamps {
				list = append(list, l)
			}
			_ = json.NewEncoder(w).Encode(list)
		case r.Method == "POST":
			var l map[string]any
			_ = json.NewDecoder(r.Body).Decode(&l)
			if l["label"] == "refused" {
				w.WriteHeader(http.StatusUnprocessableEntity)
				_ = json.NewEncoder(w).Encode(map[string]any{"title": hostileText, "detail": hostileText})
				return
			}
			l["id"], l["says"] = fmt.Sprintf("l-%d", len(lamps)), hostileText
			lamps[l["id"].(string)] = l
			w.WriteHeader(http.StatusCreated)
			_ = json.NewEncoder(w).Encode(l)
		case lamps[id] == nil:
			w.WriteHeader(http.StatusNotFound)
		default:
			_ = json.NewEncoder(w).Encode(lamps[id])
		}
	}))
	defer api.Close()
	p := &program{t: t, dir: t.TempDir()}
	p.file("beacon.json", document)
	p.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [\"shore\"]\n[drivers.beacon]\nkind = "+
		"\"openapi\"\nspec = \"beacon.json\"\napi = %q\n[env.trial]\n", api.URL))
	p.file("shore/shore.star", "west = beacon.lamp(\"west\", label = \"west\")\npublish(\"says\", west.says)\n")
	clean := func(args ...string) string {
		t.Helper()
		out, _ := p.run(args...)
		for _, r := range out {
			if r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)) {
				t.Errorf("%v shows %U:\n%q", args, r, out)
				break
			}
		}
		if regexp.MustCompile(`(?m)^\s*FAKE`).MatchString(out) {
			t.Errorf("%v: a line of its own\n%s", args, out)
		}
		return out
	}
	for _, args := range [][]string{
		{"types"}, {"types", "beacon.lamp"}, {"types", "-json"}, {"types", "-from", "beacon.json"}, {"check"},
		{"propose"}, {"propose", "-json"}, {"propose", "-form", "markdown"},
		{"enact", "-yes", "-why", hostileText}, {"propose"}, {"survey"}, {"ledger", "show"},
		{"ledger", "show", "beacon.lamp/west"}, {"ledger", "log"}, {"ledger", "log", "-full"},
		{"ledger", "log", "-json"}, {"published"}, {"why", "beacon.lamp/west"}, {"why", "beacon.lamp/west.label"},
		{"map"}, {"ledger", "export"}, {},
	} {
		clean(args...)
	}
	p.file("shore/shore.star", "west = beacon.lamp(\"west\", label = \"west\")\nbeacon.lamp(\"other\", label = "+
		"\"refused\")\n")
	require.Contains(t, clean("enact", "-yes"), "quiet")
	p.file("shore/shore.star", "west = beacon.lamp(\"west\", label = \"west\", wrong = 1)\n")
	clean("check")
	clean("check", "-form", "sarif")
	clean("enact", "-yes", "-"+hostileText)
	clean("propose", hostileText)
	clean(hostileText)
}
