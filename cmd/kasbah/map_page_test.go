package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// mapPage is the page of a map in a browser, and what it holds.
type mapPage struct {
	*tab
	url  string
	data struct {
		Texts []string
		Nodes []struct {
			Ward, State int
			Address, Is string
		}
		Layout struct{ Nodes [][4]float64 }
	}
}

var mapData = regexp.MustCompile(`(?s)<script type="application/json" id="data">(.*?)</script>`)

// open shows the page, whose JSON must match its schema.
func (b *tab) openMap(html string) *mapPage {
	b.t.Helper()
	file := filepath.Join(b.t.TempDir(), "map.html")
	require.NoError(b.t, os.WriteFile(file, []byte(html), 0o600))
	m := &mapPage{tab: b, url: "file://" + file}
	raw := mapData.FindStringSubmatch(html)
	require.NotNil(b.t, raw)
	require.NoError(b.t, validate([]byte(raw[1])))
	require.NoError(b.t, json.Unmarshal([]byte(raw[1]), &m.data))
	b.do(chromedp.Navigate(m.url), chromedp.WaitVisible(chromedp.CSS("#map")))
	return m
}

// until waits for an expression of the page to hold.
func (m *mapPage) until(expression string) {
	m.t.Helper()
	require.Eventually(m.t, func() bool { return says[bool](m.tab, expression) }, time.Minute, 20*time.Millisecond, expression)
}

func (m *mapPage) key(keys string) { m.do(chromedp.KeyEvent(keys)) }

// slash presses the key that leads to the field to search, in one event as a keyboard does: the page may take it all.
func (m *mapPage) slash() {
	m.t.Helper()
	m.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: input.DispatchKeyEventTypeKeyDown, Key: "/", Text: "/"})
		return err
	}))
}

// seek finds and chooses a resource by the keyboard alone.
func (m *mapPage) seek(address string) {
	m.t.Helper()
	m.slash()
	m.key(address)
	m.key(kb.Enter)
	m.until(fmt.Sprintf(`!document.getElementById("facts").hidden && document.querySelector("#facts .address").textContent === %q`, address))
	m.do(chromedp.Focus(chromedp.CSS("#map")))
}

func (m *mapPage) told() string {
	return says[string](m.tab, `document.getElementById("told").textContent`)
}

func (m *mapPage) facts() string {
	return says[string](m.tab, `document.getElementById("facts").innerText`)
}

// settled is what the address bar says once it says all.
func (m *mapPage) settled() url.Values {
	m.t.Helper()
	// what changes is written a moment later, by a timer of the page that ends before this one
	m.do(chromedp.Evaluate[chromedp.Void](`window.calm = false; requestAnimationFrame(() => setTimeout(() => { window.calm = true }, 300))`))
	m.until(`window.calm`)
	q, err := url.ParseQuery(strings.TrimPrefix(says[string](m.tab, "location.hash"), "#"))
	require.NoError(m.t, err)
	return q
}

// click clicks into the middle of a node, wherever the page shows it.
func (m *mapPage) click(full string) {
	m.t.Helper()
	q := m.settled()
	number := func(name string) float64 {
		x, err := strconv.ParseFloat(q.Get(name), 64)
		require.NoError(m.t, err)
		return x
	}
	at := says[[]float64](m.tab, `(() => { const r = document.getElementById("map").getBoundingClientRect(); return [r.x, r.y, r.width, r.height] })()`)
	for i, n := range m.data.Nodes {
		if m.data.Texts[n.Ward]+":"+n.Address == full {
			r := m.data.Layout.Nodes[i]
			m.do(chromedp.MouseClickXY(at[0]+at[2]/2+(r[0]+r[2]/2-number("x"))*number("z"), at[1]+at[3]/2+(r[1]+r[3]/2-number("y"))*number("z")))
			return
		}
	}
	m.t.Fatalf("the map has no %s", full)
}

// quiet holds that the page asked for nothing and complained about nothing.
func (m *mapPage) quiet() {
	m.t.Helper()
	require.Zero(m.t, says[int](m.tab, `performance.getEntriesByType("resource").length`), "it asks for nothing")
	m.mu.Lock()
	defer m.mu.Unlock()
	require.Empty(m.t, m.wrong)
}

