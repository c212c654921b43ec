package medina

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// What is about networks and names.
func networkKinds() []*kind {
	return []*kind{
		{
			plural: "networks", prefix: "net", takes: durations{2 * time.Second, time.Second, 2 * time.Second},
			decide: decideNetwork,
			Type: &schema.Type{Name: "network", Price: &schema.Price{Month: 2},
				Help: "a private network with an address range of its own", Attributes: []*schema.Attribute{
					name("what people call it"),
					addressRange("the addresses of the network, in CIDR notation"),
					tags(),
					output("gateway", "the address that leads out of the network", schema.Text),
				}},
		},
		{
			plural: "subnets", prefix: "sub", takes: durations{2 * time.Second, time.Second, 2 * time.Second},
			decide: decideSubnet,
			Type: &schema.Type{Name: "subnet", Price: &schema.Price{Month: 0.5},
				Help: "a part of a network in one zone", DropFirst: true, Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "network", Help: "the network it is a part of", Kind: schema.Text, Refers: "network",
						Fixed: true, Required: true},
					addressRange("its addresses, inside the network's range and apart from other subnets"),
					zone(), tags(),
					output("gateway", "the address that leads out of the subnet", schema.Text),
					moving("free", "how many addresses are still free", schema.Int),
				}},
		},
		{
			plural: "firewalls", prefix: "fwl", takes: durations{3 * time.Second, 2 * time.Second, 2 * time.Second},
			decide: decideFirewall, unique: []string{"network", "name"},
			Type: &schema.Type{Name: "firewall", Price: &schema.Price{Month: 1}, Help: "what may come into a network",
				Identify: []string{"network", "name"}, UniqueName: true, Attributes: []*schema.Attribute{
					name("what people call it; the only one of its network"),
					{Name: "network", Help: "the network that it guards", Kind: schema.Text, Refers: "network", Fixed: true,
						Required: true},
					{Name: "rules", Help: "what may come in; nothing else does", Kind: schema.List, Security: true,
						MaxLength: num(100), Required: true, Elem: &schema.Attribute{Kind: schema.Record,
							Fields: []*schema.Attribute{
								{Name: "protocol", Help: "what is spoken", Kind: schema.Text, OneOf: texts("tcp", "udp", "icmp"),
									Required: true},
								{Name: "ports", Help: "one port, or the first and the last as in 8000-8010; none for icmp",
									Kind: schema.Text, Pattern: `^[0-9]{1,5}(-[0-9]{1,5})?$`},
								{Name: "from", Help: "where from, in CIDR notation", Kind: schema.Text, Format: "cidr",
									Required: true},
							}}},
					tags(),
				}},
		},
		{
			plural: "addresses", prefix: "adr", takes: durations{2 * time.Second, 2 * time.Second, time.Second},
			decide: decideAddress, release: releaseAddress, unique: []string{"machine"},
			Type: &schema.Type{Name: "address", Price: &schema.Price{Month: 3},
				Help: "an address that can be reached from everywhere", Attributes: []*schema.Attribute{
					name("what people call it"),
					zone(),
					{Name: "machine", Help: "the machine that it leads to; in the same zone, and without another address",
						Kind: schema.Text, Refers: "machine", Security: true},
					tags(),
					output("address", "the address itself", schema.Text),
				}},
		},
		{
			plural: "balancers", prefix: "bal", takes: durations{20 * time.Second, 8 * time.Second, 6 * time.Second},
			decide: decideBalancer, release: releaseHost,
			Type: &schema.Type{Name: "balancer", Price: &schema.Price{Month: 12},
				Help: "spreads what comes in over machines", Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "subnet", Help: "the subnet it gets its address from", Kind: schema.Text, Refers: "subnet",
						Fixed: true, Required: true},
					{Name: "machines", Help: "where it sends what comes in; machines of its network", Kind: schema.List,
						MaxLength: num(50), Elem: &schema.Attribute{Kind: schema.Text, Refers: "machine"}},
					{Name: "protocol", Help: "what is spoken", Kind: schema.Text, OneOf: texts("http", "tcp", "tls"),
						Default: "http", HasDefault: true},
					{Name: "port", Help: "where it listens", Kind: schema.Int, Min: float(1), Max: float(65535),
						Required: true},
					{Name: "certificate", Help: "what it shows; for tls only, and needed there", Kind: schema.Text,
						Refers: "certificate"},
					{Name: "public", Help: "whether it is reached from everywhere", Kind: schema.Bool, Security: true,
						Default: false, HasDefault: true},
					tags(),
					output("address", "where it is reached", schema.Text),
				}},
		},
		{
			plural: "certificates", prefix: "crt", takes: durations{15 * time.Second, time.Second, time.Second},
			decide: decideCertificate,
			Type: &schema.Type{Name: "certificate", Price: &schema.Price{Month: 0}, Help: "shows that names are ours",
				Attributes: []*schema.Attribute{
					name("what people call it"),
					{Name: "names", Help: "the names that it is for", Kind: schema.List, Fixed: true, Required: true,
						MinLength: num(1), MaxLength: num(50), Elem: &schema.Attribute{Kind: schema.Text,
							Pattern: `^(\*\.)?[a-z0-9]([a-z0-9.-]*[a-z0-9])?$`, MaxLength: num(253)}},
					{Name: "days", Help: "how long it is good", Kind: schema.Int, Fixed: true, Min: float(1),
						Max: float(825), Default: int64(90), HasDefault: true},
					tags(),
					output("pem", "the certificate", schema.Text),
					output("expires", "when it ends", schema.Text),
				}},
		},
		{
			plural: "records", prefix: "rec", takes: durations{4 * time.Second, 4 * time.Second, 2 * time.Second},
			decide: decideRecord, unique: []string{"kind", "name"},
			Type: &schema.Type{Name: "record", Price: &schema.Price{Month: 0.1},
				Help: "an entry of the directory of names (DNS)", UniqueName: true, Identify: []string{"kind", "name"},
				Attributes: []*schema.Attribute{
					{Name: "name", Help: "the name that is looked up; one record of each kind has it", Kind: schema.Text,
						MinLength: num(1), MaxLength: num(253), Fixed: true, Required: true},
					{Name: "kind", Help: "what the values are", Kind: schema.Text, OneOf: texts("A", "CNAME", "TXT"),
						Fixed: true, Required: true},
					{Name: "values", Help: "the answers", Kind: schema.List, Elem: &schema.Attribute{Kind: schema.Text,
						MaxLength: num(1024)}, MinLength: num(1), MaxLength: num(100), Required: true},
					{Name: "ttl", Help: "how long an answer may be kept, in seconds", Kind: schema.Int, Min: float(10),
						Max: float(86400), Default: int64(300), HasDefault: true},
				}},
		},
	}
}

