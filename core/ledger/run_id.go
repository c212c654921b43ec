package ledger

import (
	"slices"
	"strings"

	"github.com/oklog/ulid/v2"

	"kasbah/core/problem"
)

// shortRun is how many characters of a run's id tell it from others: its last ones, which are
// random.
const shortRun = 8

// ShortRun is as much of a run's id as tells it from others. It is a part of the id, so that
// a search for it finds the whole one.
func ShortRun(id string) string { return id[max(0, len(id)-shortRun):] }

// IsRun reports whether a run is called so: by its id, or how that begins or ends, four
// characters of it at least.
func IsRun(id, s string) bool {
	s = strings.ToUpper(s)
	return s == id || len(s) >= 4 && (strings.HasPrefix(id, s) || strings.HasSuffix(id, s))
}

// LooksLikeRun reports whether a text can be a run's id or a part of one: Crockford's base 32, as
// ULIDs are written, four characters at least.
func LooksLikeRun(s string) bool {
	const digits = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
	return len(s) >= 4 && len(s) <= len(ulid.ULID{}.String()) &&
		strings.Trim(strings.ToUpper(s), digits) == ""
}

// FindRun is the one of some runs that is called so; a *problem.UsageError where that is none
// or several.
func FindRun(ids []string, s string) (string, error) {
	hits := map[string]bool{}
	one := ""
	for _, id := range ids {
		if IsRun(id, s) {
			hits[id], one = true, id
		}
	}
	switch len(hits) {
	case 1:
		return one, nil
	case 0:
		return "", &problem.UsageError{Message: "no such run: " + s,
			Hint: "`kasbah lock` shows the runs that hold a lock"}
	}
	return "", problem.Usage("%s matches several runs; write more of the id", s)
}

// Newest are the parts, in the order of time, of the last so many runs; of all for 0. A run
// over several wards counts once.
func Newest(parts []*RunSummary, last int) []*RunSummary {
	if last <= 0 {
		return parts
	}
	newest := map[string]bool{}
	for _, r := range slices.Backward(parts) {
		if !newest[r.Run] && len(newest) == last {
			continue
		}
		newest[r.Run] = true
	}
	return slices.DeleteFunc(parts, func(r *RunSummary) bool { return !newest[r.Run] })
}
