//go:build unix

package main

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"kasbah/drivers/drivertest"
	"kasbah/medina"
	"kasbah/stores/servertest"
)

// wildFolder makes the example program in Python one that dies, hangs and fails as
// often as wild.txt says.
const wildFolder = `
import os, random, sys, time
def odds():
    try:
        return int(open("wild.txt").read() or 0)
    except OSError:
        return 0
def wild(when):
    if random.randrange(1000) >= odds():
        return
    how = random.choice(["die", "hang", "fail", "garbage"])
    print("wild:", when, how, file=sys.stderr)
    if how == "die":
        os._exit(9)
    if how == "hang":
        time.sleep(3)
    if how == "fail":
        raise RuntimeError("something broke " + when)
    if how == "garbage":
        sys.stdout.buffer.write(b"what is this?\n\n"); sys.stdout.buffer.flush()
def tame(name, do):
    def f(self, p):
        wild("before " + name); r = do(self, p); wild("after " + name)
        return r
    return f
for name in ("create", "update", "delete"):
    setattr(Folder, name, tame(name, getattr(Folder, name)))
folder = Folder()
`

// bareDocument is Medina's description of a cloud without keys, tags and copies.
func bareDocument(t *testing.T) string {
	var doc map[string]any
	require.NoError(t, json.Unmarshal(medina.Document(), &doc))
	for _, c := range doc["components"].(map[string]any)["schemas"].(map[string]any) {
		x, ok := c.(map[string]any)["x-kasbah"].(map[string]any)
		if !ok {
			continue
		}
		for _, k := range []string{"keys", "tag", "locate", "copies"} {
			delete(x, k)
		}
		if _, named := c.(map[string]any)["properties"].(map[string]any)["name"]; named {
			x["identify"] = []string{"name"}
		}
	}
	body, err := json.Marshal(doc)
	require.NoError(t, err)
	return string(body)
}

const galeWard = `
n = input("n", kind.int)
turn = input("turn", kind.int)
span = input("span", kind.cidr)
def coast(cloud, zone):
    net = cloud.network("coast", range = span)
    quays = [cloud.subnet("quay-%d" % i, network = net, range = cidr.slice(span, 24, i)) for i in range(2)]
    gauges = [cloud.machine("gauge-%d" % i, subnet = quays[i % 2], size = "small", image = "stone-%d" % (turn % 2)) for i in range(n)]
    [cloud.disk("tape-%d" % i, machine = g, gigabytes = 10, tags = {"turn": str(turn)}) for i, g in enumerate(gauges)]
    return gauges
first, second = coast(keyed, "a"), coast(bare, "b")
roles = [tower.role("keeper-%d" % i, name = "gale_%d" % i, connections = turn) for i in range(n)]
[names.record("gauge-%d" % i, zone = "lantern.example", name = "g%d.lantern.example" % i, kind = "A", ttl = 60 + turn, values = [g.address]) for i, g in enumerate(first)]
[local.file("note-%d" % i, path = "g%d.txt" % i, text = "turn %d at %s" % (turn, g.address)) for i, g in enumerate(second)]
`

