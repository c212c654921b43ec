package dns

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"

	"github.com/miekg/dns"

	"kasbah/core/driver"
	"kasbah/core/value"
)

var _ driver.Rehearser = (*Driver)(nil)

// manySets is how many sets one update is about, which keeps it well within 64 kB.
const manySets = 200

// Rehearsals says that calls can be tried, with few requests for each zone.
func (d *Driver) Rehearsals() (can, together bool) { return true, true }

// Rehearse tries calls on what a zone holds, and asks its server by updates whose
// prerequisite (RFC 2136, 2.4) cannot hold, so that they have no effect. Should a server heed
// no prerequisites, they have none either: they take away what is not there and add what is.
func (d *Driver) Rehearse(ctx context.Context, calls []driver.Call) ([]driver.Tried, error) {
	out := make([]driver.Tried, len(calls))
	zones := map[string]*trial{}
	for i, c := range calls {
		s, ok := wanted(c)
		if !ok {
			continue
		}
		t := zones[s.zone]
		if t == nil {
			var err error
			if t, err = d.try(ctx, s.zone); err != nil {
				var said *driver.Error
				if ctx.Err() != nil || !errors.As(err, &said) || said.Passing {
					return out, err
				}
			}
			zones[s.zone] = t
		}
		out[i] = driver.Tried{Tried: true, Err: t.do(c, s)}
		if out[i].Err == nil {
			t.calls = append(t.calls, i)
			t.sets = append(t.sets, t.harmless(s))
		}
	}
	for _, zone := range value.Keys(zones) {
		if err := d.asked(ctx, zones[zone], out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// wanted is the set that a call is about; false where that is not known.
func wanted(c driver.Call) (*set, bool) {
	if c.Do != "create" {
		zone, rest, _ := strings.Cut(c.ID, "/")
		name, kind, ok := strings.Cut(rest, "/")
		return &set{zone: zone, name: name, kind: kind}, ok
	}
	s := &set{}
	for at, to := range map[string]*string{"zone": &s.zone, "name": &s.name, "kind": &s.kind} {
		is, ok := c.Inputs[at].(string)
		if !ok {
			return nil, false
		}
		*to = is
	}
	return s, true
}

// trial is a zone in which calls are tried.
type trial struct {
	zone  string
	err   error           // why nothing can be done in it
	there map[string]*set // as the zone is
	kinds map[string]int  // by name and kind with a space between them, as the calls leave them
	names map[string]int  // by name: its kinds
	calls []int
	sets  []*set
}

// try reads a zone, and finds out whether its server takes updates and heeds what they
// presuppose.
func (d *Driver) try(ctx context.Context, zone string) (*trial, error) {
	t := &trial{zone: zone, there: map[string]*set{}, kinds: map[string]int{}, names: map[string]int{}}
	all, err := d.transfer(ctx, zone)
	if err != nil {
		t.err = err
		return t, err
	}
	for _, s := range all {
		t.there[s.key()] = s
		t.kinds[s.name+" "+s.kind]++
		t.names[s.name]++
	}
	return t, nil
}

// do is what a call would meet in the zone as those before it leave it.
func (t *trial) do(c driver.Call, s *set) error {
	if t.err != nil {
		return t.err
	}
	at := s.name + " " + s.kind
	switch c.Do {
	case "create":
		if _, err := read(c.Inputs); err != nil {
			return err
		}
		if t.kinds[at] > 0 {
			return taken(s)
		}
		if s.kind == "CNAME" && t.names[s.name] > 0 || t.kinds[s.name+" CNAME"] > 0 {
			return besideCNAME(s)
		}
		t.kinds[at]++
		t.names[s.name]++
	case "delete":
		if t.kinds[at] == 0 {
			return driver.ErrGone
		}
		if s.name == t.zone && s.kind == "NS" {
			return errOwnName()
		}
		t.kinds[at]--
		t.names[s.name]--
	case "update":
		if t.kinds[at] == 0 {
			return driver.ErrGone
		}
		in := value.Map{"zone": s.zone, "name": s.name, "kind": s.kind, "values": c.Change.To["values"]}
		if _, err := read(in); err != nil {
			return err
		}
	}
	return nil
}

// harmless is what an update may do about a set that changes nothing: where the zone has one,
// it is it.
func (t *trial) harmless(s *set) *set {
	if is := t.there[s.key()]; is != nil {
		return is
	}
	return s
}

// asked has the server say what it would refuse: of all sets together, and one by one where
// it refuses those.
func (d *Driver) asked(ctx context.Context, t *trial, out []driver.Tried) error {
	if len(t.calls) == 0 {
		return nil
	}
	untried := func(from, to int) {
		for _, i := range t.calls[from:to] {
			out[i] = driver.Tried{}
		}
	}
	code, err := d.presupposed(ctx, t.zone, nil)
	switch {
	case err != nil:
		return err
	case code == dns.RcodeSuccess || code == dns.RcodeServerFailure: // it heeds no prerequisites, or cannot say
		untried(0, len(t.calls))
		return nil
	case code != dns.RcodeNameError:
		for n, i := range t.calls {
			out[i].Err = refused(code, "changing "+t.sets[n].name)
		}
		return nil
	}
	for from := 0; from < len(t.calls); from += manySets {
		to := min(from+manySets, len(t.calls))
		code, err := d.presupposed(ctx, t.zone, t.sets[from:to])
		if err != nil {
			return err
		}
		if code == dns.RcodeNameError {
			continue
		}
		for n := from; n < to; n++ {
			if code, err = d.presupposed(ctx, t.zone, t.sets[n:n+1]); err != nil {
				return err
			}
			switch code {
			case dns.RcodeNameError:
			case dns.RcodeSuccess, dns.RcodeServerFailure:
				untried(n, n+1)
			default:
				out[t.calls[n]].Err = refused(code, "changing "+t.sets[n].name)
			}
		}
	}
	return nil
}

// presupposed sends an update that presupposes a name that nobody has, and is what the server
// answers: NXDOMAIN where nothing else is wrong with it.
func (d *Driver) presupposed(ctx context.Context, zone string, sets []*set) (int, error) {
	nobody := &dns.ANY{Hdr: dns.RR_Header{Name: dns.Fqdn("kasbah-" + strings.ToLower(rand.Text()) + "." + zone)}}
	return d.update(ctx, zone, func(m *dns.Msg) {
		m.NameUsed([]dns.RR{nobody})
		for _, s := range sets {
			if len(s.records) > 0 {
				m.Insert(s.records)
				continue
			}
			m.RemoveRRset([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: dns.Fqdn(s.name),
				Rrtype: dns.StringToType[s.kind]}}})
		}
	})
}

func taken(s *set) error {
	return wrong("name", "there are records %s of kind %s already", s.name, s.kind)
}

func besideCNAME(s *set) error {
	return wrong("name", "the server keeps no %s of kind %s: a name with a CNAME can have no other records", s.name,
		s.kind)
}

func errOwnName() error {
	return wrong("", "the server keeps these records: a zone needs those of its own name")
}
