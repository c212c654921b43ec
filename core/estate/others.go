package estate

import (
	"strings"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Other is another estate, of which what it publishes is read: [estates.NAME].
type Other struct {
	Name     string   // under which its ledgers are kept
	Ledger   Settings // as in its own kasbah.toml
	Identity any      // a credential: the key that opens its ledgers; nil for those of this machine
	Position problem.Position

	envs map[string]string // its environment by ours
}

// Others lists the other estates in byte order.
func (e *Estate) Others() []string { return value.Keys(e.others) }

// Other is another estate by its name; nil for none.
func (e *Estate) Other(name string) *Other { return e.others[name] }

// OtherEnv is the environment of another estate that one of ours reads: what [estates.NAME] says of ours, of the
// pattern that makes it or of what it is like, else the one of the same name.
func (e *Estate) OtherEnv(o *Other, env string) string {
	if of, said := o.envs[env]; said {
		return of
	}
	for en := e.environment(env); en != nil; en = en.base {
		if of, said := o.envs[en.name()]; said {
			return of
		}
	}
	return env
}

// otherEstates reads the tables [estates.NAME].
func (r *reader) otherEstates(v any, e *Estate) map[string]*Other {
	out := map[string]*Other{}
	all := r.table("estates", v)
	for _, name := range value.Keys(all) {
		at := "estates." + name
		r.name(at, name)
		if name == e.Name {
			r.wrong(at, "%s is this estate: published(\"WARD\", \"NAME\") reads its own wards", name)
		}
		t := r.table(at, all[name])
		r.known(at, t, namesOf("estates.NAME")...)
		o := &Other{Name: name, Ledger: r.ledger(at+".ledger", t["ledger"]), Identity: t["identity"],
			Position: r.file.position(at), envs: map[string]string{}}
		if o.Ledger["store"] == nil {
			r.wrong(at, "[%s] needs ledger, such as ledger = { store = \"file\", path = \"../%s/.kasbah/ledger\" }", at, name)
		}
		if _, is := ReadSource(o.Identity); o.Identity != nil && !is {
			r.wrong(at+".identity", "identity must be %s", credentials)
		}
		envs := r.table(at+".env", t["env"])
		for _, ours := range value.Keys(envs) {
			key := at + ".env." + ours
			if e.envs[ours] == nil && e.patterns[ours] == nil {
				r.wrong(key, "no environment is called %q", ours).Hint = nearest.HintOr(ours,
					append(e.Environments(), e.Patterns()...))
			}
			theirs, isText := envs[ours].(string)
			if !isText || !IsName(theirs) {
				r.wrong(key, "%s must be the name of an environment of %s", key, name)
			}
			o.envs[ours] = theirs
		}
		out[name] = o
	}
	return out
}

// SplitEstate splits `harbour:shore` into the other estate and its ward; estate is "" for a ward of one's own.
func SplitEstate(ward string) (estate, name string) {
	if estate, name, is := strings.Cut(ward, ":"); is {
		return estate, name
	}
	return "", ward
}
