package medina_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/medina"
)

// TestTrial: a rehearsal says of each call what the call itself then meets, with the ids
// that things get, and leaves nothing. Many calls are refused, some after they have
// written something.
func TestTrial(t *testing.T) {
	type m = map[string]any
	refused, accepted := 0, 0
	seeds := uint64(20)
	if testing.Short() {
		seeds = 4
	}
	for seed := range seeds {
		s, err := medina.Open(medina.Options{Path: filepath.Join(t.TempDir(), "m.db"),
			Quotas: map[string]int64{"disk": 12}})
		require.NoError(t, err)
		defer s.Close()
		ask := func(method, path string, body any) (int, m) {
			raw, err := json.Marshal(body)
			require.NoError(t, err)
			rec := httptest.NewRecorder()
			s.ServeHTTP(rec, httptest.NewRequest(method, "http://127.0.0.1"+path, bytes.NewReader(raw)))
			var out m
			if rec.Body.Len() > 0 {
				require.NoError(t, json.Unmarshal(rec.Body.Bytes(), &out), rec.Body.String())
			}
			return rec.Code, out
		}
		all := func() (out []any) {
			for _, plural := range []string{"networks", "subnets", "machines", "disks", "secrets", "events"} {
				rec := httptest.NewRecorder()
				s.ServeHTTP(rec, httptest.NewRequest("GET", "http://127.0.0.1/"+plural+"?limit=1000", nil))
				require.Equal(t, 200, rec.Code)
				out = append(out, rec.Body.String())
			}
			return out
		}
		rnd := rand.New(rand.NewPCG(seed, 1))
		few := func(prefix string, n int) string { return fmt.Sprintf("%s-%04d", prefix, 1+rnd.IntN(n)) }
		calls := []any{}
		for range 300 {
			call := []func() m{
				func() m {
					return m{"do": "create", "type": "network", "body": m{"name": few("net", 4),
						"range": "10.0.0.0/16"}}
				},
				func() m {
					return m{"do": "create", "type": "subnet", "body": m{"network": few("net", 4),
						"range": fmt.Sprintf("10.0.%d.0/29", rnd.IntN(12)), "zone": fmt.Sprintf("north-%d",
							1+rnd.IntN(2))}}
				},
				func() m {
					return m{"do": "create", "type": "machine", "body": m{"name": few("gauge", 30),
						"subnet": few("sub", 6), "size": "tiny", "image": "stone-1"}}
				},
				func() m {
					return m{"do": "create", "type": "disk", "body": m{"machine": few("mac", 12), "gigabytes": 1 +
						rnd.IntN(9), "zone": "north-1"}}
				},
				func() m {
					return m{"do": "create", "type": "secret", "body": m{"name": few("word", 5),
						"value": fmt.Sprint(rnd.IntN(9))}}
				},
				func() m {
					return m{"do": "update", "type": "disk", "id": few("dsk", 12),
						"body": m{"gigabytes": 1 + rnd.IntN(20)}}
				},
				func() m {
					return m{"do": "update", "type": "machine", "id": few("mac", 12),
						"body": m{"name": few("gauge", 30), "tags": m{"turn": fmt.Sprint(rnd.IntN(3))}}}
				},
				func() m {
					return m{"do": "update", "type": "secret", "id": few("sec", 5),
						"body": m{"value": fmt.Sprint(rnd.IntN(9))}}
				},
				func() m { return m{"do": "delete", "type": "machine", "id": few("mac", 12)} },
				func() m { return m{"do": "delete", "type": "disk", "id": few("dsk", 12)} },
				func() m { return m{"do": "delete", "type": "subnet", "id": few("sub", 6)} },
			}[rnd.IntN(11)]()
			calls = append(calls, call)
		}
		do := func(c m) (int, m) {
			path := "/" + c["type"].(string) + "s"
			method := map[string]string{"create": "POST", "update": "PATCH", "delete": "DELETE"}[c["do"].(string)]
			if id, ok := c["id"].(string); ok {
				path += "/" + id
			}
			return ask(method, path, c["body"])
		}
		for _, c := range calls[:60] { // what was there before
			do(c.(m))
		}
		calls = calls[60:]
		before := all()
		code, out := ask("POST", "/rehearsals", m{"calls": calls})
		require.Equal(t, 200, code, out)
		require.Equal(t, before, all(), "nothing stays")
		for i, r := range out["results"].([]any) {
			said, _ := r.(m)["refusal"].(m)
			code, is := do(calls[i].(m))
			if said == nil {
				accepted++
				require.Less(t, code, 300, "seed %d, call %d: %v: %v", seed, i, calls[i], is)
				continue
			}
			refused++
			require.Equal(t, said["status"], float64(code), "seed %d, call %d: %v: %v", seed, i, calls[i], is)
			require.Equal(t, said["detail"], is["detail"], "seed %d, call %d", seed, i)
		}
	}
	require.Greater(t, accepted, 25*int(seeds))
	require.Greater(t, refused, 25*int(seeds))
}
