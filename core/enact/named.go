package enact

import (
	"maps"
	"strings"

	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// Matching are the recorded addresses, with their wards, that match some patterns. A pattern
// that nothing matches is a *problem.UsageError.
func Matching(states map[string]*ledger.State, patterns []string) ([]string, error) {
	var chosen, known []string
	none := propose.NewPatterns(patterns).Search(func(yield func(string, string) bool) {
		for _, w := range value.Keys(states) {
			for _, address := range states[w].Addresses() {
				known = append(known, address)
				if !yield(w, address) {
					return
				}
			}
		}
	}, func(ward, address string) { chosen = append(chosen, value.InWard(ward, address)) })
	if none != "" {
		return nil, notRecorded(none, known)
	}
	return chosen, nil
}

func notRecorded(named string, known []string) error {
	_, short := value.SplitWard(named)
	return &problem.UsageError{Message: named + " is not recorded", Hint: nearest.Hint(short, known)}
}

// Renaming is what a rename was asked to do, with wards: ADDRESS ADDRESS, where the first may
// leave out its ward as long as one alone records it, and the second is in the same ward if it
// names none.
func Renaming(states map[string]*ledger.State, from, to string) (fullFrom, fullTo string, err error) {
	ward, short := value.SplitWard(from)
	var known []string
	for _, w := range value.Keys(states) {
		known = append(known, states[w].Addresses()...)
	}
	if ward == "" {
		for _, w := range value.Keys(states) {
			switch {
			case states[w].Records[short] == nil:
			case ward != "":
				return "", "", problem.Usage("%s is recorded in %s and in %s; write it with its ward", short, ward, w)
			default:
				ward = w
			}
		}
	}
	if ward == "" || states[ward] == nil || states[ward].Records[short] == nil {
		return "", "", notRecorded(from, known)
	}
	toWard, toShort := value.SplitWard(to)
	if toWard == "" {
		toWard = ward
	}
	if states[toWard] == nil {
		return "", "", &problem.UsageError{Message: "there is no ward " + toWard,
			Hint: nearest.Hint(toWard, value.Keys(states))}
	}
	r, err := states[ward].Records[short].Record()
	if err != nil {
		return "", "", err
	}
	if typ, name := typeIn(toShort); typ != r.Type || name == "" {
		return "", "", problem.Usage("%s is of type %s, and %s is not an address of that type", short, r.Type, toShort)
	}
	return value.InWard(ward, short), value.InWard(toWard, toShort), nil
}

// typeIn is the type and the name at the end of an address without its ward.
func typeIn(address string) (typ, name string) {
	parts := strings.Split(address, "/")
	if len(parts) < 2 {
		return "", ""
	}
	return parts[len(parts)-2], parts[len(parts)-1]
}

// UnfinishedScopes are the scopes, by ward, in which a run left calls without a result or still
// holds a lock. The run is named by its id or a part of it.
func UnfinishedScopes(states map[string]*ledger.State, id string) (map[string]ledger.Scope, error) {
	var ids []string
	for _, s := range states {
		for _, in := range s.Unresolved() {
			ids = append(ids, in.Run)
		}
		ids = append(ids, value.Keys(s.Open)...)
	}
	run, err := ledger.FindRun(ids, id)
	if err != nil {
		return nil, err
	}
	addresses := map[string][]string{}
	scopes := map[string]ledger.Scope{}
	for w, s := range states {
		if open := s.Open[run]; open != nil {
			scopes[w] = open.Begin.Scope
			continue
		}
		for _, in := range s.Intents {
			if in.Run == run {
				addresses[w] = append(addresses[w], in.Intent.Address)
			}
		}
	}
	maps.Copy(scopes, scopesOf(addresses))
	return scopes, nil
}
