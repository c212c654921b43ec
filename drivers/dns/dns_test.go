package dns_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/dns"
	"kasbah/drivers/drivertest"
	"kasbah/stores/servertest"
)

const zone = "lantern-coast.example"

func key(secret string) dns.Key {
	return dns.Key{Name: servertest.ZoneKey, Secret: func(context.Context, bool) (string, error) { return secret, nil }}
}

func open(t *testing.T, s *servertest.Server, k dns.Key) *dns.Driver {
	d, err := dns.New(dns.Options{Server: s.Address, Zones: []string{zone, "tides.example"}, Key: k})
	require.NoError(t, err)
	return d
}

// TestConformance runs the suite against a real name server.
func TestConformance(t *testing.T) {
	d := open(t, servertest.Names(t, zone, "tides.example"), key(servertest.ZoneSecret))
	drivertest.Run(t, d, conformance.Sample{
		Type: "record",
		Inputs: func(n int) value.Map {
			return value.Map{"zone": zone, "name": fmt.Sprintf("gauge-%d.%s", n, zone), "kind": "A",
				"values": []any{"10.20.0.1", fmt.Sprintf("10.20.1.%d", n%250)}, "ttl": int64(60)}
		},
		Edit: driver.Change{From: value.Map{"ttl": int64(60)}, To: value.Map{"ttl": int64(90),
			"values": []any{"10.20.0.7"}}},
	})
}

// TestKinds: each kind comes back as it was written, hostile texts among them.
func TestKinds(t *testing.T) {
	ctx := context.Background()
	d := open(t, servertest.Names(t, zone, "tides.example"), key(servertest.ZoneSecret))
	for i, c := range []struct {
		kind   string
		values []any
	}{
		{"AAAA", []any{"2001:db8::1", "2001:db8::2"}}, {"CNAME", []any{"gauge." + zone + "."}},
		{"MX", []any{"10 ns." + zone + ".", "20 mail.tides.example."}},
		{"SRV", []any{"1 2 443 ns." + zone + "."}}, {"CAA", []any{`0 issue "authority.example"`}},
		{"PTR", []any{"gauge." + zone + "."}}, {"NS", []any{"ns.tides.example."}},
		{"TXT", []any{"", "Flutstände – ½", strings.Repeat("high water ", 60), `say "ahoy" \\ and; (more)`}},
		{"SSHFP", []any{"4 2 " + strings.Repeat("AB", 32)}}, {"TLSA", []any{"3 1 1 " + strings.Repeat("cd", 32)}},
	} {
		in := value.Map{"zone": zone, "name": fmt.Sprintf("k%d.%s", i, zone), "kind": c.kind, "values": c.values}
		require.Empty(t, d.Vet(ctx, "record", in), "%v", c)
		made, err := d.Create(ctx, "record", in, "")
		require.NoError(t, err, "%v", c)
		require.Equal(t, c.values, made.Attributes["values"], c.kind)
		require.EqualValues(t, 3600, made.Attributes["ttl"])
	}
	star, err := d.Create(ctx, "record", value.Map{"zone": zone, "name": "*." + zone, "kind": "A",
		"values": []any{"10.0.0.9"}}, "")
	require.NoError(t, err)
	_, err = d.Read(ctx, "record", zone+"/some."+zone+"/A")
	require.ErrorIs(t, err, driver.ErrGone, "what a star would answer is not there")
	require.NoError(t, d.Delete(ctx, "record", star.ID, star.Tag, ""))
}

