// Package dns is a driver for the records of zones that a name server lets others
// update (RFC 2136), with requests that a shared key signs (TSIG, RFC 8945), and
// read back by zone transfer (RFC 5936).
//
// A resource is all records of one name and kind, as the protocol changes them. Each
// change names what it found there, so that the server refuses it where somebody
// was faster: such sets carry tags.
package dns

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"iter"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Options of a driver.
type Options struct {
	Server string   // host and port of the zones' first server
	Zones  []string // that are read
	// Key signs requests; none where Name is empty.
	Key Key
}

// Key is a shared key (RFC 8945).
type Key struct {
	Name      string
	Algorithm string // hmac-sha256 when empty
	Secret    func(ctx context.Context, again bool) (string, error)
}

// algorithms are those of RFC 8945 that are still good.
var algorithms = map[string]string{"hmac-sha224": dns.HmacSHA224, "hmac-sha256": dns.HmacSHA256,
	"hmac-sha384": dns.HmacSHA384, "hmac-sha512": dns.HmacSHA512}

// Driver is a driver for the zones of one server.
type Driver struct {
	o     Options
	zones []string // without the dot at their end
	cat   *schema.Catalog
}

var (
	_ driver.Driver = (*Driver)(nil)
	_ driver.Vetter = (*Driver)(nil)
)

const (
	typeName  = "record"
	dialTime  = 10 * time.Second
	answerFor = 20 * time.Second
)

// kinds are the kinds of records that can be kept.
var kinds = []string{"A", "AAAA", "CAA", "CNAME", "MX", "NS", "PTR", "SRV", "SSHFP", "TLSA", "TXT"}

// New makes a driver. Nothing is asked yet.
func New(o Options) (*Driver, error) {
	if _, _, err := net.SplitHostPort(o.Server); err != nil {
		o.Server = net.JoinHostPort(o.Server, "53")
	}
	if len(o.Zones) == 0 {
		return nil, errors.New("it needs the zones that are read")
	}
	if o.Key.Algorithm == "" {
		o.Key.Algorithm = "hmac-sha256"
	}
	if algorithms[o.Key.Algorithm] == "" {
		return nil, fmt.Errorf("%q is none of %s", o.Key.Algorithm, strings.Join(value.Keys(algorithms), ", "))
	}
	d := &Driver{o: o}
	for _, z := range o.Zones {
		if _, ok := dns.IsDomainName(z); !ok || z == "" {
			return nil, fmt.Errorf("%q is not a zone", z)
		}
		d.zones = append(d.zones, strings.TrimSuffix(strings.ToLower(z), "."))
	}
	d.cat = catalog(d.zones)
	return d, nil
}

func catalog(zones []string) *schema.Catalog {
	low, high, one, most, long := 0.0, 2147483647.0, 1, 200, 255
	var oneOf, in []any
	for _, k := range kinds {
		oneOf = append(oneOf, k)
	}
	for _, z := range zones {
		in = append(in, z)
	}
	t := &schema.Type{
		Name: typeName, Help: "all records of one name and kind", ID: "id", UniqueName: true, Tags: true,
		Identify: []string{"zone", "name", "kind"},
		Attributes: []*schema.Attribute{
			{Name: "zone", Help: "the zone it is in", Kind: schema.Text, Required: true, Fixed: true, OneOf: in},
			{Name: "name", Help: "the whole name, in small letters and without a dot at its end", Kind: schema.Text,
				Required: true, Fixed: true, Pattern: `^[a-z0-9_*]([a-z0-9_*.-]*[a-z0-9_])?$`, MaxLength: &long},
			{Name: "kind", Help: "what the values are", Kind: schema.Text, Required: true, Fixed: true, OneOf: oneOf},
			{Name: "values", Help: "the answers, in alphabetical order; names end in a dot; a TXT text is written as " +
				"it is", Kind: schema.List, Required: true, MinLength: &one, MaxLength: &most,
				Elem: &schema.Attribute{Kind: schema.Text}},
			{Name: "ttl", Help: "how long an answer may be kept, in seconds", Kind: schema.Int, Min: &low, Max: &high,
				Default: int64(3600), HasDefault: true},
			{Name: "id", Help: "what identifies it", Kind: schema.Text, Output: true},
		},
	}
	t.Index()
	return &schema.Catalog{Version: "1", Types: map[string]*schema.Type{typeName: t}}
}

