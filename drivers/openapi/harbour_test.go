package openapi_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/drivertest"
	"kasbah/drivers/openapi"
	"kasbah/drivers/openapi/examples/harbour"
)

func openHarbour(t *testing.T) *openapi.Driver {
	s := httptest.NewServer((&harbour.API{Building: 5 * time.Millisecond}).Handler())
	t.Cleanup(s.Close)
	d, err := openapi.New(openapi.Options{
		Document: harbour.Document, Overlays: [][]byte{harbour.Overlay},
		Auth: openapi.Auth{Headers: map[string]openapi.Credential{"X-Harbour-Key": func(context.Context, bool) (string,
			error) {
			return harbour.Key, nil
		}}},
		Base: func(context.Context) (string, error) { return s.URL + "/api/v2", nil },
	})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func port(t *testing.T, d driver.Driver, code string) driver.Live {
	p, err := d.Create(context.Background(), "port", value.Map{"code": code, "depth": int64(9)}, "")
	require.NoError(t, err)
	return p
}

// TestHarbour drives an API that knows nothing of Kasbah by its document and an
// Overlay: each of its types passes the conformance suite.
func TestHarbour(t *testing.T) {
	letters := func(n int) string { return fmt.Sprintf("p%c%c%c", 'a'+n/676%26, 'a'+n/26%26, 'a'+n%26) }
	edit := func(name string, from, to any) driver.Change {
		return driver.Change{From: value.Map{name: from}, To: value.Map{name: to}}
	}
	for _, s := range []conformance.Sample{
		{Type: "port", Inputs: func(n int) value.Map {
			return value.Map{"code": letters(n), "depth": int64(4), "lights": []any{value.Map{"colour": "red"}}}
		}, Edit: edit("depth", int64(4), int64(6))},
		{Type: "dock", Inputs: func(n int) value.Map {
			return value.Map{"port_code": []string{"east", "west"}[n%2], "label": fmt.Sprint("dock ", n),
				"length": int64(20), "owner": value.Map{"name": "Ada Quill"}}
		}, Edit: edit("owner", value.Map{"name": "Ada Quill"}, value.Map{"name": "Bram Oar", "since": int64(1999)})},
		{Type: "crane", Inputs: func(n int) value.Map {
			return value.Map{"port": "east", "dock": int64(1), "tons": int64(5)}
		}},
		{Type: "pilot", Inputs: func(n int) value.Map {
			return value.Map{"name": fmt.Sprint("pilot ", n), "code": "4711", "contact": value.Map{"kind": "radio",
				"channel": int64(n)}, "grades": value.Map{"night": int64(2)}}
		}, Edit: driver.Change{
			From: value.Map{"grades": value.Map{"night": int64(2)}},
			To:   value.Map{"grades": value.Map{"fog": int64(3)}},
			All:  value.Map{"code": "4711", "grades": value.Map{"fog": int64(3)}},
		}},
	} {
		t.Run(s.Type, func(t *testing.T) {
			d := openHarbour(t)
			if s.Type == "dock" || s.Type == "crane" {
				port(t, d, "east")
				port(t, d, "west")
			}
			if s.Type == "crane" {
				_, err := d.Create(context.Background(), "dock", value.Map{"port_code": "east", "length": int64(7)}, "")
				require.NoError(t, err)
			}
			s.Few = s.Type != "port"
			drivertest.Run(t, d, s)
		})
	}
}

// TestHarbourRefusals: work that ends badly leaves nothing behind, and what the
// API says lands on attributes.
func TestHarbourRefusals(t *testing.T) {
	ctx, d := context.Background(), openHarbour(t)
	port(t, d, "east")
	_, err := d.Create(ctx, "dock", value.Map{"port_code": "east", "label": "sinking", "length": int64(7)}, "")
	require.EqualError(t, err, "the cloud took the work, and it ended as sunk: the ground is too soft")
	docks, err := d.Find(ctx, "dock", value.Map{"port_code": "east"})
	require.NoError(t, err)
	require.Empty(t, docks)

	_, err = d.Create(ctx, "dock", value.Map{"port_code": "east", "length": int64(500)}, "")
	var e *driver.Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, []driver.Problem{{Path: "length", Message: "must be 400 at most"}}, e.Problems)
	require.Equal(t, "no ship is as long as that", e.Message)

	dock, err := d.Create(ctx, "dock", value.Map{"port_code": "east", "length": int64(7)}, "")
	require.NoError(t, err)
	require.Equal(t, fmt.Sprint("east/", dock.Attributes["number"]), dock.ID, "its path takes two names")
	_, err = d.Create(ctx, "crane", value.Map{"port": "east", "dock": dock.Attributes["number"], "tons": int64(99)}, "")
	require.EqualError(t, err, "the cloud took the work, and it ended as failed: nothing lifts as much as that")
	require.Equal(t, driver.NotDone, driver.OutcomeOf(err))

	_, err = d.Create(ctx, "port", value.Map{"code": "east", "depth": int64(2)}, "")
	require.ErrorContains(t, err, "there is such a port", "a new one never takes another's place")
	_, err = d.Update(ctx, "crane", "c-1", driver.Change{}, "", "")
	require.ErrorContains(t, err, "cannot be edited")
	require.ErrorContains(t, d.Delete(ctx, "port", "east", "", ""), "port east has docks")
	for _, id := range []string{"", "east", "a/b/c", "%zz/1", "east/999"} {
		_, err = d.Read(ctx, "dock", id)
		require.ErrorIs(t, err, driver.ErrGone, id)
	}
}