// TestMapPage: Lantern Coast as a map in a browser: found, clicked and lit with the right numbers, filtered, by the
// keyboard alone, and a link opens the same view.
func TestMapPage(t *testing.T) {
	t.Parallel()
	b := browser(t)
	p := &program{t: t, dir: t.TempDir(), env: []string{"KASBAH_ENV=live"}}
	p.must("demo", "-keep", "coast")
	p.dir = filepath.Join(p.dir, "coast")
	p.must("enact", "-yes", "-quiet", "-allow", "security")
	p.file("shore/shore.star", strings.Replace(p.read("shore/shore.star"), "stone-2", "stone-3", 1))
	p.must("medina", "edit", "machine", "live-shore-farrow-gauge", "size=large", "-as", "keeper-3")
	m := b.openMap(p.must("map", "-at", "proposed", "-form", "html"))

	const gauge = "shore:farrow/medina.machine/gauge"
	count := func(flag, address string) int { // without itself
		var d struct{ Nodes []any }
		require.NoError(t, json.Unmarshal([]byte(p.must("map", "-json", flag, address)), &d))
		return len(d.Nodes) - 1
	}
	m.seek(gauge)
	require.Contains(t, m.facts(), "size differs\tmedium\tlarge\tmedium", "what is recorded, live and proposed stand side by side")
	require.Contains(t, m.facts(), "shore/shore.star:")
	up, down := count("-to", gauge), count("-from", gauge)
	require.Greater(t, up, 1)
	require.Greater(t, down, 2)
	m.key("u")
	m.until(fmt.Sprintf(`document.getElementById("told").textContent === "gauge needs %d resources"`, up))
	m.key("d")
	m.until(fmt.Sprintf(`document.getElementById("told").textContent === "%d resources need gauge"`, down))
	require.Contains(t, m.facts(), fmt.Sprintf("down: touches %d", down))

	// ways between two: all that is between the network and what shows the readings
	m.key("w")
	m.pairWith("medina.network/coast")
	var between struct{ Nodes []any }
	require.NoError(t, json.Unmarshal([]byte(p.must("map", "-json", "-from", "shore:medina.network/coast", "-to", gauge)), &between))
	require.Equal(t, fmt.Sprintf("gauge needs coast: %d resources on the ways between", len(between.Nodes)), m.told())
	link := m.url + "#" + m.settled().Encode()

	// the same view from the link
	m.do(chromedp.Navigate("about:blank"), chromedp.Navigate(link), chromedp.WaitVisible(chromedp.CSS("#facts")))
	require.Equal(t, fmt.Sprintf("gauge needs coast: %d resources on the ways between", len(between.Nodes)), m.told())
	require.Equal(t, link, m.url+"#"+m.settled().Encode())

	// back, step by step
	m.do(chromedp.Focus(chromedp.CSS("#map")))
	for range 5 {
		m.key(kb.Escape)
	}
	m.until(`document.getElementById("facts").hidden && document.getElementById("told").textContent === ""`)
	q := m.settled()
	for _, gone := range []string{"resource", "other", "light", "find"} {
		require.Empty(t, q.Get(gone))
	}

	// a click, and one elsewhere
	m.key("0")
	m.click("signal:medina.machine/relay")
	m.until(`document.querySelector("#facts h2")?.textContent === "relay"`)
	m.do(chromedp.Click(chromedp.CSS("#facts li button")))
	m.until(`document.querySelector("#facts h2").textContent !== "relay"`)
	m.do(chromedp.Focus(chromedp.CSS("#map")))
	m.key(kb.Escape)
	m.until(`document.getElementById("facts").hidden`)

	// filters: what does not fit is not counted
	states := map[string]int{}
	for _, n := range m.data.Nodes {
		if n.State != 0 {
			states[m.data.Texts[n.State]]++
		}
	}
	require.Positive(t, states["swap"])
	m.do(chromedp.Click(chromedp.CSS(`[data-state="same"]`)))
	require.Equal(t, fmt.Sprintf("%d of %d", len(m.data.Nodes)-states["same"], len(m.data.Nodes)), says[string](b, `document.getElementById("hits").value`))
	require.Equal(t, "same", m.settled().Get("without"))
	m.do(chromedp.Click(chromedp.CSS(`[data-state="same"]`)), chromedp.SetValue(chromedp.CSS("#where"), "shore/farrow"), chromedp.Evaluate[chromedp.Void](`document.getElementById("where").dispatchEvent(new Event("change"))`))
	require.Equal(t, fmt.Sprintf("3 of %d", len(m.data.Nodes)), says[string](b, `document.getElementById("hits").value`))

	// moving by keys; the list in text leads to the same
	z := m.settled().Get("z")
	m.key("+")
	m.key(kb.ArrowRight)
	require.NotEqual(t, z, m.settled().Get("z"))
	m.do(chromedp.Click(chromedp.CSS(`#list button[data-node]`)))
	m.until(`!document.getElementById("facts").hidden`)
	m.key("?")
	m.until(`document.getElementById("help").open`)
	m.key(kb.Escape)
	m.until(`!document.getElementById("help").open`)
	m.quiet()

	// with drift, and as recorded
	m = b.openMap(p.must("map", "-at", "live", "-form", "html"))
	m.seek(gauge)
	require.Contains(t, m.facts(), "differs")
	require.Contains(t, m.facts(), "large")
	m = b.openMap(p.must("map", "-at", "recorded", "-form", "html"))
	m.seek(gauge)
	require.NotContains(t, m.facts(), "large")
	m.quiet()
}

