package openapi_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/drivers/openapi"
)

// TestFeed: whatever order an API tells its changes in, the newest come first, and no page is
// asked for that nobody needs.
func TestFeed(t *testing.T) {
	monday := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	event := func(hour int) string { // an edit of l-1 or l-2, each hour
		return fmt.Sprintf(`{"at": %q, "who": "keeper-%d", "what": "edited", "type": "lamp", "id": "l-%d", "changes": [{"path": "size"}]}`,
			monday.Add(time.Duration(hour)*time.Hour).Format(time.RFC3339), hour, 1+hour%2)
	}
	pages := func(hours ...[]int) []string {
		out := make([]string, len(hours))
		for i, page := range hours {
			events := make([]string, len(page))
			for j, hour := range page {
				events[j] = event(hour)
			}
			out[i] = `{"items": [` + strings.Join(events, ", ") + `, {"at": "never"}]}`
		}
		return out
	}
	for _, c := range []struct {
		name, changes string
		pages         []string
		which         driver.Events
		stop          int // after so many; 0 for never
		who           string
		asked         string // the first request's query
		atMost        int    // pages that are asked for: one is on its way while another is read
	}{
		{"oldest first", "/feed", pages([]int{1, 2}, []int{3, 4}), driver.Events{}, 0, "4 3 2 1", "", 2},
		{"in no order", "/feed", pages([]int{3, 1}, []int{4, 2}), driver.Events{}, 0, "4 3 2 1", "", 2},
		{"newest first", "{path: /feed, order: newest, query: {sort: -at}}", pages([]int{6, 5}, []int{4, 3}, []int{2, 1}),
			driver.Events{}, 0, "6 5 4 3 2 1", "sort=-at", 3},
		{"no further than is needed", "{path: /feed, order: newest}", pages([]int{6, 5}, []int{4, 3}, []int{2, 1}),
			driver.Events{}, 2, "6 5", "", 2},
		{"from a time on", "{path: /feed, order: newest}", pages([]int{6, 5}, []int{4, 3}, []int{2, 1}),
			driver.Events{Since: monday.Add(5 * time.Hour)}, 0, "6 5", "", 3},
		{"from a time on, oldest first", "{path: /feed, since: from}", pages([]int{1, 2, 3}),
			driver.Events{Since: monday.Add(2 * time.Hour)}, 0, "3 2", "from=2026-11-23T10%3A00%3A00Z", 1},
		{"of one thing, which the API does not heed", "/feed", pages([]int{1, 2, 3, 4}),
			driver.Events{Type: "lamp", ID: "l-2"}, 0, "3 1", "id=l-2", 1},
		{"of another type", "/feed", pages([]int{1, 2, 3, 4}), driver.Events{Type: "tower"}, 0, "", "", 1},
	} {
		t.Run(c.name, func(t *testing.T) {
			var asked []string
			d := open(t, lampDocument+"x-kasbah: {changes: "+c.changes+"}\n", func(w http.ResponseWriter, r *http.Request) {
				require.Equal(t, "/feed", r.URL.Path)
				asked = append(asked, r.URL.RawQuery)
				n := 0
				fmt.Sscan(r.URL.Query().Get("page"), &n)
				if n+1 < len(c.pages) {
					w.Header().Set("Link", fmt.Sprintf(`</feed?page=%d>; rel="next"`, n+1))
				}
				fmt.Fprint(w, c.pages[n])
			})
			var who []string
			for e, err := range d.Changes(context.Background(), c.which) {
				require.NoError(t, err)
				require.Equal(t, []string{"size"}, e.Paths)
				if who = append(who, strings.TrimPrefix(e.Who, "keeper-")); len(who) == c.stop {
					break
				}
			}
			require.Equal(t, c.who, strings.Join(who, " "))
			require.Equal(t, c.asked, asked[0])
			require.LessOrEqual(t, len(asked), c.atMost)
		})
	}

	t.Run("refused halfway", func(t *testing.T) {
		d := open(t, lampDocument+"x-kasbah: {changes: /feed}\n", func(w http.ResponseWriter, r *http.Request) {
			if r.URL.RawQuery != "" {
				w.WriteHeader(http.StatusForbidden)
				return
			}
			w.Header().Set("Link", `</feed?page=1>; rel="next"`)
			fmt.Fprint(w, pages([]int{1})[0])
		})
		var failed error
		for _, err := range d.Changes(context.Background(), driver.Events{}) {
			require.NoError(t, failed, "nothing follows an error")
			failed = err
		}
		require.ErrorContains(t, failed, "403")
	})

	for _, c := range []struct{ changes, words string }{
		{"{order: newest}", "path is missing in changes"},
		{"{path: /feed, order: latest}", `order in changes must be newest or oldest, not "latest"`},
		{"{path: /feed, form: x}", `x-kasbah has no key "form"`},
	} {
		t.Run(c.changes, func(t *testing.T) {
			_, err := openapi.New(openapi.Options{Document: []byte(lampDocument + "x-kasbah: {changes: " + c.changes + "}\n")})
			require.ErrorContains(t, err, c.words)
		})
	}
}
