package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// oddCoast declares n resources, a quarter of them with names and values that
// try to be markup.
const oddCoast = `n = input("n", kind.int)
mark = input("mark", default = "one")
medina.network("coast", range = "10.0.0.0/16")
for i in range(n - 1):
    if i % 4 == 0:
        medina.bucket("</script><script>hurt()</script><img/src=x/onerror=hurt()>" + str(i), name = "odd-%d" % i,
            tags = {"</pre></td>\"'": "<script>hurt()</script>&lt;" + mark, "\u202eevil": "{{.}} %s"})
    elif i % 4 == 1:
        medina.record("name-%d" % i, name = "n%d.lantern-coast.example" % i, kind = "A", values = ["10.0.0.1"], ttl = 60 + len(mark))
    else:
        medina.bucket("log-%d" % i, tags = {"number": str(i), "mark": mark if i % 4 == 2 else "one"})
`

// tab is a page in headless Chromium.
type tab struct {
	t   *testing.T
	ctx context.Context

	mu    sync.Mutex
	wrong []string // what the page complained about, or asked
}

// browser opens headless Chromium, or skips.
func browser(t *testing.T) *tab {
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("there is no chromium here")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.UserDataDir(t.TempDir()))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	b := &tab{t: t, ctx: ctx}
	require.NoError(t, chromedp.Listen(ctx, func(ev any) {
		if ev, ok := ev.(*page.EventJavascriptDialogOpening); ok {
			b.note("dialog: " + ev.Message)
		}
	}))
	messages := chromedp.Console(ctx)
	go func() {
		for m, err := range messages {
			if err != nil {
				return // the browser has ended
			}
			b.note(m.String())
		}
	}()
	return b
}

func (b *tab) note(what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.wrong = append(b.wrong, what)
}

func (b *tab) do(actions ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.ctx, actions...))
}

// says evaluates an expression in the page.
func says[T any](b *tab, expression string) T {
	b.t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](expression))
	require.NoError(b.t, err)
	return v
}

const (
	countShown = `[...document.querySelectorAll(".action")].filter((a) => !a.classList.contains("gone")).length`
	hits       = `document.getElementById("hits").value`
)

// find types into the search field and waits for the answer to all of it.
func (b *tab) find(words string) {
	b.do(chromedp.SendKeys("#find", words))
	_, err := chromedp.Run(b.ctx,
		chromedp.Poll[bool](fmt.Sprintf(`document.getElementById("hits").dataset.words === %q`, words)))
	require.NoError(b.t, err)
}

// TestProposalPage: the page of a proposal with 5, 500 and 20 000 actions, in
// a browser: it says what the proposal does, is searched and filtered, and
// hostile names do nothing.
func TestProposalPage(t *testing.T) {
	b := browser(t)
	for _, n := range []int{5, 500, 20000} {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			if n > 500 && testing.Short() {
				t.Skip("a large page takes seconds")
			}
			p := &program{t: t, dir: t.TempDir()}
			p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = "+
				"\"medina\"\npace = 0\n[env.trial]\n")
			p.file("shore/shore.star", oddCoast)
			if n == 5 { // edits and what is unaffected, against a real ledger
				p.must("enact", "-yes", "-quiet", "-input", "n=7")
			}
			html := p.must("propose", "-offline", "-form", "html", "-input", fmt.Sprintf("n=%d", max(n, 7)), "-input",
				"mark=three")
			file := filepath.Join(t.TempDir(), "page.html")
			require.NoError(t, os.WriteFile(file, []byte(html), 0o600))
			began := time.Now()
			b.do(chromedp.Navigate("file://"+file), chromedp.WaitVisible("#find"))
			loaded := time.Since(began)
			require.Equal(t, 1, says[int](b, `document.scripts.length`))
			require.Zero(t, says[int](b, `document.images.length`))
			require.Equal(t, n, says[int](b, `document.querySelectorAll(".action").length`))
			began = time.Now()
			b.find("mark log-2")
			found := time.Since(began)
			shown := says[int](b, countShown)
			if n == 5 {
				require.Equal(t, "shore, trial: 5 of 7 resources would change", says[string](b, `document.title`))
				require.Equal(t, 1, shown)
				require.Equal(t, "1 of 5 shown, 0 that stay as they are", says[string](b, hits))
				b.do(chromedp.Click(`button[data-kind="edit"]`))
				require.Zero(t, says[int](b, countShown))
				b.do(chromedp.Click(`button[data-kind="edit"]`), chromedp.SendKeys("#find", kb.Escape),
					chromedp.Click("#same summary"))
				require.Equal(t, 5, says[int](b, countShown))
				require.Equal(t, "medina.bucket/log-3\nmedina.network/coast",
					says[string](b, `document.querySelector("#same pre").textContent`))
				require.Contains(t, says[string](b, `document.querySelector("main").textContent`),
					"<script>hurt()</script>&lt;three")
			} else {
				require.Positive(t, shown)
				require.Less(t, shown, n/2)
			}
			const background = `getComputedStyle(document.body).backgroundColor`
			before := says[string](b, background)
			b.do(chromedp.Click("#light"))
			require.NotEqual(t, before, says[string](b, background))
			b.mu.Lock()
			defer b.mu.Unlock()
			require.Empty(t, b.wrong)
			t.Logf("%d actions: %d KB, loaded in %v, found in %v, typing and all", n, len(html)>>10,
				loaded.Round(time.Millisecond), found.Round(time.Millisecond))
		})
	}
}
