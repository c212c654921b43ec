package estate

import (
	"net/url"
	"path"
	"slices"
	"strings"

	"kasbah/core/alert"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Notify is a receiver that is told of alerts: one of URL, Mail and Run is set.
type Notify struct {
	Name     string
	Ward     string   // it gets the alerts of this one; "" for all
	Events   []string // patterns; none for all
	URL      any      // a text or a credential
	Sign     any      // a credential; nil for none
	Mail     []string
	From     string
	Server   string
	User     string
	Password any // a credential; nil for none
	Run      []string
	Position problem.Position
}

// notify reads the tables [[notify]].
func (r *reader) notify(v any) []Notify {
	var out []Notify
	names := map[string]bool{}
	for i, t := range r.tables("notify", v) {
		at := nth("notify", i)
		r.known(at, t, namesOf("notify")...)
		n := r.receiver(at, t)
		if names[n.Name] {
			r.wrong(at, "two receivers are called %q; give them names", n.Name)
		}
		names[n.Name] = true
		out = append(out, n)
	}
	return out
}

const credentials = "one of { env = \"…\" }, { key = \"…\" }, { file = \"…\" }, { run = […] }"

func (r *reader) receiver(at string, t value.Map) Notify {
	text := func(key string) string {
		s, ok := t[key].(string)
		if t[key] != nil && !ok {
			r.wrong(at, "%s must be a text, not %s", key, value.Plain(t[key]))
		}
		return s
	}
	texts := func(key string) []string {
		list, ok := t[key].([]any)
		var out []string
		for _, x := range list {
			s, isText := x.(string)
			ok = ok && isText && s != ""
			out = append(out, s)
		}
		if t[key] != nil && (!ok || len(out) == 0) {
			r.wrong(at, "%s must be a list of texts", key)
		}
		return out
	}
	n := Notify{Name: text("name"), URL: t["url"], Sign: t["sign"], From: text("from"), Server: text("server"), User: text("user"),
		Password: t["password"], Position: r.file.position(at)}
	ways := 0
	for _, key := range []string{"url", "mail", "run"} {
		if t[key] != nil {
			ways++
		}
	}
	if ways != 1 {
		r.wrong(at, "notify needs one of url, mail and run")
	}
	if n.Events = nil; t["events"] != nil {
		n.Events = texts("events")
	}
	for _, e := range n.Events {
		if fits := func(event string) bool { ok, err := path.Match(e, event); return ok && err == nil }; !slices.ContainsFunc(alert.Types(), fits) {
			r.wrong(at, "no event is called %q; the events are %s", e, strings.Join(alert.Types(), ", "))
		}
	}
	for key, v := range map[string]any{"sign": n.Sign, "password": n.Password} {
		if _, ok := ReadSource(v); v != nil && !ok {
			r.wrong(at, "%s must be %s", key, credentials)
		}
	}
	address, isText := n.URL.(string)
	if _, ok := ReadSource(n.URL); n.URL != nil && !ok && (!isText || address == "") {
		r.wrong(at, "url must be a text, or %s", credentials)
	} else if u, err := url.Parse(address); address != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "") {
		r.wrong(at, "url must begin with http:// or https:// and name a host")
	}
	if t["run"] != nil {
		n.Run = texts("run")
	}
	switch one, isOne := t["mail"].(string); {
	case t["mail"] == nil:
		if n.Server+n.From+n.User != "" || n.Password != nil {
			r.wrong(at, "server goes with mail, as do from, user and password")
		}
	case isOne && one != "":
		n.Mail = []string{one}
	default:
		if _, isList := t["mail"].([]any); !isList {
			r.wrong(at, "mail must be an address, or a list of them")
		} else {
			n.Mail = texts("mail")
		}
	}
	if t["mail"] != nil && n.Server == "" {
		r.wrong(at, "mail needs a server, such as server = \"smtp://mail.lantern.example:587\"")
	}
	if n.Name == "" {
		n.Name = n.called(address)
	}
	if n.From == "" && len(n.Mail) > 0 {
		n.From = n.Mail[0]
	}
	return n
}

// called is the name of a receiver that is given none.
func (n Notify) called(address string) string {
	switch {
	case len(n.Mail) > 0:
		return n.Mail[0]
	case len(n.Run) > 0:
		return n.Run[0]
	}
	if u, err := url.Parse(address); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return "webhook"
}
