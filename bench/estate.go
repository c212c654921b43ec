package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/medina"
	"kasbah/stores/file"
)

// wards is how many wards the large estate has.
const wards = 8

// large declares a ward's share of the n resources of the estate, with a little more
// than three needs each.
const large = `n = input("n", kind.int)
coast = medina.network("coast", range = "10.0.0.0/8")
subnets = [medina.subnet("quay-%d" % i, network = coast, range = cidr.slice("10.0.0.0/8", 20, i)) for i in range(max(1, n // 1000))]
machines = [medina.machine("gauge-%d" % i, subnet = subnets[i % len(subnets)], size = "tiny", image = "stone-1", tags = {"light": "l%d" % (i % 7), "number": str(i)}) for i in range(n // 4)]
m = len(machines)
for i in range(n - m - len(subnets) - 1):
    medina.record("name-%d" % i, name = "n%d.%s.lantern-coast.example" % (i, ward), kind = "A", ttl = 60 + i % 40,
        values = [machines[i % m].address, machines[(i * 7 + 1) % m].address, machines[(i * 13 + 2) % m].address], care = care(after = [subnets[i % len(subnets)]]))
`

// share is how many of n resources a ward has.
func share(n, ward int) int {
	if ward == 0 {
		return n/wards + n%wards
	}
	return n / wards
}

func wardName(ward int) string { return fmt.Sprintf("shore-%d", ward) }

// write writes the large estate.
func (b *bench) write(name string, n int) (string, error) {
	files := map[string]string{}
	names, inputs := "", ""
	for w := range wards {
		files[filepath.Join(wardName(w), "shore.star")] = large
		names += fmt.Sprintf("%q, ", wardName(w))
		inputs += fmt.Sprintf("[env.trial.ward.%s.inputs]\nn = %d\n", wardName(w), share(n, w))
	}
	files["kasbah.toml"] = "estate = \"coast\"\nwards = [" + names + "]\n[limits]\nheap_bytes = 16000000000\nsteps = " +
		"1000000000\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial]\n" + inputs
	return b.files(name, files)
}

// files writes the files of an estate.
func (b *bench) files(name string, files map[string]string) (string, error) {
	dir := filepath.Join(b.dir, name)
	for name, body := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return "", err
		}
		if err := os.WriteFile(path, []byte(body), 0o644); err != nil {
			return "", err
		}
	}
	return dir, nil
}

// instant is a cloud that has made everything at once and keeps nothing: it
// fills ledgers.
type instant struct {
	driver.Driver
	catalog *schema.Catalog
	made    atomic.Int64
	pace    float64 // of what a real cloud takes; 0 for no time
}

// Create makes up what the cloud would decide.
func (d *instant) Create(_ context.Context, typ string, inputs value.Map, _ string) (driver.Live, error) {
	time.Sleep(time.Duration(d.pace * seconds[typ] * float64(time.Second)))
	t := d.catalog.Types[typ]
	id := fmt.Sprintf("%s-%d", typ, d.made.Add(1))
	attributes := value.CloneMap(inputs)
	for _, a := range t.Attributes {
		switch {
		case a.Name == t.ID:
			attributes[a.Name] = id
		case a.Output && a.Kind == schema.Text:
			attributes[a.Name] = "10.0." + strings.ReplaceAll(id, "-", ".")
		}
	}
	return driver.Live{ID: id, Tag: "1", Attributes: attributes}, nil
}

// recorded makes an estate whose ledger is as after a real run. It does so in
// another process: the memory that this one holds would count as that of every
// program that it starts.
func (b *bench) recorded(name string, n int) (string, error) {
	dir, err := b.write(name, n)
	if err != nil {
		return "", err
	}
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	_, err = b.program(dir, self, "-n", fmt.Sprint(n), "-record", dir)
	return dir, err
}

// record enacts an estate of n resources against the instant cloud.
func (b *bench) record(dir string, n int) error {
	s, err := file.Open(filepath.Join(dir, ".kasbah", "ledger"))
	if err != nil {
		return err
	}
	defer s.Close()
	return b.carryOut(dir, n, s, 0, 256)
}

// carryOut enacts an estate of n resources, of which nothing is recorded, against a cloud of a pace.
func (b *bench) carryOut(dir string, n int, s store.Store, pace float64, parallel int) error {
	real, err := medina.Settings{API: "embedded", Options: medina.Options{Path: filepath.Join(dir, ".kasbah",
		"medina.db")}}.Driver("keeper-1")
	if err != nil {
		return err
	}
	defer real.Close()
	catalog, err := real.Describe(context.Background())
	if err != nil {
		return err
	}
	e, err := estate.Load(dir)
	if err != nil {
		return err
	}
	catalogs := map[string]*schema.Catalog{"medina": catalog}
	o := declare.Options{Estate: e, Env: "trial", Wards: e.Wards, Catalogs: catalogs}
	for w := range wards {
		if e.HasWard(wardName(w)) {
			o.Inputs = append(o.Inputs, estate.Input{Ward: wardName(w), Name: "n", Value: int64(share(n, w)),
				Source: "bench"})
		}
	}
	d, problems := declare.Evaluate(context.Background(), o)
	if problems.Wrong() > 0 {
		return problems
	}
	ledgers, states := map[string]*ledger.Ledger{}, map[string]*ledger.State{}
	for _, w := range e.Wards {
		if ledgers[w], err = ledger.New(s, "coast", "trial", w, ledger.Identity{Who: "keeper-1", Host: "bench",
			Program: "bench"}); err != nil {
			return err
		}
		states[w] = ledger.NewState()
	}
	p, err := propose.Propose(context.Background(), propose.Options{Estate: "coast", Env: "trial",
		Choice: propose.Choice{Wards: e.Wards}, Declared: d,
		Catalogs: catalogs, States: states})
	if err != nil {
		return err
	}
	r, err := enact.Enact(context.Background(), p, enact.Options{
		Run:     "bench",
		Command: "bench",
		Clouds: enact.Clouds{Catalogs: catalogs, Drivers: map[string]driver.Driver{"medina": &instant{Driver: real,
			catalog: catalog, pace: pace}}, Ledgers: ledgers},
		Pace: enact.Pace{Parallel: parallel},
	})
	if err != nil {
		return err
	}
	if r.Counts.Done != n {
		return fmt.Errorf("%d of %d recorded: %v", r.Counts.Done, n, r.Failures)
	}
	return nil
}
