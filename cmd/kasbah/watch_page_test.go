//go:build unix

package main

import (
	"context"
	"fmt"
	"kasbah/stores/servertest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// watching is a watcher that goes on until the test ends, and the URL of its page.
func (p *program) watching(args ...string) (url string, said *heard, cmd *exec.Cmd) {
	said = &heard{}
	cmd = p.command(append([]string{"watch", "-address", "127.0.0.1:0"}, args...)...)
	cmd.Stdout, cmd.Stderr = said, said
	cmd.Env = append(cmd.Env, "KASBAH_ENV=") // all environments
	require.NoError(p.t, cmd.Start())
	p.t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM) // it may have ended
		_ = cmd.Wait()
	})
	served := regexp.MustCompile(`msg="the page is served" url=(\S+)`)
	require.Eventually(p.t, func() bool {
		m := served.FindStringSubmatch(said.String())
		if m != nil {
			url = m[1]
		}
		return m != nil
	}, time.Minute, 10*time.Millisecond, "%s", said)
	return url, said, cmd
}

// scheme sets whether the person wants it light or dark.
func (b *tab) scheme(is string) {
	b.t.Helper()
	b.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: is}}})
		return err
	}))
}

// TestWatchPage: a hand edit is shown, acknowledged with a note in a browser, opened again when it is another
// one, and resolved by itself; page, `alerts` and journal tell of every step.
func TestWatchPage(t *testing.T) {
	t.Parallel()
	b := browser(t)
	p := newProgram(t, "0", 1)
	p.env = []string{"KASBAH_ENV=trial"}
	p.file("kasbah.toml", p.read("kasbah.toml")+"\n[watch]\nevery = \"500h\"\n")
	p.must("enact", "-yes", "-quiet")
	token := strings.Fields(p.must("watch", "tokens", "-new", "keeper-2"))[0]
	p.must("medina", "edit", "machine", "mac-0001", "size=large", "-as", "keeper-3")
	url, said, cmd := p.watching()
	main := func() string { return says[string](b, `document.querySelector("main").innerText`) }
	open := func(path string) string {
		b.do(chromedp.Navigate(url+path), chromedp.WaitVisible("main"))
		return main()
	}
	require.Eventually(t, func() bool { return strings.Contains(open("/"), "shore:medina.machine/gauge-0 size") }, time.Minute, 50*time.Millisecond, said)
	open("/wards/trial/shore")
	require.Equal(t, "differs", says[string](b, `document.querySelector(".map .node ~ text.s-edit").textContent`))
	b.do(chromedp.Click(".map a"), chromedp.WaitVisible(".facts"))
	require.Contains(t, main(), "keeper-3", "the map leads to the alert")
	open("/")
	b.do(chromedp.Click(".alerts a"), chromedp.WaitVisible(".facts"))
	require.Contains(t, main(), "keeper-3")
	require.Contains(t, main(), "shore/shore.star:7")
	b.do(chromedp.Click("main .button"), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", "watch-WRONG"), chromedp.Click("button.main"), chromedp.WaitVisible(".problem"))
	require.Contains(t, main(), "The watcher knows no such token")
	b.do(chromedp.SendKeys("#token", token), chromedp.Click("button.main"), chromedp.WaitVisible("#why"))
	b.do(chromedp.SendKeys("#why", "storm damage <b>"), chromedp.Click("button.main"), chromedp.WaitVisible(".k-acknowledged"))
	require.Contains(t, main(), "acknowledged by keeper-2: storm damage <b>")
	require.Contains(t, p.must("alerts"), "keeper-2: storm damage <b>")

	alertPath := strings.TrimPrefix(says[string](b, "location.pathname"), url)
	p.must("medina", "edit", "machine", "mac-0001", "size=tiny", "-as", "keeper-3")
	p.must("watch", "shore", "-now")
	shows := func(path, words string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(open(path), words) }, time.Minute, 50*time.Millisecond, "%s", said)
	}
	shows(alertPath, "changed: found tiny")
	require.Equal(t, "open", says[string](b, `document.querySelector("h1 .state").innerText`))
	p.must("settle", "medina.machine/*", "-put-back", "-yes")
	p.must("watch", "shore", "-now")
	shows(alertPath, "resolved")
	require.Zero(t, says[int](b, `document.querySelectorAll("form.fields").length`), "there is nothing to acknowledge")
	for _, step := range []string{"opened: found large", "acknowledged by keeper-2: storm damage", "changed: found tiny", "resolved"} {
		require.Contains(t, main(), step)
		require.Contains(t, p.must("alerts", "show", filepath.Base(alertPath)), step)
	}
	require.Contains(t, open("/alerts?state=resolved"), "shore:medina.machine/gauge-0 size")
	require.Contains(t, p.must("ledger", "verify", "~watch"), "whole")

	// the log tells of a wrong kasbah.toml, and what it said before holds; a right one counts
	whole := p.read("kasbah.toml")
	p.file("kasbah.toml", whole+"[[notify]]\nmail = \"keepers@lantern.example\"\nserver = \"mail\"\n")
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "cannot be watched as kasbah.toml says now") }, time.Minute, 50*time.Millisecond, said)
	p.file("kasbah.toml", whole+"oops")
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "kasbah.toml is wrong now") }, time.Minute, 50*time.Millisecond, said)
	require.Contains(t, open("/"), "shore")
	p.file("kasbah.toml", strings.Replace(whole, "[env.trial.inputs]\nn = 1", "[env.trial.inputs]\nn = 1\n[env.storm.inputs]\nn = 1", 1))
	shows("/", "storm")
	p.file("kasbah.toml", whole)
	require.Eventually(t, func() bool { return !strings.Contains(open("/"), "storm") }, time.Minute, 50*time.Millisecond, said)
	require.Contains(t, said.String(), "has no schedule for the environment any more")
	p.file("kasbah.toml", strings.Replace(whole, "500h", "* * * * *", 1)+"[[notify]]\nrun = [\"sh\", \"-c\", \"cat >> told\"]\n")
	p.must("medina", "edit", "machine", "mac-0001", "size=large", "-as", "keeper-3")
	require.Eventually(t, func() bool {
		told, err := os.ReadFile(filepath.Join(p.dir, "told"))
		return err == nil && strings.Contains(string(told), "drift.opened")
	}, 120*time.Second, 50*time.Millisecond, said)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait(), said)
	b.mu.Lock()
	defer b.mu.Unlock()
	require.Len(t, b.wrong, 1, "%v", b.wrong)
	require.Contains(t, b.wrong[0], "403", "the wrong token")
}