// Describe returns the catalogue, which needs no server.
func (d *Driver) Describe(context.Context) (*schema.Catalog, error) { return d.cat, nil }

// Close has nothing to close: connections end with their requests.
func (d *Driver) Close() error { return nil }

// Vet says what is wrong with a set of records, without asking the server.
func (d *Driver) Vet(_ context.Context, typ string, inputs value.Map) []driver.Problem {
	_, err := read(inputs)
	var e *driver.Error
	if errors.As(err, &e) {
		return e.Problems
	}
	return nil
}

func wrong(path, format string, args ...any) error {
	msg := fmt.Sprintf(format, args...)
	return &driver.Error{Message: msg, NotDone: true, Problems: []driver.Problem{{Path: path, Message: msg}}}
}

// set is all records of one name and kind in a zone.
type set struct {
	zone, name, kind string
	ttl              uint32
	values           []string // in order
	records          []dns.RR
}

func (s *set) key() string { return s.zone + "/" + s.name + "/" + s.kind }

// live is a set as the contract has it. Its tag tells its values and how long they
// may be kept.
func (s *set) live() driver.Live {
	list := make([]any, len(s.values))
	for i, v := range s.values {
		list[i] = v
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %q", s.ttl, s.values))
	return driver.Live{ID: s.key(), Tag: base64.RawURLEncoding.EncodeToString(sum[:12]), Attributes: value.Map{
		"zone": s.zone, "name": s.name, "kind": s.kind, "values": list, "ttl": int64(s.ttl), "id": s.key(),
	}}
}

// read makes a set of inputs, as far as they are known.
func read(in value.Map) (*set, error) {
	s := &set{ttl: 3600}
	s.zone, _ = in["zone"].(string)
	s.name, _ = in["name"].(string)
	s.kind, _ = in["kind"].(string)
	if n, ok := in["ttl"].(int64); ok {
		s.ttl = uint32(n)
	}
	if s.name != "" && s.zone != "" && !dns.IsSubDomain(dns.Fqdn(s.zone), dns.Fqdn(s.name)) {
		return nil, wrong("name", "%s is not in zone %s", s.name, s.zone)
	}
	list, _ := in["values"].([]any)
	for i, v := range list {
		text, ok := v.(string)
		if !ok {
			continue // not known yet
		}
		at := fmt.Sprintf("values[%d]", i)
		rr, err := record(s.name, s.kind, s.ttl, text)
		if err != nil {
			return nil, wrong(at, "%q is not a value of %s: %v", text, s.kind, err)
		}
		if is := valueOf(rr); is != text {
			return nil, wrong(at, "%q is written %q", text, is)
		}
		if len(s.values) > 0 && s.values[len(s.values)-1] >= text {
			return nil, wrong(at, "values must be in alphabetical order, each once, and %q comes after %q", text,
				s.values[len(s.values)-1])
		}
		s.values, s.records = append(s.values, text), append(s.records, rr)
	}
	if s.kind == "CNAME" && len(list) > 1 {
		return nil, wrong("values", "a CNAME has one value, and this one has %d", len(list))
	}
	return s, nil
}

const maxText = 255 // bytes of one piece of a TXT record

func record(name, kind string, ttl uint32, text string) (dns.RR, error) {
	if kind == "TXT" {
		h := dns.RR_Header{Name: dns.Fqdn(name), Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: ttl}
		var pieces []string
		for rest := text; ; rest = rest[min(len(rest), maxText):] {
			pieces = append(pieces, escaped(rest[:min(len(rest), maxText)]))
			if len(rest) <= maxText {
				return &dns.TXT{Hdr: h, Txt: pieces}, nil
			}
		}
	}
	if strings.ContainsAny(text, "\n\r;()") {
		return nil, errors.New("it holds what no value does")
	}
	rr, err := dns.NewRR(fmt.Sprintf("%s %d IN %s %s", dns.Fqdn(name), ttl, kind, text))
	if err != nil {
		var parse *dns.ParseError
		if errors.As(err, &parse) {
			return nil, errors.New("it cannot be read")
		}
		return nil, err
	}
	if rr == nil {
		return nil, errors.New("it is empty")
	}
	return rr, nil
}

// escaped writes a text as the library keeps one: as in a zone's file (RFC 1035,
// 5.1), without the quotes.
func escaped(s string) string {
	var b strings.Builder
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteByte(c)
		case c < ' ' || c > '~':
			fmt.Fprintf(&b, "\\%03d", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// valueOf is what stands behind a record's head, as a person writes it.
func valueOf(rr dns.RR) string {
	txt, ok := rr.(*dns.TXT)
	if !ok {
		return strings.TrimPrefix(rr.String(), rr.Header().String())
	}
	var b strings.Builder
	for _, piece := range txt.Txt {
		for i := 0; i < len(piece); i++ {
			if piece[i] != '\\' || i+1 >= len(piece) {
				b.WriteByte(piece[i])
				continue
			}
			if i+3 < len(piece) && piece[i+1] >= '0' && piece[i+1] <= '9' {
				b.WriteByte((piece[i+1]-'0')*100 + (piece[i+2]-'0')*10 + piece[i+3] - '0')
				i += 3
				continue
			}
			b.WriteByte(piece[i+1])
			i++
		}
	}
	return b.String()
}

// signed prepares a message and the keys that it is signed with.
func (d *Driver) signed(ctx context.Context, m *dns.Msg) (map[string]string, error) {
	if d.o.Key.Name == "" {
		return nil, nil
	}
	secret, err := d.o.Key.Secret(ctx, false)
	if err != nil {
		return nil, driver.Refuse("no credential for the server: %v", err)
	}
	if _, err := base64.StdEncoding.DecodeString(secret); err != nil {
		return nil, driver.Refuse("no credential for the server: the key's secret is not base64")
	}
	name := dns.CanonicalName(d.o.Key.Name)
	m.SetTsig(name, algorithms[d.o.Key.Algorithm], 300, time.Now().Unix())
	return map[string]string{name: secret}, nil
}

// unreachable is the error of a request that got no answer.
func unreachable(ctx context.Context, err error, sent bool) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.Is(err, dns.ErrSig) || errors.Is(err, dns.ErrSecret) || errors.Is(err, dns.ErrAuth) || errors.Is(err,
		dns.ErrTime) || errors.Is(err, dns.ErrKey) {
		return &driver.Error{Message: "the server's answer is not signed by the key: " + strings.TrimPrefix(err.Error(),
			"dns: ")}
	}
	var dial *net.OpError
	return &driver.Error{Message: "the server cannot be reached: " + err.Error(), Passing: true, NotDone: !sent ||
		errors.As(err, &dial) && dial.Op == "dial"}
}

// refused is the error of an answer that is no success.
func refused(code int, doing string) error {
	name := dns.RcodeToString[code]
	words := map[int]string{
		dns.RcodeRefused:       "the server refuses it",
		dns.RcodeNotAuth:       "the server does not know the key, or not the zone",
		dns.RcodeNotZone:       "a name is not in the zone",
		dns.RcodeServerFailure: "the server failed", dns.RcodeFormatError: "the server does not understand it",
		dns.RcodeNotImplemented: "the server cannot do it",
	}[code]
	if words == "" {
		words = "the server answers " + name
	}
	return &driver.Error{Message: fmt.Sprintf("%s: %s (%s)", doing, words, name),
		Passing: code == dns.RcodeServerFailure, NotDone: code != dns.RcodeServerFailure}
}

// transfer reads a zone, as sets in the order of their names.
func (d *Driver) transfer(ctx context.Context, zone string) ([]*set, error) {
	m := new(dns.Msg)
	m.SetAxfr(dns.Fqdn(zone))
	keys, err := d.signed(ctx, m)
	if err != nil {
		return nil, err
	}
	conn, err := (&net.Dialer{Timeout: dialTime}).DialContext(ctx, "tcp", d.o.Server)
	if err != nil {
		return nil, unreachable(ctx, err, false)
	}
	ended := context.AfterFunc(ctx, func() { conn.Close() })
	defer ended()
	t := &dns.Transfer{Conn: &dns.Conn{Conn: conn}, TsigSecret: keys, ReadTimeout: answerFor, WriteTimeout: dialTime}
	defer conn.Close()
	coming, err := t.In(m, d.o.Server)
	if err != nil {
		return nil, unreachable(ctx, err, false)
	}
	sets := map[string]*set{}
	var failed error
	for e := range coming {
		if e.Error != nil {
			failed = errors.Join(failed, e.Error) // the rest is read, so that its sender ends
			continue
		}
		for _, rr := range e.RR {
			add(sets, zone, rr)
		}
	}
	if errors.Is(failed, dns.ErrAuth) && ctx.Err() == nil {
		return nil, refused(dns.RcodeNotAuth, "reading zone "+zone)
	}
	if failed != nil {
		var code int
		if _, err := fmt.Sscanf(failed.Error(), "dns: bad xfr rcode: %d", &code); err == nil {
			return nil, refused(code, "reading zone "+zone)
		}
		return nil, unreachable(ctx, failed, false)
	}
	out := make([]*set, 0, len(sets))
	for _, k := range value.Keys(sets) {
		s := sets[k]
		slices.Sort(s.values)
		out = append(out, s)
	}
	return out, ctx.Err()
}

func add(sets map[string]*set, zone string, rr dns.RR) {
	kind := dns.TypeToString[rr.Header().Rrtype]
	if !slices.Contains(kinds, kind) {
		return
	}
	s := &set{zone: zone, name: strings.TrimSuffix(strings.ToLower(rr.Header().Name), "."), kind: kind,
		ttl: rr.Header().Ttl}
	if old := sets[s.key()]; old != nil {
		s = old
	}
	s.values, s.records = append(s.values, valueOf(rr)), append(s.records, rr)
	sets[s.key()] = s
}

func (d *Driver) find(ctx context.Context, typ, id string) (*set, error) {
	if typ != typeName {
		return nil, fmt.Errorf("DNS has no type %q", typ)
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	zone, _, _ := strings.Cut(id, "/")
	if !slices.Contains(d.zones, zone) {
		return nil, fmt.Errorf("%w: %q is in no zone that is read here", driver.ErrGone, id)
	}
	all, err := d.transfer(ctx, zone)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		if s.key() == id {
			return s, nil
		}
	}
	return nil, driver.ErrGone
}

// Read reads one set. It takes a transfer of its zone: an answer to a question may
// be made up of a star, and no record of that name is there.
func (d *Driver) Read(ctx context.Context, typ, id string) (driver.Live, error) {
	s, err := d.find(ctx, typ, id)
	if err != nil {
		return driver.Live{}, err
	}
	return s.live(), nil
}

// List reads all zones.
func (d *Driver) List(ctx context.Context, typ string) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		if typ != typeName {
			yield(driver.Live{}, fmt.Errorf("DNS has no type %q", typ))
			return
		}
		for _, zone := range d.zones {
			all, err := d.transfer(ctx, zone)
			if err != nil {
				yield(driver.Live{}, err)
				return
			}
			for _, s := range all {
				if !yield(s.live(), nil) {
					return
				}
			}
		}
	}
}

