package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// offline is a proposal in which nothing changes, without a look at the
// cloud, against a build tool that has nothing to do on the same graph.
func (b *bench) offline() ([]row, error) {
	dir, err := b.recorded("offline", b.n)
	if err != nil {
		return nil, err
	}
	tree, err := b.ninja(b.n)
	if err != nil {
		return nil, err
	}
	ours, floor, err := paired(b.times,
		func() (ran, error) { return b.program(dir, b.kasbah, "propose", "-offline", "-exit-code") },
		func() (ran, error) { return b.program(tree, "ninja") })
	if err != nil {
		return nil, err
	}
	anew, idle, err := paired(b.times,
		func() (ran, error) { return b.program(dir, b.kasbah, "propose", "-offline", "-exit-code", "-anew") },
		func() (ran, error) { return b.program(tree, "ninja") })
	if err != nil {
		return nil, err
	}
	check, err := b.program(dir, b.kasbah, "check")
	if err != nil {
		return nil, err
	}
	edited, dirty, err := paired(b.times,
		func() (ran, error) {
			if err := edit(dir); err != nil {
				return ran{}, err
			}
			return b.program(dir, b.kasbah, "propose", "-offline")
		},
		func() (ran, error) {
			now := time.Now()
			if err := os.Chtimes(filepath.Join(tree, "o", "5-gauge-5"), now, now); err != nil {
				return ran{}, err
			}
			return b.program(tree, "ninja", "-n")
		})
	return []row{
		{work: fmt.Sprintf("propose, %d resources, nothing changed, `-offline`", b.n),
			against: "`ninja` with nothing to do on the same graph", took: ours.seconds, floor: floor.seconds, ratio: ours.ratio,
			bar: "0.6x"},
		{work: "its peak of memory", took: float64(ours.peak >> 20), unit: "MB", bar: "400 MB"},
		{work: "the same, the declarations evaluated anew (`-anew`)", took: anew.seconds,
			floor: idle.seconds, ratio: anew.ratio,
			against: "the same", bar: "2.5x"},
		{work: "of that, evaluating the declarations (`kasbah check`)", took: check.seconds},
		{work: "its peak of memory", took: float64(anew.peak >> 20), unit: "MB", bar: "400 MB"},
		{work: "the same, one line of a ward edited since the last", against: "`ninja -n` after one source was touched",
			took: edited.seconds, floor: dirty.seconds, ratio: edited.ratio, bar: "1.5x"},
		{work: "its peak of memory", took: float64(edited.peak >> 20), unit: "MB", bar: "400 MB"},
	}, err
}

// edit gives another machine of a ward another size.
func edit(dir string) error {
	name := filepath.Join(dir, wardName(5), "shore.star")
	body, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	line, n := regexp.MustCompile(`size = "tiny"( if i != (\d+) else "small")?`), 0
	if m := line.FindSubmatch(body); m[2] != nil {
		if n, err = strconv.Atoi(string(m[2])); err != nil {
			return err
		}
	}
	return os.WriteFile(name, line.ReplaceAll(body, fmt.Appendf(nil, `size = "tiny" if i != %d else "small"`, n+1)), 0o644)
}

// ninja writes the graph of large as a build in which all is up to date.
func (b *bench) ninja(n int) (string, error) {
	dir := filepath.Join(b.dir, "ninja")
	if err := os.MkdirAll(filepath.Join(dir, "o"), 0o755); err != nil {
		return "", err
	}
	var w strings.Builder
	w.WriteString("rule make\n  command = true\n  generator = 1\n")
	at := time.Now().Add(-time.Hour)
	build := func(name string, needs ...string) error {
		fmt.Fprintf(&w, "build o/%s: make", name)
		for _, x := range needs {
			w.WriteString(" o/" + x)
		}
		w.WriteByte('\n')
		path := filepath.Join(dir, "o", name)
		if err := os.WriteFile(path, nil, 0o644); err != nil {
			return err
		}
		return os.Chtimes(path, at, at)
	}
	for ward := range wards {
		in := fmt.Sprintf("%d-", ward)
		n := share(n, ward)
		subnets, m := max(1, n/1000), n/4
		err := build(in + "coast")
		for i := 0; i < subnets && err == nil; i++ {
			err = build(fmt.Sprintf("%squay-%d", in, i), in+"coast")
		}
		for i := 0; i < m && err == nil; i++ {
			err = build(fmt.Sprintf("%sgauge-%d", in, i), fmt.Sprintf("%squay-%d", in, i%subnets))
		}
		for i := 0; i < n-m-subnets-1 && err == nil; i++ {
			gauge := func(k int) string { return fmt.Sprintf("%sgauge-%d", in, k%m) }
			err = build(fmt.Sprintf("%sname-%d", in, i), gauge(i), gauge(i*7+1), gauge(i*13+2), fmt.Sprintf("%squay-%d",
				in, i%subnets))
		}
		if err != nil {
			return "", err
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "build.ninja"), []byte(w.String()), 0o644); err != nil {
		return "", err
	}
	_, err := b.program(dir, "ninja") // it notes what it found
	return dir, err
}