// pairWith chooses the second resource of a pair.
func (m *mapPage) pairWith(words string) {
	m.t.Helper()
	m.slash()
	m.key(words)
	m.key(kb.Enter)
	m.until(`document.getElementById("told").textContent.includes("on the ways between")`)
	m.do(chromedp.Focus(chromedp.CSS("#map")))
}

// TestMapPageHostile: names and values that try to be markup are text in the page and in its JSON.
func TestMapPageHostile(t *testing.T) {
	t.Parallel()
	b := browser(t)
	p := &program{t: t, dir: t.TempDir()}
	p.file("kasbah.toml", "estate = \"<b>coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial]\n")
	p.file("shore/shore.star", oddCoast)
	if out, code := p.run("check"); code != 0 { // the estate's own name may not be markup
		require.Contains(t, out, "kasbah.toml")
		p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial]\n")
	}
	m := b.openMap(p.must("map", "-form", "html", "-input", "n=21"))
	require.Equal(t, 2, says[int](b, `document.scripts.length`), "its data, and its own")
	require.Zero(t, says[int](b, `document.images.length`))
	odd := ""
	for _, n := range m.data.Nodes {
		if strings.Contains(n.Address, "<script>") {
			odd = m.data.Texts[n.Ward] + ":" + n.Address
			m.slash()
			m.do(chromedp.SetValue(chromedp.CSS("#find"), odd))
			m.key(kb.Enter)
			m.until(`!document.getElementById("facts").hidden`)
			require.Contains(t, m.facts(), "<script>hurt()</script>&lt;one")
			require.NotContains(t, m.facts(), "\u202e")
			m.do(chromedp.Focus(chromedp.CSS("#map")))
		}
	}
	require.NotEmpty(t, odd)
	require.Equal(t, odd, m.settled().Get("resource"))
	require.Zero(t, says[int](b, `document.images.length`))
	m.quiet()
}

// TestMapTexts: in a browser, with its fonts, no text of a picture leaves its box, at any depth.
func TestMapTexts(t *testing.T) {
	t.Parallel()
	b := browser(t)
	p := &program{t: t, dir: t.TempDir(), env: []string{"KASBAH_ENV=live"}}
	p.must("demo", "-keep", "coast")
	p.dir = filepath.Join(p.dir, "coast")
	p.file("shore/more.star", `
for name in ["W" * 60, "m" * 25, "灯台" * 12, "i", "a-name-that-is-longer-than-any-box-of-a-picture", "WWW-@@@-%%%"]:
    medina.topic(name)
`)
	for _, args := range [][]string{{"-depth", "resource"}, {"-depth", "kit"}, {"-depth", "ward"}, {"-at", "proposed", "-depth", "resource"}, {"-at", "proposed", "-depth", "ward"}} {
		file := filepath.Join(t.TempDir(), "map.svg")
		require.NoError(t, os.WriteFile(file, []byte(p.must(append([]string{"map", "-form", "svg"}, args...)...)), 0o600))
		b.do(chromedp.Navigate("file://" + file))
		require.Empty(t, says[[]string](b, `[...document.querySelectorAll("g")].flatMap((g) => {
			const box = g.querySelector("rect")?.getBBox();
			return !box ? [] : [...g.querySelectorAll("text")].filter((t) => {
				const r = t.getBBox();
				return r.x < box.x || r.x + r.width > box.x + box.width || r.y < box.y - 2 || r.y + r.height > box.y + box.height + 2;
			}).map((t) => t.textContent);
		})`), args)
		require.Greater(t, says[int](b, `document.querySelectorAll("text").length`), 5)
	}
}
