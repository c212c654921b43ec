package survey

import (
	"slices"
	"strings"
	"time"

	"kasbah/core/value"
)

// Group is some resources of one type of which a survey says the same.
type Group struct {
	Resources   []*Resource // at least one; the first is an example of what is said
	By          []string    // who changed them, in the order of names
	First, Last *time.Time  // when; nil where the cloud does not say
}

// Groups puts resources together of which the same is said, in the order of the first of each,
// but for those that match.
func (r *Report) Groups() []*Group {
	var out []*Group
	at := map[string]*Group{}
	for _, res := range r.Resources {
		if res.Verdict == Matches && len(res.Security) == 0 {
			continue
		}
		key := res.says()
		g := at[key]
		if g == nil {
			g = &Group{}
			at[key] = g
			out = append(out, g)
		}
		g.add(res)
	}
	return out
}

// says is what a survey says of a resource but for its address and who changed it.
func (res *Resource) says() string {
	b := append([]byte(res.Verdict), ' ')
	b = append(append(b, res.Type...), ' ')
	b = append(append(b, res.Because...), '\n')
	for _, d := range res.Differences {
		b = append(append(b, d.Path...), ' ')
		b = value.Append(b, d.Expected.V)
		b = append(value.Append(append(b, ' '), d.Found.V), ' ')
		if d.Accepted != nil {
			b = append(b, d.Accepted.Until+d.Accepted.Why...)
		}
		b = append(b, '\n')
	}
	if res.Accepted != nil {
		b = append(b, res.Accepted.Until+res.Accepted.Why...)
	}
	return string(b) + strings.Join(res.Learned, " ") + "\n" + strings.Join(res.Security, " ")
}

func (g *Group) add(res *Resource) {
	g.Resources = append(g.Resources, res)
	note := func(who string, at *time.Time) {
		if at, known := slices.BinarySearch(g.By, who); !known && who != "" {
			g.By = slices.Insert(g.By, at, who)
		}
		if at == nil {
			return
		}
		if g.First == nil || at.Before(*g.First) {
			g.First = at
		}
		if g.Last == nil || at.After(*g.Last) {
			g.Last = at
		}
	}
	note(res.By, res.At)
	for _, d := range res.Differences {
		note(d.By, d.At)
	}
}
