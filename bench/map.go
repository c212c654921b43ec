package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"kasbah/core/layout"
)

// drawing is the map of an estate: how long it takes against Graphviz's dot on the same graph, how many needs cross, and
// how its page does in a browser.
func (b *bench) drawing() ([]row, error) {
	const n = 20_000
	dir, err := b.write("map", n)
	if err != nil {
		return nil, err
	}
	page, graph := filepath.Join(b.dir, "map.html"), filepath.Join(b.dir, "map.dot")
	ours, err := repeated(b.times, func() (ran, error) { return b.into(page, dir, b.kasbah, "map", "-form", "html") })
	if err != nil {
		return nil, err
	}
	if _, err := b.into(graph, dir, b.kasbah, "map", "-form", "dot"); err != nil {
		return nil, err
	}
	dot := row{work: fmt.Sprintf("map of %d resources as a page, laid out and written", n), against: "`dot -Tsvg` on the same graph", took: ours.seconds,
		bar: "0.1x"}
	if dot.floor, dot.note, err = b.dot(graph); err != nil {
		return nil, err
	}
	size, err := os.Stat(page)
	if err != nil {
		return nil, err
	}
	large, err := b.write("map-large", 100_000)
	if err != nil {
		return nil, err
	}
	most, err := b.into(filepath.Join(b.dir, "map.svg"), large, b.kasbah, "map", "-form", "svg", "-depth", "resource")
	if err != nil {
		return nil, err
	}
	rows := []row{dot,
		{work: "its peak of memory", took: float64(ours.peak >> 20), unit: "MB"},
		{work: "its page", took: float64(size.Size() >> 20), unit: "MB", bar: "12 MB"},
		{work: "map of 100000 resources as SVG, all of them drawn", took: most.seconds, bar: "20 s"},
		{work: "its peak of memory", took: float64(most.peak >> 20), unit: "MB"},
	}
	crossed, err := crossings(20)
	if err != nil {
		return nil, err
	}
	shown, err := browsed(page)
	return append(append(rows, crossed), shown...), err
}

// into runs a program whose output goes into a file.
func (b *bench) into(file, dir, name string, args ...string) (ran, error) {
	return b.program(dir, "sh", append([]string{"-c", `out=$1; shift; exec "$@" >"$out"`, "sh", file, name}, args...)...)
}

// patience is how long another program may draw.
const patience = 5 * time.Minute

// dot draws a graph with Graphviz, which may take longer than anybody waits.
func (b *bench) dot(graph string) (seconds float64, note string, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	began := time.Now()
	err = exec.CommandContext(ctx, "dot", "-Tsvg", "-o", filepath.Join(b.dir, "dot.svg"), graph).Run()
	seconds = time.Since(began).Seconds()
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return seconds, "(or less: dot was stopped)", nil
	}
	return seconds, "", err
}

// crossings compares how many needs cross on random layered graphs, in which each need leads to the next layer, so that
// both programs draw the same layers.
func crossings(graphs int) (row, error) {
	rng := rand.New(rand.NewPCG(20, 23))
	ours, theirs := 0, 0
	for range graphs {
		in := layered(rng)
		d := layout.Draw(in)
		ours += crossed(in, func(n int32) (x, y float64) { return d.Nodes[n].X, d.Nodes[n].Y + d.Nodes[n].H/2 })
		at, err := dotted(in)
		if err != nil {
			return row{}, err
		}
		theirs += crossed(in, func(n int32) (x, y float64) { return at[n][0], at[n][1] })
	}
	return row{work: fmt.Sprintf("crossings on %d random layered graphs", graphs), against: "`dot` on the same graphs", took: float64(ours),
		floor: float64(theirs), unit: "crossings", bar: "1.3x"}, nil
}

// layered makes 6 to 12 layers of 8 to 30 nodes, each of which needs one to three of the layer before, mostly near it.
func layered(rng *rand.Rand) *layout.Input {
	in := &layout.Input{Containers: []layout.Container{{Label: "coast", Parent: -1}}}
	var before []int32
	for range 6 + rng.IntN(7) {
		var layer []int32
		size := 8 + rng.IntN(23)
		for k := range size {
			n := int32(len(in.Nodes))
			in.Nodes = append(in.Nodes, layout.Node{Label: fmt.Sprint("lamp-", n), Kind: fmt.Sprint(n)})
			layer = append(layer, n)
			seen := map[int32]bool{}
			for range 1 + rng.IntN(3) {
				if len(before) == 0 {
					break
				}
				at := k*len(before)/size + rng.IntN(7) - 3
				if rng.IntN(4) == 0 {
					at = rng.IntN(len(before))
				}
				if f := before[max(0, min(len(before)-1, at))]; !seen[f] {
					seen[f] = true
					in.Needs = append(in.Needs, layout.Need{From: f, To: n})
				}
			}
		}
		for _, f := range before { // what nothing needs would stand anywhere
			needed := false
			for _, need := range in.Needs {
				needed = needed || need.From == f
			}
			if !needed {
				in.Needs = append(in.Needs, layout.Need{From: f, To: layer[rng.IntN(len(layer))]})
			}
		}
		before = layer
	}
	return in
}

