package declare

import (
	"kasbah/core/value"
)

// former lists the addresses under which a resource may be recorded still: it,
// or instances around it, say that they were renamed. Each of them may have
// been renamed at another time, so that every mixture counts.
func former(r *Resource) []string {
	renamed := r.Care.RenamedFrom != ""
	for _, in := range r.Within {
		renamed = renamed || in.Former != ""
	}
	if !renamed {
		return nil
	}
	mixed := []string{value.InWard(r.Ward, "")}
	for _, in := range r.Within {
		mixed = each(mixed, in.Name+"/", in.Former, "/")
	}
	mixed = each(mixed, r.FullType()+"/"+r.Name, r.Care.RenamedFrom, "")
	var out []string
	for i := len(mixed) - 1; i >= 0; i-- { // what was renamed most comes first
		if mixed[i] != r.Full() {
			out = append(out, mixed[i])
		}
	}
	return out
}

// each goes on from every prefix by a name, and by a former one. A former name
// with a ward stands for itself, not below the prefix.
func each(prefixes []string, name, was, end string) []string {
	out := make([]string, 0, 2*len(prefixes))
	for _, p := range prefixes {
		out = append(out, p+name)
	}
	ward, _ := value.SplitWard(was)
	switch {
	case was == "":
	case ward != "":
		out = append(out, was+end)
	default:
		for _, p := range prefixes {
			out = append(out, p+was+end)
		}
	}
	return out
}
