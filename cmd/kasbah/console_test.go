package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// serveMedina runs the estate's Medina on its own until the test ends.
func (p *program) serveMedina() string {
	cmd := p.command("medina", "serve", "-address", "127.0.0.1:0", "-plain", "-open", "-env", "trial")
	out, err := cmd.StdoutPipe()
	require.NoError(p.t, err)
	require.NoError(p.t, cmd.Start())
	p.t.Cleanup(func() {
		require.NoError(p.t, cmd.Process.Signal(os.Interrupt))
		_, _ = io.Copy(io.Discard, out)
		_ = cmd.Wait() // it was interrupted
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(p.t, err)
	return strings.TrimSpace(strings.TrimPrefix(line, "Medina at"))
}

// becomes waits until something holds in a page, also in the next one.
func (b *tab) becomes(what string) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		is, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](what))
		return err == nil && is // while one page follows another there is none
	}, time.Minute, 20*time.Millisecond, what)
}

// goes runs a script in the page that leads to another one, and waits for it.
func (b *tab) goes(script, place string) {
	b.t.Helper()
	says[bool](b, "(() => {document.body.dataset.left = 1; "+script+"; return true})()")
	b.becomes(fmt.Sprintf("!document.body.dataset.left && location.pathname + location.search === %q && "+
		"document.readyState === 'complete'", place))
}

const text = `document.querySelector("main").innerText`

// TestConsole: a colleague finds, edits, makes and deletes things in a browser, and
// the survey says what, and who it was.
func TestConsole(t *testing.T) {
	b := browser(t)
	p := newProgram(t, "0", 2)
	p.must("enact", "-yes")
	at := p.serveMedina()

	b.do(chromedp.Navigate(at + "/console/"))
	require.Contains(t, says[string](b, text), "2 machines")
	b.goes(`document.querySelector("[name=who]").value = "keeper-2"; document.querySelector("form.who").submit()`,
		"/console/")
	b.goes(`document.querySelector("header [name=q]").value = "gauge-0"; document.querySelector("form.search").submit()`, "/console/find?q=gauge-0")
	gauge := says[string](b, `document.querySelector("#things a").getAttribute("href")`)
	b.goes(`document.querySelector("#things a").click()`, gauge)
	require.Contains(t, says[string](b, text), "subnet trial-shore-quay-0 (sub-", "what it uses is a link")
	require.Contains(t, says[string](b, text), "disk trial-shore-tape-0 as machine", "and so is what uses it")
	b.goes(`document.querySelector("h1 a.button").click()`, gauge+"/edit")
	b.goes(`document.querySelector("[name=size]").value = "large"; document.querySelector("form.fields").submit()`,
		gauge+"?said=edited")
	require.Contains(t, says[string](b, text), "size: small → large")

	// what is in use stays, and the page says why
	other := strings.NewReplacer("1", "2", "2", "1").Replace(gauge)
	b.goes(`location.href = "`+other+`"`, other)
	says[bool](b,
		`(() => {window.confirm = () => true; document.querySelector("form[data-asks] button").click(); return true})()`)
	b.becomes(`location.search.includes("problem") && document.readyState === "complete"`)
	require.Contains(t, says[string](b, text), "is in use by disk trial-shore-tape-1")
	disk := says[string](b, `document.querySelector(".related a").getAttribute("href")`)
	b.goes(`location.href = "`+disk+`"`, disk)
	b.goes(`window.confirm = () => true; document.querySelector("form[data-asks] button").click()`,
		"/console/disk?said=deleted+"+strings.TrimPrefix(disk, "/console/disk/"))

	// a form with a mistake says which field it is in, and keeps what was typed
	b.goes(`location.href = "/console/bucket/new"`, "/console/bucket/new")
	says[bool](b,
		`(() => {document.querySelector("[name=name]").value = "-wrong-"; document.querySelector("[name=tags]").value = "{}"; document.querySelector("form.fields").submit(); return true})()`)
	b.becomes(`document.querySelector(".field.wrong .problem") !== null`)
	require.Equal(t, "-wrong-", says[string](b, `document.querySelector(".field.wrong input").value`))
	b.goes(`document.querySelector("[name=name]").value = "found-things"; document.querySelector("form.fields").submit()`, "/console/bucket/bkt-0001?said=made")

	var s struct {
		Resources []struct {
			Address, Verdict string
			Differences      []struct{ Path, By string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(p.must("survey", "-json", "-full")), &s))
	said := map[string]string{}
	for _, r := range s.Resources {
		if r.Verdict != "matches" {
			said[r.Address] = r.Verdict
			for _, d := range r.Differences {
				said[r.Address] += fmt.Sprintf(", %s by %s", d.Path, d.By)
			}
		}
	}
	require.Equal(t, map[string]string{"medina.machine/gauge-0": "differs, size by keeper-2",
		"medina.disk/tape-1": "gone"}, said)
	require.Equal(t, []string{"error: Failed to load resource: the server responded with a status of 422 " +
		"(Unprocessable Entity)"}, b.wrong, "the form with the mistake, and nothing else")
}

// TestConsoleWithoutScripts: forms work as they are, and only those of the console's
// own pages do.
func TestConsoleWithoutScripts(t *testing.T) {
	p := newProgram(t, "0.01", 1) // work takes time here
	p.must("enact", "-yes")
	at := p.serveMedina()
	post := func(path, from string, fields url.Values) (int, string, string) {
		req, err := http.NewRequest("POST", at+path, strings.NewReader(fields.Encode()))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		if from != "" {
			req.Header.Set("Origin", from)
		}
		client := &http.Client{CheckRedirect: func(*http.Request,
			[]*http.Request) error {
			return http.ErrUseLastResponse
		}}
		res, err := client.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(body), res.Header.Get("Location")
	}
	status, body, place := post("/console/bucket/new", at, url.Values{"name": {"by-hand"}, "public": {"false"},
		"versions": {"true"}})
	require.Equal(t, 303, status, body)
	require.Equal(t, "/console/bucket/bkt-0001?said=made", place, "it knows what is still being made")
	status, _, _ = post("/console/bucket/bkt-0001/delete", "https://elsewhere.example", nil)
	require.Equal(t, 403, status, "another page cannot press the button")
	status, body, _ = post("/console/network/new", at, url.Values{"name": {"<script>alert(1)</script>"},
		"range": {"10.0.0.0/16"}})
	require.Equal(t, 422, status)
	require.NotContains(t, body, "<script>alert")
	status, body, _ = post("/console/machine/mac-0001/edit", at, url.Values{"revision": {"7"}, "size": {"large"}})
	require.Equal(t, 422, status)
	require.Contains(t, body, "is at revision 1, not 7", "somebody else's edit in between is not overwritten")
	status, body, _ = post("/console/machine/mac-0001/edit", at, url.Values{"revision": {"1"}, "size": {"large"}})
	require.Equal(t, 303, status, body)
	status, body, _ = post("/console/machine/mac-0001/edit", at, url.Values{"revision": {"2"}, "tags": {"{no json"}})
	require.Equal(t, 422, status)
	require.Contains(t, body, "is not JSON")
	for _, none := range []string{"/console/boat", "/console/machine/mac-9999", "/console/machine/mac-9999/edit"} {
		res, err := patient.Get(at + none)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, 404, res.StatusCode)
		require.Equal(t, "text/html; charset=utf-8", res.Header.Get("Content-Type"))
	}
}
