package ledger

import (
	"context"
	"strings"

	"kasbah/core/store"
)

// Place is where a store holds a ledger.
type Place struct{ Estate, Env, Ward string }

// Places lists the ledgers that a store holds, whoever's they are. It asks for one key of
// each, not for all.
func Places(ctx context.Context, s store.Store) ([]Place, error) {
	var out []Place
	for after := ""; ; {
		first := ""
		for key, err := range s.List(ctx, "", after) {
			if err != nil {
				return nil, err
			}
			first = key
			break
		}
		if first == "" {
			return out, nil
		}
		parts := strings.SplitN(first, "/", 4)
		if len(parts) < 4 { // no ledger's key
			after = first
			continue
		}
		if parts[3] != "" && (strings.HasPrefix(parts[3], "log/") || strings.HasPrefix(parts[3], "checkpoint/")) {
			out = append(out, Place{parts[0], parts[1], parts[2]})
		}
		after = strings.Join(parts[:3], "/") + "0" // the character after the slash: behind all keys of the ledger
	}
}