// served is a large estate that was enacted, and the address of its cloud.
func (b *bench) served() (dir, api string, end func(), err error) {
	if dir, err = b.write("live", b.n); err != nil {
		return "", "", nil, err
	}
	if _, err := b.program(dir, b.kasbah, "enact", "-yes", "-quiet"); err != nil {
		return "", "", nil, err
	}
	api, stop, err := b.cloud(filepath.Join(dir, ".kasbah", "medina.db"))
	if err != nil {
		return "", "", nil, err
	}
	return dir, api, func() {
		stop()
		_ = os.RemoveAll(dir)
	}, nil
}

// cloud serves a simulated cloud, kept in a file, that answers at once.
func (b *bench) cloud(path string) (api string, end func(), err error) {
	serve := exec.CommandContext(context.Background(), b.kasbah, "medina", "serve", "-plain", "-open", "-address", "127.0.0.1:0",
		"-path", path, "-pace", "0")
	out, err := serve.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := serve.Start(); err != nil {
		return "", nil, err
	}
	end = func() {
		_ = serve.Process.Signal(os.Interrupt)
		_ = serve.Wait() // how it ends is of no interest here
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		end()
		return "", nil, err
	}
	return strings.Fields(line)[2], end, nil
}

// live is the same with the cloud read, against reading the same pages over
// HTTP and parsing them.
func (b *bench) live() ([]row, error) {
	dir, api, end, err := b.served()
	if err != nil {
		return nil, err
	}
	defer end()
	ours, floor, err := paired(b.times,
		func() (ran, error) {
			return b.program(dir, b.kasbah, "propose", "-exit-code", "-with", "drivers.medina.api="+api)
		},
		func() (ran, error) { return b.pages(api) })
	if err != nil {
		return nil, err
	}
	anew, again, err := paired(b.times,
		func() (ran, error) {
			return b.program(dir, b.kasbah, "propose", "-exit-code", "-anew", "-with", "drivers.medina.api="+api)
		},
		func() (ran, error) { return b.pages(api) })
	if err != nil {
		return nil, err
	}
	edited, third, err := paired(b.times,
		func() (ran, error) {
			if err := edit(dir); err != nil {
				return ran{}, err
			}
			return b.program(dir, b.kasbah, "propose", "-rehearse", "never", "-with", "drivers.medina.api="+api)
		},
		func() (ran, error) { return b.pages(api) })
	return []row{
		{work: "the same, live read included", against: "reading the same pages over HTTP and parsing them",
			took: ours.seconds, floor: floor.seconds, ratio: ours.ratio, bar: "1.5x"},
		{work: "its peak of memory", took: float64(ours.peak >> 20), unit: "MB"},
		{work: "the same with `-anew`", against: "the same", took: anew.seconds, floor: again.seconds, ratio: anew.ratio},
		{work: "its peak of memory", took: float64(anew.peak >> 20), unit: "MB"},
		{work: "the same, one line of a ward edited since the last", against: "the same", took: edited.seconds,
			floor: third.seconds, ratio: edited.ratio, bar: "1.2x"},
		{work: "its peak of memory", took: float64(edited.peak >> 20), unit: "MB"},
	}, err
}