// TestGale: one estate on an API behind a front that misbehaves, on one without keys and
// tags behind another, on a database and a name server whose connections are cut, and on
// a program that dies and hangs; and every other run is killed. Whatever happens, in the
// calm that follows each cloud holds what is declared, once, and the ledger says so. What
// the program cannot find out it asks a person, and says which thing it is about.
func TestGale(t *testing.T) {
	t.Parallel()
	until, rnd := forecast(t)
	g := newGale(t)
	runs, killed, failed, asked, surveys := 0, 0, 0, 0, 0
	for ; runs == 0 || time.Now().Before(until); runs++ {
		n := 1 + rnd.IntN(4)
		inputs := []string{"-input", fmt.Sprintf("n=%d", n), "-input", fmt.Sprintf("turn=%d", rnd.IntN(6)), "-input",
			fmt.Sprintf("span=10.%d.0.0/16", rnd.IntN(12)/11)}
		run := append([]string{"enact", "-yes", "-allow", "data", "-allow", "security"}, inputs...)
		tricks := drivertest.Tricks()
		for _, f := range []*drivertest.Front{g.keyed, g.bare} {
			f.Misbehave(1+rnd.IntN(12), tricks[rnd.IntN(len(tricks))])
		}
		g.odds(rnd.Int64N(120))
		storm := append(slices.Clone(run), "-if-one-fails", []string{"stop", "go-on", "undo"}[rnd.IntN(3)], "-timeout",
			[]string{"1s", "4s"}[rnd.IntN(2)], "-break-stale")
		if rnd.IntN(2) == 0 {
			cmd := g.command(storm...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(50+rnd.IntN(2500)) * time.Millisecond)
			_ = cmd.Process.Kill() // it may have ended by itself
			_ = cmd.Wait()         // and how says nothing
			killed++
		} else if out, code := g.run(storm...); code != 0 {
			require.Equal(t, 1, code, "%v\n%s", storm, out)
			failed++
		}
		if out, code := g.run("survey"); code == 0 {
			surveys++
		} else {
			require.Equal(t, 1, code, out)
		}
		g.keyed.Behave()
		g.bare.Behave()
		g.odds(0)
		asked += g.calm(append(run, "-break-stale"))
		g.must(append([]string{"propose", "-exit-code"}, inputs...)...)
		g.must("survey", "-exit-code")
		g.holds(n)
	}
	require.Contains(t, g.must("ledger", "verify"), "whole")
	t.Logf("%d rounds, %d killed, %d runs failed, %d times a person was asked, %d surveys came through", runs, killed,
		failed, asked, surveys)
}

type gale struct {
	*program
	keyed, bare  *drivertest.Front
	tower, names *drivertest.Cutter
	dsn, server  string
}

func newGale(t *testing.T) *gale {
	tower, names := servertest.Postgres(t), servertest.Names(t, "lantern.example")
	g := &gale{program: &program{t: t, dir: t.TempDir()}, dsn: tower.DSN("postgres"), server: names.Address}
	front := func(name string, plain bool) (*drivertest.Front, string) {
		api, err := medina.Open(medina.Options{Path: filepath.Join(g.dir, name+".db"), Pace: 0.002})
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, api.Close()) })
		f := &drivertest.Front{API: api, Plain: plain, Loose: plain}
		l := httptest.NewServer(f)
		t.Cleanup(l.Close)
		return f, l.URL
	}
	var keyed, bare string
	g.keyed, keyed = front("keyed", false)
	g.bare, bare = front("bare", true)
	g.tower, g.names = drivertest.NewCutter(t, tower.Address), drivertest.NewCutter(t, names.Address)
	g.file("bare.json", bareDocument(t))
	folder, err := os.ReadFile("../../drivers/process/examples/python/folder.py")
	require.NoError(t, err)
	g.file("folder.py", strings.Replace(string(folder), "\nfolder = Folder()\n", wildFolder, 1))
	g.file("kasbah.toml", fmt.Sprintf(`
estate = "lantern-coast"
wards  = ["shore"]
[ledger]
seal = "off"
[drivers.keyed]
kind = "medina"
api  = %q
[drivers.bare]
kind = "openapi"
spec = "bare.json"
api  = %q
[drivers.tower]
kind = "postgres"
dsn  = %q
[drivers.names]
kind   = "dns"
server = %q
zones  = ["lantern.example"]
key    = %q
secret = { env = "COAST_ZONE_SECRET" }
[drivers.local]
kind   = "process"
run    = ["python3", "folder.py"]
folder = "out"
[env.trial]
`, keyed, bare, strings.Replace(g.dsn, tower.Address, g.tower.Address, 1), g.names.Address, servertest.ZoneKey))
	g.file("shore/shore.star", galeWard)
	g.env = append(g.env, "COAST_ZONE_SECRET="+servertest.ZoneSecret, "XDG_CONFIG_HOME="+filepath.Join(g.dir, "config"))
	return g
}

func (g *gale) odds(n int64) {
	g.tower.Odds(n)
	g.names.Odds(n)
	g.file("wild.txt", fmt.Sprint(n))
}