// bounds are the first and last address of an IPv4 range, as numbers.
func bounds(p netip.Prefix) (lo, hi int64) {
	a := p.Addr().As4()
	lo = int64(binary.BigEndian.Uint32(a[:]))
	return lo, lo + 1<<(32-p.Bits()) - 1
}

func address(n int64) string {
	var a [4]byte
	binary.BigEndian.PutUint32(a[:], uint32(n))
	return netip.AddrFrom4(a).String()
}

func ipv4(is value.Map, smallest int) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(is["range"].(string))
	switch {
	case err != nil:
		return p, refuse("range", "%v", err)
	case !p.Addr().Is4():
		return p, refuse("range", "ranges are IPv4 in Medina, and %s is not", p)
	case p.Bits() < 8 || p.Bits() > smallest:
		return p, refuse("range", "the prefix of %s must lie between 8 and %d", p, smallest)
	}
	return p, nil
}

func decideNetwork(t *tx, id string, was, is value.Map) error {
	p, err := ipv4(is, 28)
	if err != nil {
		return err
	}
	lo, _ := bounds(p)
	is["gateway"] = address(lo + 1)
	return nil
}

func decideSubnet(t *tx, id string, was, is value.Map) error {
	p, err := ipv4(is, 29)
	if err != nil {
		return err
	}
	if was != nil {
		return nil
	}
	network, err := t.get("network", is["network"].(string))
	if err != nil {
		return err
	}
	around := netip.MustParsePrefix(network["range"].(string))
	if !around.Contains(p.Addr()) || p.Bits() < around.Bits() {
		return refuse("range", "%s is not inside %s, the range of network %s", p, around, network["name"])
	}
	lo, hi := bounds(p)
	other, otherRange, err := t.overlapping(is["network"].(string), lo, hi)
	if err != nil {
		return err
	}
	if other != "" {
		return refuse("range", "%s overlaps %s of subnet %s", p, otherRange, other)
	}
	t.parent, t.lo, t.hi = is["network"].(string), lo, hi
	is["gateway"] = address(lo + 1)
	is["free"] = hi - lo - 2 // its own address, the gateway and the broadcast are taken
	return nil
}

