package openapi_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/drivertest"
	"kasbah/drivers/openapi"
)

// TestSignals: things that several properties identify, that are never shown, that are in no
// list, and whose values the API writes in its own way.
func TestSignals(t *testing.T) {
	api := drivertest.NewSignals()
	l := httptest.NewServer(api)
	t.Cleanup(l.Close)
	d, err := openapi.New(openapi.Options{
		Document: []byte(drivertest.SignalsDocument), Overlays: [][]byte{[]byte(drivertest.SignalsOverlay)},
		Base: func(context.Context) (string, error) { return l.URL + "/api", nil },
	})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	for typ, inputs := range map[string]func(n int) value.Map{
		"lamp": func(n int) value.Map {
			return value.Map{"quay": "west/1", "no": int64(n), "blink": "90m", "rest": "P1D"}
		},
		"alarm": func(n int) value.Map { return value.Map{"name": fmt.Sprint("horn-", n), "tone": "low"} },
		"note":  func(n int) value.Map { return value.Map{"text": fmt.Sprint("fog ", n)} },
	} {
		edit := map[string]value.Map{"lamp": {"watts": int64(40)}, "alarm": {"loud": true}, "note": {"text": "clear",
			"keeper": "two"}}[typ]
		t.Run(typ, func(t *testing.T) {
			drivertest.Run(t, d, conformance.Sample{Type: typ, Inputs: inputs, Edit: driver.Change{To: edit},
				Few: true})
		})
	}
	lamps, alarms, notes := api.Count()
	require.Zero(t, lamps+alarms+notes, "nothing is left")
	made, err := d.Create(context.Background(), "lamp", value.Map{"quay": "west/1", "no": int64(7), "blink": "5400s"},
		"")
	require.NoError(t, err)
	require.Equal(t, "west%2F1/7", made.ID)
	require.Equal(t, value.Map{"quay": "west/1", "no": int64(7), "blink": "90m", "serial": "s/west/1/7"},
		made.Attributes)
}

// TestWrongWords: what is wrong in an x-kasbah is told with its key, in words of our own.
func TestWrongWords(t *testing.T) {
	for _, c := range []struct {
		was string
		c   struct{ is, words string }
	}{
		{"type: lamp,", struct{ is, words string }{"type: lamp, pages: foo,",
			"path /lamps: x-kasbah pages: foo is a text, and a table " +
				"belongs there"}},
		{"type: alarm,", struct{ is, words string }{"type: alarm, holds-data: maybe,",
			"path /alarms: x-kasbah holds-data: maybe is a " +
				"text, and true or false belongs there"}},
		{"type: note,", struct{ is, words string }{"type: note, parents: [a],",
			"path /notes: x-kasbah parents: a list stands there, " +
				"and a table belongs there"}},
		{"id: [quay, no]", struct{ is, words string }{"id: {a: b}", "x-kasbah id: a table stands there, and a list " +
			"belongs there"}},
		{"same: duration", struct{ is, words string }{"same: upper",
			`x-kasbah properties: same: "upper" is none of lower, duration`}},
		{"[quay, no], ", struct{ is, words string }{"[quay, nope], ",
			`there is no property "nope", that identifies it`}},
		{"id: [quay, no],", struct{ is, words string }{"id: [a, b, quay, no],",
			"x-kasbah id names 4 properties, and the path " +
				"/lamps/{quay}/{no} has 2 parameters"}},
		{"name-stays: 24h", struct{ is, words string }{"name-stays: soon",
			`x-kasbah name-stays: "soon" is neither always nor a time such as 168h`}},
		{"read: none", struct{ is, words string }{"read: none, status: {at: x}", "what nothing shows has no status"}},
		{"lists: none", struct{ is, words string }{"lists: none, read: list",
			"where nothing lists them, nothing can be read from a list"}},
		{"x-kasbah: {type: not", struct{ is, words string }{"x-kasbah: {tipe: not", `x-kasbah has no key "tipe"`}},
	} {
		t.Run(c.was, func(t *testing.T) {
			over := strings.Replace(drivertest.SignalsOverlay, c.was, c.c.is, 1)
			require.NotEqual(t, drivertest.SignalsOverlay, over)
			_, err := openapi.New(openapi.Options{Document: []byte(drivertest.SignalsDocument),
				Overlays: [][]byte{[]byte(over)}})
			require.ErrorContains(t, err, c.c.words)
			require.NotContains(t, err.Error(), "construct")
		})
	}
}