// Find reads the sets that match.
func (d *Driver) Find(ctx context.Context, typ string, match value.Map) ([]driver.Live, error) {
	return driver.FindInList(d.List(ctx, typ), match)
}

// update sends an update and is what the server answers.
func (d *Driver) update(ctx context.Context, zone string, fill func(*dns.Msg)) (int, error) {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(zone))
	fill(m)
	keys, err := d.signed(ctx, m)
	if err != nil {
		return 0, err
	}
	c := &dns.Client{Net: "tcp", TsigSecret: keys, DialTimeout: dialTime, ReadTimeout: answerFor,
		WriteTimeout: dialTime}
	r, _, err := c.ExchangeContext(ctx, m, d.o.Server)
	if err != nil {
		if r != nil && r.Rcode != dns.RcodeSuccess { // a server that does not know the key cannot sign
			return r.Rcode, nil
		}
		return 0, unreachable(ctx, err, true)
	}
	return r.Rcode, nil
}

// Create makes a set where there is none of its name and kind.
func (d *Driver) Create(ctx context.Context, typ string, inputs value.Map, _ string) (driver.Live, error) {
	if typ != typeName {
		return driver.Live{}, fmt.Errorf("DNS has no type %q", typ)
	}
	if err := ctx.Err(); err != nil {
		return driver.Live{}, err
	}
	in, faults := d.cat.Types[typeName].Check(value.CloneMap(inputs))
	if len(faults) > 0 {
		return driver.Live{}, wrong(faults[0].Path.String(), "%s", faults[0].Message)
	}
	s, err := read(in)
	if err != nil {
		return driver.Live{}, err
	}
	code, err := d.update(ctx, s.zone, func(m *dns.Msg) {
		m.RRsetNotUsed(s.records[:1])
		m.Insert(s.records)
	})
	switch {
	case err != nil:
		return driver.Live{}, err
	case code == dns.RcodeYXRrset:
		return driver.Live{}, taken(s)
	case code != dns.RcodeSuccess:
		return driver.Live{}, refused(code, "adding "+s.name)
	}
	return d.after(ctx, s)
}

