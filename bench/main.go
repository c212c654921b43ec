// Command bench measures Kasbah against floors, each pair side by side in one
// run, and prints a table of ratios. `scripts/bench` builds what it needs.
package main

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"
)

// bench is where things are, and how much is measured.
type bench struct {
	kasbah string // the program
	hello  string // the program that prints a line
	dir    string // for estates; removed afterwards
	n      int    // resources of the large estate
	most   int    // and of the largest
	times  int    // how often a pair is measured
	enact  float64
}

// row is a line of the table.
type row struct {
	work, against string
	took, floor   float64 // seconds; of other measures as unit says
	ratio         float64 // of a pair, see paired; 0 for took / floor
	unit          string
	bar           string
	note          string
}

var rows = []struct {
	name string
	make func(*bench) ([]row, error)
}{
	{"start", (*bench).start}, {"offline", (*bench).offline}, {"live", (*bench).live}, {"survey", (*bench).survey},
	{"growth", (*bench).growth}, {"rehearse", (*bench).rehearsing}, {"enact", (*bench).enacting},
	{"slow", (*bench).slowly}, {"quick", (*bench).quickly}, {"append", (*bench).appending}, {"adopt", (*bench).adopting},
	{"map", (*bench).drawing}, {"editor", (*bench).editing},
	{"affected", (*bench).affecting},
}

func main() {
	b := &bench{}
	flag.IntVar(&b.n, "n", 100_000, "`resources` of the large estate")
	flag.IntVar(&b.most, "most", 1_000_000, "`resources` of the largest, for how cost grows")
	flag.IntVar(&b.times, "times", 5, "how `often` each pair is measured; the medians count")
	flag.Float64Var(&b.enact, "pace", 0.2, "how fast the simulated cloud works for the run of 1 000 resources; 1 is "+
		"as slow as a real one")
	flag.StringVar(&b.kasbah, "kasbah", "", "the `program`")
	flag.StringVar(&b.hello, "hello", "", "the `program` that prints a line")
	record := flag.String("record", "", "fill the ledger of the estate in this `folder`, and end")
	flag.Parse()
	if *record != "" {
		if err := b.record(*record, b.n); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if err := b.run(flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func (b *bench) run(names []string) error {
	var err error
	if b.dir, err = os.MkdirTemp("", "bench"); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	fmt.Printf("%s, %d cores, %s, %s\n\n", time.Now().Format(time.DateOnly), runtime.NumCPU(), cpu(), runtime.Version())
	fmt.Println("| work | measured against | took | floor | ratio | to reach |\n|---|---|---|---|---|---|")
	for _, r := range rows {
		if len(names) > 0 && !slices.Contains(names, r.name) {
			continue
		}
		lines, err := r.make(b)
		if err != nil {
			return fmt.Errorf("%s: %w", r.name, err)
		}
		for _, l := range lines {
			fmt.Println(l)
		}
	}
	return nil
}

func (r row) String() string {
	show := func(v float64) string {
		switch {
		case v == 0:
			return ""
		case r.unit != "":
			return fmt.Sprintf("%.0f %s", v, r.unit)
		case v < 0.1:
			return fmt.Sprintf("%.2f ms", v*1000)
		}
		return fmt.Sprintf("%.2f s", v)
	}
	ratio := r.note
	if r.floor > 0 {
		ratio = strings.TrimSpace(fmt.Sprintf("%.2fx %s", cmp.Or(r.ratio, r.took/r.floor), r.note))
	}
	return fmt.Sprintf("| %s | %s | %s | %s | %s | %s |", r.work, r.against, show(r.took), show(r.floor), ratio, r.bar)
}

func cpu() string {
	body, err := os.ReadFile("/proc/cpuinfo")
	if err != nil {
		return runtime.GOARCH
	}
	for _, line := range strings.Split(string(body), "\n") {
		if name, ok := strings.CutPrefix(line, "model name"); ok {
			return strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(name), ":"))
		}
	}
	return runtime.GOARCH
}

// ran is what running a program took: seconds and the peak of its memory in
// bytes.
type ran struct {
	seconds float64
	peak    int64
	ratio   float64 // of the seconds to those of the other one of a pair
}

func (b *bench) program(dir, name string, args ...string) (ran, error) {
	cmd := exec.CommandContext(context.Background(), name, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "KASBAH_WHO=keeper-1", "XDG_CACHE_HOME="+filepath.Join(b.dir, "cache"))
	var said strings.Builder
	cmd.Stderr = &said
	began := time.Now()
	if err := cmd.Run(); err != nil {
		return ran{}, fmt.Errorf("%s %s: %w: %s", filepath.Base(name), strings.Join(args, " "), err, said.String())
	}
	took := time.Since(began).Seconds()
	return ran{seconds: took, peak: peakOf(cmd.ProcessState)}, nil
}

// paired runs two things in turn and returns the medians of both. The ratio of the first is the median of the pairs'
// ratios: a machine's speed moves from minute to minute, and less from one run to the next.
func paired(times int, one, other func() (ran, error)) (a, b ran, err error) {
	var as, bs []ran
	var ratios []float64
	for range times {
		if a, err = one(); err != nil {
			return a, b, err
		}
		if b, err = other(); err != nil {
			return a, b, err
		}
		as, bs, ratios = append(as, a), append(bs, b), append(ratios, a.seconds/b.seconds)
	}
	a, b = median(as), median(bs)
	slices.Sort(ratios)
	a.ratio = ratios[len(ratios)/2]
	return a, b, nil
}

// repeated runs one thing and returns the medians.
func repeated(times int, run func() (ran, error)) (ran, error) {
	var all []ran
	for range times {
		r, err := run()
		if err != nil {
			return ran{}, err
		}
		all = append(all, r)
	}
	return median(all), nil
}

func median(list []ran) ran {
	seconds, peak := make([]float64, len(list)), int64(0)
	for i, r := range list {
		seconds[i] = r.seconds
		peak = max(peak, r.peak)
	}
	slices.Sort(seconds)
	return ran{seconds: seconds[len(seconds)/2], peak: peak}
}

// start is what every command costs before it does anything.
func (b *bench) start() ([]row, error) {
	ours, floor, err := paired(40*b.times,
		func() (ran, error) { return b.program(b.dir, b.kasbah, "version") },
		func() (ran, error) { return b.program(b.dir, b.hello) })
	return []row{{work: "`kasbah version`", against: "a Go program that prints a line", took: ours.seconds,
		floor: floor.seconds, ratio: ours.ratio, bar: "6x"}}, err
}