var question = regexp.MustCompile(`(?s)kasbah lock recover (\S+)\s+-made\s+(\S+)=ID`)

// calm runs until all is done, as a person would, and answers what it is asked. It
// returns how often that was.
func (g *gale) calm(run []string) (asked int) {
	for tries := 0; ; tries++ {
		out, code := g.run(run...)
		if code == 0 {
			return asked
		}
		if tries >= 12 {
			log, _ := g.run("ledger", "log", "-json")
			require.Fail(g.t, "it does not end", "%s\n%s", out, log)
		}
		m := question.FindStringSubmatch(out)
		if m == nil {
			continue
		}
		asked++
		_, address, _ := strings.Cut(m[2], ":")
		if address == "" {
			address = m[2]
		}
		id := "none"
		if driver, rest, _ := strings.Cut(address, "."); driver == "bare" || driver == "keyed" {
			front := map[string]*drivertest.Front{"bare": g.bare, "keyed": g.keyed}[driver]
			typ, name, _ := strings.Cut(rest, "/")
			held := g.ids("ledger", "show", "-json")
			for _, x := range g.list(front, typ+"s") {
				if x["name"] == "trial-shore-"+name && !slices.Contains(held, x["id"].(string)) {
					id = x["id"].(string)
				}
			}
		}
		g.must("lock", "recover", m[1], "-made", m[2]+"="+id, "-break-stale")
	}
}

func (g *gale) list(f *drivertest.Front, plural string) []map[string]any {
	rec := httptest.NewRecorder()
	f.API.ServeHTTP(rec, httptest.NewRequest("GET", "http://127.0.0.1/"+plural+"?limit=1000", nil))
	var v any
	require.NoError(g.t, json.Unmarshal(rec.Body.Bytes(), &v), rec.Body.String())
	if m, ok := v.(map[string]any); ok {
		v = m["items"]
	}
	var out []map[string]any
	for _, x := range v.([]any) {
		out = append(out, x.(map[string]any))
	}
	return out
}

// holds is an error unless every cloud holds what is declared for n, once each.
func (g *gale) holds(n int) {
	t := g.t
	var recorded []string
	for _, f := range []*drivertest.Front{g.keyed, g.bare} {
		for _, c := range []struct {
			plural string
			want   int
		}{
			{"networks", 1},
			{"subnets", 2},
			{"machines", n},
			{"disks", n},
		} {
			things := g.list(f, c.plural)
			require.Len(t, things, c.want, "%s: %v", c.plural, things)
			for _, x := range things {
				recorded = append(recorded, x["id"].(string))
			}
		}
	}
	ctx := context.Background()
	c, err := pgx.Connect(ctx, g.dsn)
	require.NoError(t, err)
	defer c.Close(ctx)
	var roles int
	require.NoError(t, c.QueryRow(ctx, "select count(*) from pg_roles where rolname like 'gale%'").Scan(&roles))
	require.Equal(t, n, roles)
	m := new(dns.Msg)
	m.SetAxfr("lantern.example.")
	m.SetTsig(servertest.ZoneKey+".", dns.HmacSHA256, 300, time.Now().Unix())
	transfer := dns.Transfer{TsigSecret: map[string]string{servertest.ZoneKey + ".": servertest.ZoneSecret}}
	coming, err := transfer.In(m, g.server)
	require.NoError(t, err)
	found := map[string]bool{}
	for e := range coming {
		require.NoError(t, e.Error)
		for _, rr := range e.RR {
			if rr.Header().Rrtype == dns.TypeA && strings.HasPrefix(rr.Header().Name, "g") {
				found[rr.String()] = true
			}
		}
	}
	require.Len(t, found, n, "%v", slices.Collect(maps.Keys(found)))
	files, err := filepath.Glob(filepath.Join(g.dir, "out", "g*.txt"))
	require.NoError(t, err)
	require.Len(t, files, n)
	ids := g.ids("ledger", "show", "-json")
	require.Len(t, ids, len(recorded)+3*n)
	require.Subset(t, ids, recorded, "what is there is what is recorded")
}