// TestRefused: what cannot be is refused in words, before anything is sent where
// that can be told.
func TestRefused(t *testing.T) {
	ctx, server := context.Background(), servertest.Names(t, zone, "tides.example")
	d := open(t, server, key(servertest.ZoneSecret))
	base := func(change value.Map) value.Map {
		m := value.Map{"zone": zone, "name": "gauge." + zone, "kind": "A", "values": []any{"10.0.0.1"}}
		for k, v := range change {
			m[k] = v
		}
		return m
	}
	for _, c := range []struct {
		path string
		c    struct {
			change value.Map
			words  string
		}
	}{
		{"name", struct {
			change value.Map
			words  string
		}{value.Map{"name": "gauge.elsewhere.example"}, "is not in zone"}},
		{"values[0]", struct {
			change value.Map
			words  string
		}{value.Map{"values": []any{"10.0.0"}}, "is not a value of A"}},
		{"values[1]", struct {
			change value.Map
			words  string
		}{value.Map{"values": []any{"10.0.0.2", "10.0.0.1"}}, "in alphabetical order"}},
		{"values", struct {
			change value.Map
			words  string
		}{value.Map{"kind": "CNAME", "values": []any{"a.example.", "b.example."}}, "has one value"}},
	} {
		t.Run(c.path, func(t *testing.T) {
			all := d.Vet(ctx, "record", base(c.c.change))
			require.Len(t, all, 1)
			require.Equal(t, c.path, all[0].Path)
			require.Contains(t, all[0].Message, c.c.words)
			_, err := d.Create(ctx, "record", base(c.c.change), "")
			require.ErrorContains(t, err, c.c.words)
		})
	}
	said := d.Vet(ctx, "record", base(value.Map{"kind": "CNAME", "values": []any{"Gauge.example"}}))
	require.Contains(t, said[0].Message, `"Gauge.example" is written "Gauge.example."`)
	for _, hostile := range []string{"10.0.0.1\n$INCLUDE /etc/passwd", "10.0.0.1 ; more", "(", ""} {
		_, err := d.Create(ctx, "record", base(value.Map{"values": []any{hostile}}), "")
		require.ErrorContains(t, err, "is not a value of A", "%q", hostile)
	}
	first, err := d.Create(ctx, "record", base(nil), "")
	require.NoError(t, err)
	_, err = d.Create(ctx, "record", base(nil), "")
	require.ErrorContains(t, err, "there are records")
	_, err = d.Create(ctx, "record", base(value.Map{"kind": "CNAME", "values": []any{"other." + zone + "."}}), "")
	require.ErrorContains(t, err, "a name with a CNAME")

	// who has another key, or none, learns nothing and changes nothing
	for _, k := range []dns.Key{key("b3RoZXI="), {}, {Name: "strangers", Secret: key(servertest.ZoneSecret).Secret},
		key("no base64")} {
		other := open(t, server, k)
		_, err := other.Read(ctx, "record", first.ID)
		require.Error(t, err)
		require.NotErrorIs(t, err, driver.ErrGone, "not to be allowed to look is not to see that it is gone")
		_, err = other.Create(ctx, "record", base(value.Map{"name": "x." + zone}), "")
		require.Error(t, err)
		passing, _ := driver.IsPassing(err)
		require.False(t, passing, "%v", err)
		require.NotContains(t, err.Error(), servertest.ZoneSecret)
	}
	// two at once: one of them is refused, and neither is half done
	var wg sync.WaitGroup
	failed := make([]error, 8)
	for i := range failed {
		wg.Go(func() {
			_, failed[i] = d.Update(ctx, "record", first.ID,
				driver.Change{To: value.Map{"values": []any{fmt.Sprintf("10.0.1.%d", i)}}}, first.Tag, "")
		})
	}
	wg.Wait()
	won := 0
	for _, err := range failed {
		if err == nil {
			won++
		} else {
			require.ErrorIs(t, err, driver.ErrTag)
		}
	}
	require.Equal(t, 1, won)

	server.Stop()
	_, err = d.Read(ctx, "record", first.ID)
	passing, _ := driver.IsPassing(err)
	require.True(t, passing, "%v", err)
	server.Start()
	_, err = d.Read(ctx, "record", first.ID)
	require.NoError(t, err)
}

// TestLostAnswer: an update whose answer is lost may have been done; one that was never
// sent was not.
func TestLostAnswer(t *testing.T) {
	ctx, server := context.Background(), servertest.Names(t, zone, "tides.example")
	front := drivertest.NewCutter(t, server.Address)
	d := open(t, &servertest.Server{Address: front.Address}, key(servertest.ZoneSecret))
	// An answer to an update (RFC 2136, 2.2) that says NOERROR, of one zone and a signature.
	// Fewer bytes could be a part of another message, whose signature may hold any.
	answered := []byte{0xa8, 0, 0, 1, 0, 0, 0, 0, 0, 1}
	in := value.Map{"zone": zone, "name": "lost." + zone, "kind": "A", "values": []any{"10.0.0.1"}, "ttl": int64(60)}
	front.CutAt(answered)
	_, err := d.Create(ctx, "record", in, "")
	require.Equal(t, 1, front.Cuts())
	require.Equal(t, driver.Unknown, driver.OutcomeOf(err), "%v", err)
	found, err := d.Find(ctx, "record", value.Map{"zone": zone, "name": "lost." + zone, "kind": "A"})
	require.NoError(t, err)
	require.Len(t, found, 1)
	is := found[0]
	change := driver.Change{From: value.Map{"ttl": int64(60)}, To: value.Map{"ttl": int64(90)}}
	front.CutAt([]byte{}) // the zone's transfer, before the update
	_, err = d.Update(ctx, "record", is.ID, change, is.Tag, "")
	require.Equal(t, driver.NotDone, driver.OutcomeOf(err), "%v", err)
	front.CutAt(answered)
	_, err = d.Update(ctx, "record", is.ID, change, is.Tag, "")
	require.Equal(t, driver.Unknown, driver.OutcomeOf(err), "%v", err)
	is, err = d.Read(ctx, "record", is.ID)
	require.NoError(t, err)
	require.EqualValues(t, 90, is.Attributes["ttl"])
	front.CutAt(answered)
	require.Equal(t, driver.Unknown, driver.OutcomeOf(d.Delete(ctx, "record", is.ID, is.Tag, "")))
	require.Equal(t, 1, front.Cuts())
	_, err = d.Read(ctx, "record", is.ID)
	require.ErrorIs(t, err, driver.ErrGone)
}

