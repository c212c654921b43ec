package estate

import (
	"kasbah/core/problem"
	"kasbah/core/schedule"
	"kasbah/core/value"
)

// watched is a table that says when wards are surveyed.
type watched struct {
	every, zone string
	at          problem.Position
}

// never is the schedule of what is not surveyed.
const never = "never"

// watch reads such a table.
func (r *reader) watch(section string, v any) watched {
	t := r.table(section, v)
	r.known(section, t, namesOf("watch")...)
	out := watched{at: r.file.position(section + ".every")}
	text := func(key string) string {
		s, ok := t[key].(string)
		if t[key] != nil && !ok {
			r.wrong(section+"."+key, "%s must be a text, not %s", key, value.Plain(t[key]))
		}
		return s
	}
	out.every, out.zone = text("every"), text("zone")
	if out.every == "" || out.every == never {
		if out.zone != "" {
			if _, err := schedule.Parse("1h", out.zone); err != nil {
				r.wrong(section+".zone", "%v", err)
			}
		}
		return out
	}
	if _, err := schedule.Parse(out.every, out.zone); err != nil {
		r.wrong(section+".every", "%v", err)
	}
	return out
}

// Schedule is when a ward is surveyed in an environment: what is said of the ward, else of the
// environment, else of the estate. nil is for one that is not surveyed on a schedule.
func (e *Estate) Schedule(env, ward string) *schedule.Schedule {
	every, zone := "", ""
	tables := []watched{e.watch}
	for _, en := range e.sections(env) {
		tables = append(tables, en.watch)
	}
	for _, en := range e.sections(env) {
		tables = append(tables, en.watches[ward])
	}
	for _, t := range tables {
		if t.every != "" {
			every = t.every
		}
		if t.zone != "" {
			zone = t.zone
		}
	}
	if every == "" || every == never {
		return nil
	}
	s, err := schedule.Parse(every, zone)
	if err != nil { // each table was parsed when it was read
		return nil
	}
	return s.For(env, ward)
}
