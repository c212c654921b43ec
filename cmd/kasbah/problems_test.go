package main

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEveryProblemAtItsLine: whatever Medina refuses is told at the line of the
// attribute that it is about, or of the declaration where it is about none.
func TestEveryProblemAtItsLine(t *testing.T) {
	const quay = `coast = medina.network("coast", range = "10.20.0.0/16")
quay = medina.subnet("quay", network = coast, range = "10.20.1.0/24")
`
	const lens = quay + `lamp = medina.machine("lamp", subnet = quay, size = "tiny", image = "stone-4")
`
	for _, c := range []struct {
		says  string
		first string   // enacted before, when there is any
		hand  []string // done by hand after it
		star  string   // the line that is meant ends in # here
	}{
		{says: "10.99.1.0/24 is not inside 10.20.0.0/16", star: `coast = medina.network("coast", range = "10.20.0.0/16")
medina.subnet("quay",
    network = coast,
    range = "10.99.1.0/24", # here
)`},
		{says: "overlaps 10.20.1.0/24 of subnet", first: quay, star: quay + `medina.subnet("reef",
    range = "10.20.1.128/25", # here
    network = coast)`},
		{says: "the prefix of 10.0.0.0/30 must lie between 8 and 28", star: `medina.network("coast", tags = {"a": "b"},
    range = "10.0.0.0/30") # here`},
		{says: "ranges are IPv4 in Medina", star: `medina.network("coast",
    range = "fd00::/48") # here`},
		{says: "has no free address left", star: `coast = medina.network("coast", range = "10.20.0.0/16")
quay = medina.subnet("quay", network = coast, range = "10.20.1.0/29")
[medina.machine("beam-%d" % i, size = "tiny", image = "stone-4",
    subnet = quay) # here
    for i in range(7)]`},
		{says: "a CNAME has exactly one value, and this one has 2", star: `medina.record("a", kind = "CNAME", name = "a",
    values = ["b", "c"]) # here`},
		{says: `"high" is not an IPv4 address`, star: `medina.record("a", kind = "A", name = "a",
    values = ["10.0.0.1", "high"]) # here`},
		{says: "a record A a exists already", first: `medina.record("a", kind = "A", name = "a", values = ["10.0.0.1"])`, star: `medina.record("a", kind = "A", name = "a", values = ["10.0.0.1"])
medina.record("b", kind = "A", values = ["10.0.0.1"],
    name = "a") # here`},
		{says: "icmp has no ports", star: quay + `medina.firewall("gate", network = coast,
    rules = [{"protocol": "icmp", "ports": "1", "from": "0.0.0.0/0"}]) # here`},
		{says: "tcp needs ports", star: quay + `medina.firewall("gate", network = coast,
    rules = [{"protocol": "tcp", "from": "0.0.0.0/0"}]) # here`},
		{says: `"9-5": ports lie between 1 and 65535`, star: quay + `medina.firewall("gate", network = coast,
    rules = [{"protocol": "tcp", "ports": "9-5", "from": "0.0.0.0/0"}]) # here`},
		{says: "is in north-1, and the address in north-2", star: lens + `medina.address("lamp", zone = "north-2",
    machine = lamp) # here`},
		{says: "is in north-1, and the disk in north-2", star: lens + `medina.disk("tape", zone = "north-2", gigabytes = 5,
    machine = lamp) # here`},
		{says: "a balancer for tls needs a certificate to show",
			star: lens +
				`medina.balancer("lens", subnet = quay, machines = [lamp], protocol = "tls", port = 443) # here`},
		{says: "is listed twice", star: lens + `medina.balancer("lens", subnet = quay, port = 443,
    machines = [lamp, lamp]) # here`},
		{says: "and the balancer in", star: lens + `far = medina.network("far", range = "10.30.0.0/16")
medina.balancer("lens", port = 443, subnet = medina.subnet("reef", network = far, range = "10.30.0.0/24"),
    machines = [lamp]) # here`},
		{says: "a disk cannot shrink, and this one has 9", first: `medina.disk("tape", gigabytes = 9)`, star: `medina.disk("tape",
    gigabytes = 5) # here`},
		{says: "an alarm watches one thing, and this one a machine as well", star: lens + `medina.alarm("lamp", machine = lamp, measures = "load", above = 3.0, topic = medina.topic("all"),
    queue = medina.queue("waves")) # here`},
		{says: "an alarm watches a machine, a queue or a database",
			star: `medina.alarm("lamp", measures = "load", above = 3.0, topic = medina.topic("all")) # here`},
		{says: "a machine has no waiting; it has load, memory", star: lens + `medina.alarm("lamp", machine = lamp, above = 3.0, topic = medina.topic("all"),
    measures = "waiting") # here`},
		{says: `"now and then" is not a schedule`, star: `medina.job("sweep", image = "broom-1", command = ["sweep"],
    schedule = "now and then") # here`},
		{says: "a site is read by anybody", star: `medina.bucket("charts",
    site = True) # here`},
		{says: "tries and failed go together", star: `medina.queue("waves", tries = 3) # here`},
		{says: "is listed twice", star: `waves = medina.queue("waves")
medina.topic("all",
    queues = [waves, waves]) # here`},
		{says: "in the order of that key", star: `medina.table("tides", key = "day",
    order = "day") # here`},
		{says: "a database cannot go back from tabular-17 to tabular-15", first: quay +
			`medina.database("tides", subnet = quay, size = "small", gigabytes = 5, password = input("word", kind.text, secret = True))`,
			star: quay + `medina.database("tides", subnet = quay, size = "small", gigabytes = 5, password = input("word", kind.text, secret = True),
    engine = "tabular-15") # here`},
		{says: "is switched off", star: `off = medina.key("off", enabled = False)
medina.bucket("charts")
medina.table("tides", key = "day",
    seal = off) # here`},
		{says: "Medina has no type wave", star: `medina.role("keeper",
    grants = [{"may": "read", "on": "bucket/*"}, {"may": "read", "on": "wave/*"}]) # here`},
		{says: "there is no bucket bkt-0009", star: `medina.role("keeper",
    grants = [{"may": "read", "on": "bucket/bkt-0009"}]) # here`},
		{says: "there is no key key-0099", star: `medina.table("tides", key = "day",
    seal = "key-0099") # here`},
		{says: "Medina was asked to refuse this call", hand: []string{"medina", "faults", "-on", "create", "-type", "queue", "refuse"}, star: `medina.topic("all")
medina.queue("waves") # here`},
		{says: "north-1 has room for 7 of type disk, and all are taken", star: `medina.queue("waves")
[medina.disk("tape-%d" % i, gigabytes = 5) for i in range(8)] # here`},
	} {
		t.Run(strings.ReplaceAll(c.says, "/", "_"), func(t *testing.T) {
			t.Parallel()
			p := newProgram(t, "0", 0)
			p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"shore\"]\n[ledger]\nseal = "+
				"\"off\"\n[drivers.medina]\nkind = \"medina\"\npace = 0\nquota = { disk = 7 }\n[env.trial]\n")
			if strings.Contains(c.star, `"word"`) { // a secret wants a sealed ledger
				p.env = []string{"XDG_CONFIG_HOME=" + p.dir + "/config"}
				p.file("word.txt", "seven-seas-are-hidden")
				lines := p.must("key", "estate", "-quiet")
				p.file("kasbah.toml",
					"estate = \"coast\"\nwards = [\"shore\"]\n[ledger]\n"+lines+"[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial.secrets]\nword = { file = \"word.txt\" }\n")
			}
			enact := []string{"enact", "-yes", "-allow", "security", "-allow", "data"}
			if c.first != "" {
				p.file("shore/shore.star", c.first)
				p.must(enact...)
			}
			if c.hand != nil {
				p.must(c.hand...)
			}
			p.file("shore/shore.star", c.star)
			early, code := p.run("propose")                    // told before anything is done
			faulty := len(c.hand) > 1 && c.hand[1] == "faults" // a fault on demand cannot be foretold
			require.Equal(t, map[bool]int{true: 0, false: 5}[faulty], code, early)
			out, code := p.run(append(enact, "-rehearse", "never")...)
			require.Equal(t, 1, code, out)
			line := 1 + strings.Count(c.star[:strings.Index(c.star, "# here")], "\n")
			told := strings.Join(strings.Fields(out), " ")
			if !faulty {
				require.Regexp(t,
					fmt.Sprintf(`Refused: shore/shore\.star:%d: medina\.[a-z]+/[a-z0-9-]+: the cloud would refuse it: (\S+: )?[^:]{0,60}%s`, line, regexp.QuoteMeta(c.says)), strings.Join(strings.Fields(early), " "))
			}
			require.Regexp(t, fmt.Sprintf(`shore/shore\.star:%d:\d+: medina\.[a-z]+/[a-z0-9-]+: (\S+: )?[^:]{0,60}%s`,
				line, regexp.QuoteMeta(c.says)), told)
		})
	}
}