// after is a set once it was changed. A server may keep less than it was asked for:
// beside a CNAME nothing else stands.
func (d *Driver) after(ctx context.Context, s *set) (driver.Live, error) {
	live, err := d.Read(ctx, typeName, s.key())
	if errors.Is(err, driver.ErrGone) {
		return live, besideCNAME(s)
	}
	if err != nil {
		return live, driver.Uncertain(fmt.Errorf("it is done, and could not be read: %w", err), "")
	}
	return live, nil
}

// Update puts other values in the place of a set's, where it is as it was seen.
func (d *Driver) Update(ctx context.Context, typ, id string, change driver.Change, tag, _ string) (driver.Live, error) {
	was, err := d.find(ctx, typ, id)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	if tag != "" && tag != was.live().Tag {
		return driver.Live{}, driver.ErrTag
	}
	in := was.live().Attributes
	for k, v := range change.To {
		if a := d.cat.Types[typeName].Attribute(k); a == nil || a.Output || a.Fixed && !value.Equal(v, in[k]) {
			return driver.Live{}, wrong(k, "%s of a record cannot be changed", k)
		}
		in[k] = v
	}
	for k := range change.From {
		if _, stays := change.To[k]; !stays && k == "ttl" {
			in[k] = int64(3600)
		}
	}
	delete(in, "id")
	in, faults := d.cat.Types[typeName].Check(in)
	if len(faults) > 0 {
		return driver.Live{}, wrong(faults[0].Path.String(), "%s", faults[0].Message)
	}
	is, err := read(in)
	if err != nil {
		return driver.Live{}, err
	}
	if err := d.replace(ctx, was, is); err != nil {
		return driver.Live{}, err
	}
	return d.after(ctx, is)
}