// survey holds what is live against what is recorded, against the same floor, and
// counts the requests.
func (b *bench) survey() ([]row, error) {
	dir, api, end, err := b.served()
	if err != nil {
		return nil, err
	}
	defer end()
	survey := func(api string) (ran, error) {
		return b.program(dir, b.kasbah, "survey", "-exit-code", "-with", "drivers.medina.api="+api)
	}
	ours, floor, err := paired(b.times, func() (ran, error) { return survey(api) },
		func() (ran, error) { return b.pages(api) })
	if err != nil {
		return nil, err
	}
	through, err := url.Parse(api)
	if err != nil {
		return nil, err
	}
	var asked atomic.Int64
	proxy := httputil.NewSingleHostReverseProxy(through)
	counting := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		proxy.ServeHTTP(w, r)
	}))
	defer counting.Close()
	if _, err := survey(counting.URL); err != nil {
		return nil, err
	}
	requests := asked.Swap(0)
	if _, err := b.pages(counting.URL); err != nil {
		return nil, err
	}
	if err := edited(api, drifted); err != nil {
		return nil, err
	}
	edits, again, err := paired(b.times,
		func() (ran, error) { return b.program(dir, b.kasbah, "survey", "-with", "drivers.medina.api="+api) },
		func() (ran, error) { return b.pages(api) })
	return []row{
		{work: fmt.Sprintf("survey of %d resources", b.n), against: "reading the same pages over HTTP and parsing them",
			took: ours.seconds, floor: floor.seconds, ratio: ours.ratio},
		{work: "its peak of memory", took: float64(ours.peak >> 20), unit: "MB"},
		{work: "its requests", against: "the pages that there are", took: float64(requests),
			floor: float64(asked.Load()), unit: "requests"},
		{work: fmt.Sprintf("the same after %d edits by hand", drifted), against: "the same", took: edits.seconds,
			floor: again.seconds, ratio: edits.ratio,
			bar: "0.9x"},
		{work: "its peak of memory", took: float64(edits.peak >> 20), unit: "MB"},
	}, err
}

// drifted is how many resources are changed by hand before the survey.
const drifted = 1000

// edited gives the first n machines of a cloud another size, as a hand would.
func edited(api string, n int) error {
	for i := range n {
		r, err := http.NewRequest(http.MethodPatch, fmt.Sprintf("%s/machines/mac-%04d", api, i+1), strings.NewReader(`{"size": "small"}`))
		if err != nil {
			return err
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return err
		}
		answer.Body.Close()
		if answer.StatusCode >= 300 {
			return fmt.Errorf("%s: %s", r.URL, answer.Status)
		}
	}
	return nil
}

// pages reads and parses every page of the lists that the estate uses.
func (b *bench) pages(api string) (ran, error) {
	began := time.Now()
	n, err := pages(api)
	if err == nil && n != b.n {
		err = fmt.Errorf("%d of %d read", n, b.n)
	}
	return ran{seconds: time.Since(began).Seconds()}, err
}

// pages is how many things those pages hold.
func pages(api string) (int, error) {
	n := 0
	for _, list := range []string{"networks", "subnets", "machines", "records"} {
		for next := api + "/" + list + "?limit=1000"; next != ""; {
			r, err := http.Get(next)
			if err != nil {
				return n, err
			}
			body, err := io.ReadAll(r.Body)
			r.Body.Close()
			if err != nil {
				return n, err
			}
			var page struct {
				Items []map[string]any `json:"items"`
			}
			if err := json.NewDecoder(bytes.NewReader(body)).Decode(&page); err != nil {
				return n, fmt.Errorf("%s: %w", next, err)
			}
			n += len(page.Items)
			link := r.Header.Get("Link")
			from, to := strings.Index(link, "<"), strings.Index(link, ">")
			if next = ""; from >= 0 && to > from {
				if next = link[from+1 : to]; strings.HasPrefix(next, "/") {
					next = api + next
				}
			}
		}
	}
	return n, nil
}

// growth is how the cost of a proposal grows with the estate: the exponent of
// the power law through the medians.
func (b *bench) growth() ([]row, error) {
	var out []row
	var xs, ys []float64
	for n := 1000; n <= b.most; n *= 10 {
		dir, err := b.recorded(fmt.Sprintf("growth-%d", n), n)
		if err != nil {
			return nil, err
		}
		m, err := repeated(max(1, b.times*10_000/max(n, 10_000)+1),
			func() (ran, error) { return b.program(dir, b.kasbah, "propose", "-offline", "-exit-code", "-anew") })
		if err != nil {
			return nil, err
		}
		xs, ys = append(xs, math.Log(float64(n))), append(ys, math.Log(m.seconds))
		out = append(out, row{work: fmt.Sprintf("propose, %d resources, `-offline -anew`", n), took: m.seconds,
			note: fmt.Sprintf("%d MB", m.peak>>20)})
		if err := os.RemoveAll(dir); err != nil {
			return nil, err
		}
	}
	out = append(out, row{work: fmt.Sprintf("its growth from 1000 to %d", b.most), against: "linear",
		note: fmt.Sprintf("exponent %.2f", slope(xs, ys)), bar: "exponent 1.05"})
	return out, nil
}

// slope is that of the straight line through points, by least squares.
func slope(xs, ys []float64) float64 {
	var mx, my, num, den float64
	for i := range xs {
		mx, my = mx+xs[i]/float64(len(xs)), my+ys[i]/float64(len(ys))
	}
	for i := range xs {
		num, den = num+(xs[i]-mx)*(ys[i]-my), den+(xs[i]-mx)*(xs[i]-mx)
	}
	return num / den
}
