package session

import (
	"fmt"
	"os"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// readSettings reads the keys of [ledger] and [drivers.*] given from outside the
// file: by -with, or by KASBAH_WITH_LEDGER_KEY and KASBAH_WITH_DRIVERS_NAME_KEY.
func readSettings(e *estate.Estate, given []string) (map[string]any, error) {
	out := map[string]any{}
	for _, pair := range os.Environ() {
		name, v, _ := strings.Cut(pair, "=")
		rest, ok := strings.CutPrefix(name, "KASBAH_WITH_")
		if !ok || v == "" {
			continue
		}
		rest = strings.ToLower(rest)
		if key, ok := strings.CutPrefix(rest, "ledger_"); ok {
			out["ledger."+key] = value.Typed(v)
		}
		for _, d := range e.Drivers() {
			if key, ok := strings.CutPrefix(rest, "drivers_"+strings.ReplaceAll(d, "-", "_")+"_"); ok {
				out["drivers."+d+"."+key] = value.Typed(v)
			}
		}
	}
	for _, w := range given {
		key, v, ok := strings.Cut(w, "=")
		parts := strings.Split(key, ".")
		known := ok && (len(parts) == 2 && parts[0] == "ledger" || len(parts) == 3 && parts[0] == "drivers")
		if !known {
			return nil, problem.Usage("-with must be ledger.KEY=VALUE or drivers.NAME.KEY=VALUE, not %q", w)
		}
		if len(parts) == 3 {
			found := false
			for _, d := range e.Drivers() {
				found = found || d == parts[1]
			}
			if !found {
				return nil, &problem.UsageError{Message: fmt.Sprintf("-with: no driver is called %q", parts[1]),
					Hint: nearest.Hint(parts[1], e.Drivers())}
			}
		}
		out[key] = value.Typed(v)
	}
	return out, nil
}