func decideRecord(t *tx, id string, was, is value.Map) error {
	values := is["values"].([]any)
	switch is["kind"] {
	case "CNAME":
		if len(values) != 1 {
			return refuse("values", "a CNAME has exactly one value, and this one has %d", len(values))
		}
	case "A":
		for i, v := range values {
			if a, err := netip.ParseAddr(v.(string)); err != nil || !a.Is4() {
				return refuse(fmt.Sprintf("values/%d", i), "%q is not an IPv4 address", v)
			}
		}
	}
	return nil
}

// ports reads one port or a range of them.
func ports(text string) (first, last int, err error) {
	a, b, ranged := strings.Cut(text, "-")
	if first, err = strconv.Atoi(a); err != nil {
		return 0, 0, err
	}
	last = first
	if ranged {
		last, err = strconv.Atoi(b)
	}
	if err == nil && (first < 1 || last > 65535 || last < first) {
		err = fmt.Errorf("ports lie between 1 and 65535, the first before the last")
	}
	return first, last, err
}

func decideFirewall(t *tx, id string, was, is value.Map) error {
	for i, r := range is["rules"].([]any) {
		rule := r.(map[string]any)
		text, given := rule["ports"].(string)
		at := fmt.Sprintf("rules/%d/ports", i)
		if icmp := rule["protocol"] == "icmp"; icmp == given {
			return refuse(at, "%s", map[bool]string{true: "icmp has no ports", false: fmt.Sprintf("%s needs ports",
				rule["protocol"])}[icmp])
		}
		if !given {
			continue
		}
		if _, _, err := ports(text); err != nil {
			return refuse(at, "%q: %v", text, err)
		}
	}
	return nil
}

// publicAddresses is a range that no network of ours has (RFC 2544).
var publicAddresses = netip.MustParsePrefix("198.18.0.0/15")

// public stands for the subnet of public addresses in the table of hosts.
const public = "public"

func decideAddress(t *tx, id string, was, is value.Map) error {
	t.zone, _ = is["zone"].(string)
	if m, ok := is["machine"].(string); ok && (was == nil || was["machine"] != m) {
		machine, err := t.get("machine", m)
		if err != nil {
			return err
		}
		zone, err := t.zoneOf(m)
		if err != nil {
			return err
		}
		if zone != t.zone {
			return refuse("machine", "machine %s is in %s, and the address in %s", machine["name"], zone, t.zone)
		}
	}
	if was != nil {
		return nil
	}
	lo, hi := bounds(publicAddresses)
	n, err := t.takeHost(public, id, hi-lo-1)
	if err != nil {
		return err
	}
	if n == 0 {
		return &refusal{status: 403, title: "none left", detail: "all public addresses are taken"}
	}
	is["address"] = address(lo + n)
	return nil
}

func releaseAddress(t *tx, id string, was value.Map) error { return t.giveHost(public, id) }

func decideBalancer(t *tx, id string, was, is value.Map) error {
	_, shows := is["certificate"]
	if tls := is["protocol"] == "tls"; tls != shows {
		return refuse("certificate", "%s", map[bool]string{true: "a balancer for tls needs a certificate to show",
			false: "only a balancer for tls shows a certificate"}[tls])
	}
	subnet, err := t.get("subnet", is["subnet"].(string))
	if err != nil {
		return err
	}
	machines, _ := is["machines"].([]any)
	seen := map[any]bool{}
	for i, m := range machines {
		at := fmt.Sprintf("machines/%d", i)
		if seen[m] {
			return refuse(at, "%s is listed twice", m)
		}
		seen[m] = true
		machine, err := t.get("machine", m.(string))
		if err != nil {
			return err
		}
		its, err := t.get("subnet", machine["subnet"].(string))
		if err != nil {
			return err
		}
		if its["network"] != subnet["network"] {
			return refuse(at, "machine %s is in network %s, and the balancer in %s", machine["name"], its["network"],
				subnet["network"])
		}
	}
	t.zone, _ = subnet["zone"].(string)
	if was != nil {
		return nil
	}
	return t.host("balancer", id, subnet, is)
}

func decideCertificate(t *tx, id string, was, is value.Map) error {
	if was != nil {
		return nil
	}
	now := time.Now().UTC().Truncate(time.Second)
	until := now.AddDate(0, 0, int(is["days"].(int64)))
	var names []string
	for _, n := range is["names"].([]any) {
		names = append(names, n.(string))
	}
	body, err := certificate(names, now, until)
	if err != nil {
		return err
	}
	is["pem"], is["expires"] = string(body), until.Format(time.RFC3339)
	return nil
}