// TestRehearse: what a server would refuse is known before, and nothing of it is done.
func TestRehearse(t *testing.T) {
	ctx, narrow := context.Background(), "narrow.example"
	server := servertest.Names(t, zone, narrow)
	d, err := dns.New(dns.Options{Server: server.Address, Zones: []string{zone, narrow, "absent.example"},
		Key: key(servertest.ZoneSecret)})
	require.NoError(t, err)
	in := func(zone, name, kind string, values ...any) value.Map {
		return value.Map{"zone": zone, "name": name + "." + zone, "kind": kind, "values": values}
	}
	create := func(in value.Map) driver.Call { return driver.Call{Do: "create", Type: "record", Inputs: in} }
	id := func(zone, name, kind string) string { return zone + "/" + name + "." + zone + "/" + kind }
	_, err = d.Create(ctx, "record", in(zone, "old", "A", "10.0.0.1"), "")
	require.NoError(t, err)
	_, err = d.Create(ctx, "record", in(zone, "other", "CNAME", "old."+zone+"."), "")
	require.NoError(t, err)
	_, err = d.Create(ctx, "record", in(narrow, "a.open", "A", "10.0.0.1"), "")
	require.NoError(t, err)
	before := map[string]string{}
	all := func() map[string]string {
		out := map[string]string{}
		for _, z := range []string{zone, narrow} {
			one, err := dns.New(dns.Options{Server: server.Address, Zones: []string{z},
				Key: key(servertest.ZoneSecret)})
			require.NoError(t, err)
			for l, err := range one.List(ctx, "record") {
				require.NoError(t, err)
				out[l.ID] = l.Tag
			}
		}
		return out
	}
	before = all()
	pending := in(zone, "later", "A")
	pending["values"] = []any{driver.Made{Call: 0, Path: value.Path{value.Key("id")}}}
	unknown := in(zone, "x", "A", "10.0.0.1")
	unknown["name"] = driver.Made{Call: 0, Path: value.Path{value.Key("id")}}
	cases := []struct {
		call  driver.Call
		words string // "" where it would be done
	}{
		{create(in(zone, "new", "A", "10.0.0.1")), ""},
		{create(in(zone, "new", "A", "10.0.0.2")), "there are records new." + zone + " of kind A already"},
		{create(in(zone, "old", "A", "10.0.0.2")), "already"},
		{create(in(zone, "other", "TXT", "a")), "a name with a CNAME can have no other records"},
		{create(in(zone, "new", "CNAME", "old."+zone+".")), "a name with a CNAME can have no other records"},
		{driver.Call{Do: "delete", Type: "record", ID: id(zone, "old", "A")}, ""},
		{create(in(zone, "old", "CNAME", "new."+zone+".")), ""},
		{driver.Call{Do: "update", Type: "record", ID: id(zone, "old", "A"),
			Change: driver.Change{To: value.Map{"ttl": int64(9)}}}, "gone"},
		{driver.Call{Do: "update", Type: "record", ID: id(zone, "other", "CNAME"),
			Change: driver.Change{To: value.Map{"values": []any{"no name"}}}}, "is not a value of CNAME"},
		{driver.Call{Do: "update", Type: "record", ID: id(zone, "other", "CNAME"),
			Change: driver.Change{To: value.Map{"ttl": int64(9)}}}, ""},
		{driver.Call{Do: "delete", Type: "record", ID: zone + "/" + zone + "/NS"},
			"a zone needs those of its own name"},
		{create(pending), ""},
		{create(in(narrow, "b.open", "A", "10.0.0.1")), ""},
		{create(in(narrow, "b", "A", "10.0.0.1")), "refuse"},
		{create(in(narrow, "b.open", "MX", "10 ns."+narrow+".")), "refuse"},
		{driver.Call{Do: "update", Type: "record", ID: id(narrow, "a.open", "A"),
			Change: driver.Change{To: value.Map{"ttl": int64(9)}}}, ""},
		{driver.Call{Do: "delete", Type: "record", ID: id(narrow, "ns", "A")}, "refuse"},
		{create(in("absent.example", "b", "A", "10.0.0.1")), "absent.example"},
	}
	calls := []driver.Call{create(unknown)}
	for _, c := range cases {
		calls = append(calls, c.call)
	}
	out, err := d.Rehearse(ctx, calls)
	require.NoError(t, err)
	require.Equal(t, before, all(), "nothing is done")
	require.False(t, out[0].Tried, "its name is not known")
	for i, c := range cases {
		require.True(t, out[i+1].Tried, "%d", i)
		if c.words == "" {
			require.NoError(t, out[i+1].Err, "%d", i)
		} else {
			require.ErrorContains(t, out[i+1].Err, c.words, "%d", i)
		}
	}
	// what was foretold is what is met
	_, err = d.Create(ctx, "record", in(narrow, "b", "A", "10.0.0.1"), "")
	require.ErrorContains(t, err, "refuse")
	server.Stop()
	_, err = d.Rehearse(ctx, calls)
	require.Error(t, err)
}
