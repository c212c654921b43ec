package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/file"
	"kasbah/stores/memory"
)

// seconds are what the simulated cloud takes to make a thing at pace 1.
var seconds = map[string]float64{"network": 2, "subnet": 2, "machine": 25, "disk": 6, "bucket": 3, "record": 4}

// tangle declares n resources in a random graph. Calls take seconds: all of them work together, and the longest
// chain of them chain.
func tangle(n int) (code string, work, chain float64) {
	rnd := rand.New(rand.NewPCG(1, 2))
	var star strings.Builder
	ends := map[string]float64{} // variable -> when it can be done at the earliest
	count := map[string]int{}
	put := func(typ, attrs string, needs ...string) string {
		name := fmt.Sprintf("%s_%d", typ, count[typ])
		count[typ]++
		begins := 0.0
		for _, x := range needs {
			begins = max(begins, ends[x])
		}
		ends[name] = begins + seconds[typ]
		work, chain = work+seconds[typ], max(chain, ends[name])
		fmt.Fprintf(&star, "%s = medina.%s(%q, %s)\n", name, typ, strings.ReplaceAll(name, "_", "-"), attrs)
		return name
	}
	any := func(typ string) string { return fmt.Sprintf("%s_%d", typ, rnd.IntN(count[typ])) }
	net := put("network", `range = "10.0.0.0/8"`)
	for i := range 30 {
		put("subnet", fmt.Sprintf(`network = %s, range = "10.%d.0.0/20"`, net, i), net)
	}
	for total := 31; total < n; total++ {
		switch kind := rnd.IntN(5); {
		case kind == 0 || count["machine"] == 0:
			s, after := any("subnet"), ""
			needs := []string{s}
			if count["machine"] > 0 && rnd.IntN(3) == 0 { // a chain of machines
				m := any("machine")
				after, needs = fmt.Sprintf(", care = care(after = [%s])", m), append(needs, m)
			}
			put("machine", fmt.Sprintf(`subnet = %s, size = "tiny", image = "stone-1"%s`, s, after), needs...)
		case kind == 1:
			m := any("machine")
			put("disk", "gigabytes = 1, machine = "+m, m)
		case kind == 2:
			put("bucket", `tags = {"light": "sallow"}`)
		default:
			one, two := any("machine"), any("machine")
			put("record",
				fmt.Sprintf(`name = "n%d.lantern-coast.example", kind = "A", values = [%s.address, %s.address]`, total,
					one, two), one, two)
		}
	}
	return star.String(), work, chain
}

// tangled is how many resources a run is measured with.
const tangled = 1000

// tangle writes an estate of them.
func (b *bench) tangle(name string) (dir string, bound float64, err error) {
	code, work, chain := tangle(tangled)
	toml := fmt.Sprintf("estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\npace = "+
		"%v\n[env.trial]\n", b.enact)
	dir, err = b.files(name, map[string]string{"kasbah.toml": toml, "shore/shore.star": code})
	return dir, b.enact * max(chain, work/enact.DefaultParallel), err
}

// enacting is a run over a random graph in which every call takes its time,
// against what no order of the calls could beat.
func (b *bench) enacting() ([]row, error) {
	dir, bound, err := b.tangle("enact")
	if err != nil {
		return nil, err
	}
	best := 0.0 // of three: what else the machine does then, above all on its disk, is not ours
	for range 3 {
		r, err := b.program(dir, b.kasbah, "enact", "-yes", "-quiet")
		if err != nil {
			return nil, err
		}
		if best == 0 || r.seconds < best {
			best = r.seconds
		}
		if err := os.RemoveAll(filepath.Join(dir, ".kasbah")); err != nil {
			return nil, err
		}
	}
	return []row{{work: fmt.Sprintf("enact, %d resources in a random graph, durations times %v", tangled, b.enact),
		against: fmt.Sprintf("max(longest chain, work / %d)", enact.DefaultParallel), took: best, floor: bound,
		note: "(best of 3)", bar: "1.02x"}}, nil
}

// slowWrite is how long a slow store takes for a write.
const slowWrite = 20 * time.Millisecond

// slowStore takes its time.
type slowStore struct{ store.Store }

// PutIfAbsent waits before it writes.
func (s slowStore) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	time.Sleep(slowWrite)
	return s.Store.PutIfAbsent(ctx, key, body)
}

