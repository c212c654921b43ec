//go:build unix

package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/drivers/drivertest"
)

// TestSignals: the built program on an API whose things are never shown, in no list, or
// identified by two properties, from nothing to nothing.
func TestSignals(t *testing.T) {
	api := drivertest.NewSignals()
	var cut atomic.Pointer[string] // the method whose answer is lost
	l := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if m := cut.Load(); m != nil && *m == r.Method {
			api.ServeHTTP(httptest.NewRecorder(), r)
			cut.Store(nil)
			panic(http.ErrAbortHandler)
		}
		api.ServeHTTP(w, r)
	}))
	t.Cleanup(l.Close)
	lose := func(method string) { cut.Store(&method) }
	p := &program{t: t, dir: t.TempDir()}
	p.file("signals.yaml", drivertest.SignalsDocument)
	p.file("signals.overlay.yaml", drivertest.SignalsOverlay)
	p.file("kasbah.toml", fmt.Sprintf(`
estate = "lantern-coast"
wards  = ["shore"]
[ledger]
seal = "off"
[drivers.signals]
kind    = "openapi"
spec    = "signals.yaml"
overlay = "signals.overlay.yaml"
api     = %q
[env.trial]
`, l.URL+"/api"))
	declare := func(horn, loud, tone, watts string) {
		p.file("shore/shore.star", fmt.Sprintf(`
lamp = signals.lamp("west", quay = "west/1", no = 7, blink = "90m", rest = "P1D", watts = %s)
signals.alarm("horn", name = %q, tone = %q, loud = %s)
signals.note("fog", text = "fog at " + lamp.serial)
`, watts, horn, tone, loud))
	}
	holds := func(lamps, alarms, notes int) {
		t.Helper()
		a, b, c := api.Count()
		require.Equal(t, []int{lamps, alarms, notes}, []int{a, b, c})
	}
	declare("horn-1", "False", "low", "40")
	out := p.must("propose")
	require.Contains(t, strings.Join(strings.Fields(out), " "), "the cloud shows no signals.alarm, which is compared "+
		"with the record alone")
	p.must("enact", "-yes")
	holds(1, 1, 1)
	require.Contains(t, p.must("propose", "-exit-code"), "Nothing to do")
	out = p.must("survey", "-exit-code")
	require.Contains(t, out, "the cloud shows none of its type")
	require.Contains(t, out, "2 matches, 0 differs, 0 gone, 1 unchecked")

	declare("horn-1", "True", "low", "60")
	p.must("enact", "-yes")
	require.Contains(t, p.must("propose", "-exit-code"), "Nothing to do")

	// the cloud keeps the name taken, so a swap that keeps it is refused
	declare("horn-1", "True", "high", "60")
	out, code := p.run("propose")
	require.Equal(t, 5, code, out)
	require.Contains(t, strings.Join(strings.Fields(out), " "), "its cloud keeps the name of an alarm taken for 24h "+
		"once it is gone; give the new one another name")
	declare("horn-2", "True", "high", "60")
	p.must("enact", "-yes")
	holds(1, 1, 1)

	// what is not listed and not there is gone; a new one may have the same id
	for _, path := range []string{"/notes/" + api.Notes()[0], "/lamps/west%2F1/7"} {
		ask, err := http.NewRequest(http.MethodDelete, l.URL+"/api"+path, nil)
		require.NoError(t, err)
		answer, err := patient.Do(ask)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		require.Equal(t, http.StatusNoContent, answer.StatusCode)
	}
	out, code = p.run("survey", "-exit-code")
	require.Equal(t, 3, code, out)
	require.Contains(t, out, "2 gone")
	p.must("enact", "-yes")
	holds(1, 1, 1)

	// a swap of what keeps its id drops the old one first, or it would delete the new one
	require.Contains(t, p.must("enact", "-swap", "signals.lamp/west", "-yes"), "2 done")
	holds(1, 1, 1)
	require.Contains(t, p.must("propose", "-exit-code"), "Nothing to do")
	p.must("raze", "-yes")
	holds(0, 0, 0)

	// a lost create cannot be looked up; a lost edit and a lost deletion are sent again
	p.file("shore/shore.star", `signals.alarm("bell", name = "bell", tone = "low", loud = False)`)
	lose(http.MethodPost)
	out, code = p.run("enact", "-yes")
	require.Equal(t, 1, code, out)
	holds(0, 1, 0)
	out, code = p.run("enact", "-yes")
	require.NotZero(t, code, out)
	m := question.FindStringSubmatch(out)
	require.NotNil(t, m, out)
	holds(0, 1, 0)
	p.must("lock", "recover", m[1], "-made", m[2]+"="+api.Alarms()[0])
	require.Contains(t, p.must("propose", "-exit-code"), "Nothing to do")
	p.file("shore/shore.star", `signals.alarm("bell", name = "bell", tone = "low", loud = True)`)
	lose(http.MethodPut)
	p.must("enact", "-yes")
	require.Contains(t, p.must("propose", "-exit-code"), "Nothing to do")
	lose(http.MethodDelete)
	p.must("raze", "-yes")
	holds(0, 0, 0)

	out = p.must("types", "-prove", "signals.alarm", "-yes")
	require.Contains(t, out, "0 failed")
	out = p.must("types", "-prove", "signals.note", "-yes")
	require.Contains(t, out, "0 failed")
	holds(0, 0, 0)
}