// TestWatchPageLarge: with 5 and 2 000 alerts, some with names that try to be markup, at 1280 and at 400 pixels,
// light and dark, the page runs no script and shows everything within its width.
func TestWatchPageLarge(t *testing.T) {
	b := browser(t)
	for _, n := range []int{5, 2000} {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			p := newProgram(t, "0", 1)
			p.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial.inputs]\nn = %d\n"+
				"[watch]\nevery = \"500h\"\n", n))
			p.file("shore/shore.star", `
n = input("n", kind.int)
for i in range(n):
    name = "log-%d" % i if i % 5 else "</script><script>hurt()</script><img/src=x/onerror=hurt()>%d" % i
    medina.bucket(name, name = "coast-%d" % i, tags = {"note": "a-text-without-an-end-" * 11})
`)
			p.file("rules/kept.star", `
def kept(r):
    return "%s <script>hurt()</script> keeps no versions, and says %s" % (r.address, "x" * 200)

rule("kept", each = kept, level = "warn", at = ["live"])
`)
			p.must("enact", "-yes", "-quiet")
			url, said, _ := p.watching()
			b.do(chromedp.EmulateViewport(1280, 800))
			require.Eventually(t, func() bool {
				b.do(chromedp.Navigate(url+"/alerts"), chromedp.WaitVisible("main"))
				return strings.Contains(says[string](b, `document.querySelector("main").innerText`), fmt.Sprintf("1 to %d of %d", min(n, 50), n))
			}, time.Minute, 100*time.Millisecond, said)
			for _, width := range []int64{1280, 400} {
				b.do(chromedp.EmulateViewport(width, 800))
				seen := map[string]string{}
				for _, scheme := range []string{"light", "dark"} {
					b.scheme(scheme)
					for _, path := range []string{"/", "/alerts", "/wards/trial/shore", ""} {
						if path == "" {
							b.do(chromedp.Navigate(url+"/alerts"), chromedp.WaitVisible("main"), chromedp.Click(".alerts a"), chromedp.WaitVisible(".facts"))
						} else {
							b.do(chromedp.Navigate(url+path), chromedp.WaitVisible("main"))
						}
						require.LessOrEqual(t, says[int](b, `document.documentElement.scrollWidth`), int(width), path)
						require.Zero(t, says[int](b, `document.scripts.length + document.images.length`), path)
					}
					seen[scheme] = says[string](b, `getComputedStyle(document.body).backgroundColor`)
				}
				require.NotEqual(t, seen["light"], seen["dark"])
			}
			b.mu.Lock()
			defer b.mu.Unlock()
			require.Empty(t, b.wrong)
		})
	}
}

// TestPrometheus: the monitoring program reads the metrics, and knows the watcher as up.
func TestPrometheus(t *testing.T) {
	t.Parallel()
	path, err := exec.LookPath("prometheus")
	if err != nil {
		t.Skip("Prometheus is not installed here; scripts/test installs it")
	}
	p := newProgram(t, "0", 1)
	p.file("kasbah.toml", p.read("kasbah.toml")+"\n[watch]\nevery = \"500h\"\n")
	p.must("enact", "-yes", "-quiet")
	url, said, _ := p.watching()
	dir := t.TempDir()
	config := filepath.Join(dir, "prometheus.yml")
	require.NoError(t, os.WriteFile(config, []byte("global: {scrape_interval: 1s}\nscrape_configs:\n- job_name: kasbah\n  static_configs:\n  - targets: ['"+
		strings.TrimPrefix(url, "http://")+"']\n"), 0o600))
	at := servertest.FreeAddress(t)
	var log heard
	server := exec.Command(path, "--config.file="+config, "--storage.tsdb.path="+dir, "--web.listen-address="+at)
	server.Stdout, server.Stderr = &log, &log
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	ask := func(query string) string {
		res, err := patient.Get("http://" + at + "/api/v1/query?query=" + query)
		if err != nil {
			return err.Error()
		}
		defer res.Body.Close()
		body := make([]byte, 1<<16)
		n, _ := res.Body.Read(body) // an answer that is cut holds nothing that is looked for
		return string(body[:n])
	}
	for query, want := range map[string]string{
		"up":                                   `"1"]`,
		"kasbah_healthy":                       `"1"]`,
		"kasbah_surveys_total":                 `"result":"done"`,
		"kasbah_driver_calls_total":            `"driver":"medina"`,
		"kasbah_resources":                     `"verdict":"matches"`,
		"kasbah_survey_duration_seconds_count": `"env":"trial"`,
	} {
		require.Eventually(t, func() bool { return strings.Contains(ask(query), want) }, time.Minute, 100*time.Millisecond,
			"%s: %s\n%s\n%s", query, ask(query), said, &log)
	}
}