// slowly is the run with a slow store, and nothing else that takes time but the calls.
func (b *bench) slowly() ([]row, error) {
	dir, bound, err := b.tangle("slow")
	if err != nil {
		return nil, err
	}
	began := time.Now()
	err = b.carryOut(dir, tangled, slowStore{memory.New()}, b.enact, enact.DefaultParallel)
	return []row{{work: fmt.Sprintf("enact, the same, with a store that takes %s longer for each write", slowWrite),
		against: "the same", took: time.Since(began).Seconds(), floor: bound, bar: "1.05x"}}, err
}

// appending is what the ledger writes for a long run with many calls at once, against
// writing the same bytes as safely with nothing around it.
func (b *bench) appending() ([]row, error) {
	const callers, each = 64, 300
	defer debug.SetGCPercent(debug.SetGCPercent(3200)) // small heaps are not collected, as in the program
	var stored [][]byte
	ours := func() (ran, error) {
		dir, err := os.MkdirTemp(b.dir, "append")
		if err != nil {
			return ran{}, err
		}
		s, err := file.Open(dir)
		if err != nil {
			return ran{}, err
		}
		l, err := ledger.New(s, "coast", "trial", "shore", ledger.Identity{Who: "keeper-1", Host: "bench",
			Program: "bench"})
		if err != nil {
			return ran{}, err
		}
		lines := make([][]ledger.Line, callers)
		for c := range lines {
			for i := range each {
				name := fmt.Sprintf("gauge-%d-%d", c, i)
				lines[c] = append(lines[c], ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "bench",
					Record: &ledger.Record{
						Address: "medina.machine/" + name, Type: "medina.machine", ID: fmt.Sprintf("mac-%d-%d", c, i),
						Version: 1, Run: "bench", Declared: "f",
						Inputs: value.Attributes{"name": name, "size": "tiny", "image": "stone-1", "subnet": "sub-0001"},
						Live:   value.Attributes{"name": name, "size": "tiny", "address": "10.0.0.1"},
					}}})
			}
		}
		began := time.Now()
		r, err := l.Begin(context.Background(), ledger.BeginOptions{ID: "bench", Command: "bench"})
		if err != nil {
			return ran{}, err
		}
		var g errgroup.Group
		for _, of := range lines {
			g.Go(func() error {
				for _, line := range of {
					if err := r.Append(context.Background(), line); err != nil {
						return err
					}
				}
				return nil
			})
		}
		err = g.Wait()
		took := time.Since(began).Seconds()
		entries := int(r.State().Seq)
		if err == nil {
			err = r.End(context.Background(), ledger.End{Outcome: "done"})
		}
		if err == nil {
			stored, err = contents(filepath.Join(dir, "coast", "trial", "shore", "log"))
			stored = stored[:min(len(stored), entries)]
		}
		return ran{seconds: took}, errors.Join(err, s.Close())
	}
	floor := func() (ran, error) {
		dir, err := os.MkdirTemp(b.dir, "floor")
		if err != nil {
			return ran{}, err
		}
		began := time.Now()
		for i, body := range stored {
			if err := safely(dir, fmt.Sprint(i), body); err != nil {
				return ran{}, err
			}
		}
		return ran{seconds: time.Since(began).Seconds()}, nil
	}
	a, f, err := paired(b.times, ours, floor)
	return []row{{work: fmt.Sprintf("ledger append, file store, %d records by %d callers", callers*each, callers),
		against: "the same bytes: new file, fsync, link, fsync of the folder", took: a.seconds, floor: f.seconds,
		ratio: a.ratio,
		bar:   "1.2x"}}, err
}

func contents(dir string) ([][]byte, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out [][]byte
	slices.SortFunc(entries, func(a, b os.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	for _, e := range entries {
		body, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		out = append(out, body)
	}
	return out, nil
}

// safely writes a file whole or not at all, so that it outlasts a power cut.
func safely(dir, name string, body []byte) error {
	f, err := os.CreateTemp(dir, "new")
	if err != nil {
		return err
	}
	if _, err = f.Write(body); err == nil {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := os.Link(f.Name(), filepath.Join(dir, name)); err != nil {
		return err
	}
	if err := os.Remove(f.Name()); err != nil {
		return err
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
