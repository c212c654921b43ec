package enact

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/propose"
)

// FuzzProposal: no file makes reading and planning a proposal panic, and what
// is accepted is planned with every step after those it waits for.
func FuzzProposal(f *testing.F) {
	f.Add([]byte(`{"format": "kasbah.proposal/1", "wards": [{"ward": "shore"}], "counts": {"new": 1, "drop": 1}, "actions": [
		{"ward": "shore", "address": "m.a/b", "action": "new", "needs": ["shore:m.a/c"], "plan": {"inputs": {"x": {"$pending": {"address": "shore:m.a/c", "path": "id"}}}}},
		{"ward": "shore", "address": "m.a/c", "action": "drop", "plan": {"seen": {"id": "1", "needs": ["shore:m.a/b"]}}}]}`))
	f.Add([]byte(`{"wards": [{"ward": "s"}], "counts": {"swap": 2}, "actions": [
		{"ward": "s", "address": "a", "action": "swap", "needs": ["s:b"], "plan": {"order": "drop-first", "seen": {"id": "", "leftovers": [{"id": "x"}], "needs": ["s:b"]}}},
		{"ward": "s", "address": "b", "action": "swap", "needs": ["s:a"], "plan": {"order": "create-first", "let_go": ["q"], "seen": {"id": "2", "needs": ["s:a"]}}}]}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		var p propose.Proposal
		if json.Unmarshal(body, &p) != nil || p.Check() != nil {
			return
		}
		steps, err := plan(&p)
		if err != nil {
			return
		}
		done := map[*step]bool{}
		for _, s := range steps {
			waits := 0
			for d := range done {
				for _, u := range d.after {
					if u == s {
						waits++
					}
				}
			}
			require.Equal(t, s.before, waits, s.name)
			done[s] = true
		}
	})
}