// replace changes a set, or takes it away where is is nil, under the condition that
// its values are those that were read.
func (d *Driver) replace(ctx context.Context, was, is *set) error {
	code, err := d.update(ctx, was.zone, func(m *dns.Msg) {
		seen := make([]dns.RR, len(was.records))
		for i, rr := range was.records {
			seen[i] = dns.Copy(rr)
			seen[i].Header().Ttl = 0 // RFC 2136, 2.4.2
		}
		m.Used(seen)
		m.RemoveRRset(was.records[:1])
		if is != nil {
			m.Insert(is.records)
		}
	})
	switch {
	case err != nil:
		return err
	case code == dns.RcodeNXRrset:
		return driver.ErrTag
	case code != dns.RcodeSuccess:
		return refused(code, "changing "+was.name)
	}
	return nil
}

// Delete takes a set away, where it is as it was seen.
func (d *Driver) Delete(ctx context.Context, typ, id, tag, _ string) error {
	was, err := d.find(ctx, typ, id)
	if err != nil {
		return driver.Unsent(err)
	}
	if tag != "" && tag != was.live().Tag {
		return driver.ErrTag
	}
	if err := d.replace(ctx, was, nil); err != nil {
		return err
	}
	_, err = d.find(ctx, typ, id)
	switch {
	case errors.Is(err, driver.ErrGone):
		return nil
	case err == nil:
		return errOwnName()
	}
	return driver.Uncertain(fmt.Errorf("it is done, and could not be read: %w", err), "")
}