// crossed counts the pairs of needs between two layers that cross.
func crossed(in *layout.Input, at func(n int32) (x, y float64)) (n int) {
	for i, a := range in.Needs {
		ax, ay := at(a.From)
		_, by := at(a.To)
		for _, o := range in.Needs[:i] {
			ox, oy := at(o.From)
			_, py := at(o.To)
			if diff := ax - ox; diff > -1 && diff < 1 && (ay-oy)*(by-py) < 0 {
				n++
			}
		}
	}
	return n
}

// dotted is where dot places the middles of nodes.
func dotted(in *layout.Input) ([][2]float64, error) {
	var w strings.Builder
	w.WriteString("digraph g { rankdir=LR; node [shape=box, fixedsize=true, width=1, height=0.5];\n")
	for n := range in.Nodes {
		fmt.Fprintf(&w, "%d;\n", n)
	}
	for _, need := range in.Needs {
		fmt.Fprintf(&w, "%d -> %d;\n", need.From, need.To)
	}
	w.WriteString("}\n")
	cmd := exec.Command("dot", "-Tplain")
	cmd.Stdin = strings.NewReader(w.String())
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("dot: %w", err)
	}
	at := make([][2]float64, len(in.Nodes))
	for _, line := range bytes.Split(out, []byte("\n")) {
		f := strings.Fields(string(line))
		if len(f) < 4 || f[0] != "node" {
			continue
		}
		n, err := strconv.Atoi(f[1])
		if err != nil {
			return nil, err
		}
		for k := range 2 {
			if at[n][k], err = strconv.ParseFloat(f[2+k], 64); err != nil {
				return nil, err
			}
			at[n][k] *= 72
		}
	}
	return at, nil
}

// pan moves the page at several zooms, and returns the median time of a frame in milliseconds, the worst zoom's.
const pan = `(async () => {
  const map = document.getElementById("map"), r = map.getBoundingClientRect();
  map.setPointerCapture = () => {};
  const tell = (type, x, y) => map.dispatchEvent(new PointerEvent(type, { pointerId: 1, clientX: r.left + x, clientY: r.top + y, bubbles: true }));
  const frame = () => new Promise(requestAnimationFrame);
  let worst = 0;
  for (let zoom = 0; zoom < 12; zoom++) {
    const took = [];
    tell("pointerdown", 400, 300);
    for (let k = 1; k <= 40; k++) {
      const began = performance.now();
      tell("pointermove", 400 + 4 * k, 300 + k);
      await frame();
      took.push(performance.now() - began);
    }
    tell("pointerup", 560, 340);
    worst = Math.max(worst, took.reduce((a, b) => a + b) / took.length);
    for (let k = 0; k < 3; k++) map.dispatchEvent(new WheelEvent("wheel", { deltaY: -120, clientX: r.left + 500, clientY: r.top + 360, bubbles: true, cancelable: true }));
    await new Promise((done) => setTimeout(done, 300));
  }
  return worst;
})()`

// browsed is how a page does in headless Chromium: none where there is none.
func browsed(page string) ([]row, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), opts...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	if err := chromedp.Do(ctx, chromedp.Navigate("file://"+page), chromedp.WaitVisible(chromedp.CSS("#map"))); err != nil {
		return nil, err
	}
	first, err := chromedp.Run(ctx, chromedp.Poll[float64](`(() => { const m = performance.getEntriesByName("drawn")[0]; return m ? (m.startTime - performance.timing.responseEnd + performance.timing.navigationStart) / 1000 : 0 })()`))
	if err != nil {
		return nil, err
	}
	frame, err := chromedp.Run(ctx, chromedp.Evaluate[float64](pan, chromedp.EvalAwaitPromise))
	if err != nil {
		return nil, err
	}
	return []row{
		{work: "its first paint in Chromium, once its bytes are there", took: first, bar: "1 s"},
		{work: "frames while it is moved, at the zoom where they are fewest", took: 1000 / frame, unit: "a second", bar: "30 a second"},
	}, nil
}
