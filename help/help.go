// Package help holds what the program says of itself beside its commands: their order by the day, pages, and which
// command does what a general verb asks for.
package help

import (
	"embed"
	"path"
	"slices"
	"strings"

	"kasbah/core/nearest"
)

// Group is commands that belong to one part of the day.
type Group struct {
	Name     string
	Commands []string // first words, in the order of the overview
}

// Groups are all commands by the day.
func Groups() []Group {
	return []Group{
		{"declare", []string{"start", "check", "tidy", "lsp", "rules", "steps", "kit", "types"}},
		{"look", []string{"map", "why", "affected", "published", "cost"}},
		{"change", []string{"propose", "review", "approve", "enact", "raze"}},
		{"share", []string{"ledger", "lock", "key"}},
		{"drift", []string{"survey", "settle", "adopt", "watch", "alerts"}},
		{"cloud", []string{"medina"}},
		{"the program", []string{"completion", "demo", "version", "help"}},
	}
}

//go:embed pages/*.txt
var pages embed.FS

// Pages lists the pages, each with its first line, which says what it is about.
func Pages() (names, about []string) {
	files, err := pages.ReadDir("pages")
	if err != nil {
		panic(err) // they are embedded
	}
	for _, f := range files {
		name := strings.TrimSuffix(f.Name(), ".txt")
		text, _ := Page(name)
		first, _, _ := strings.Cut(text, "\n")
		names, about = append(names, name), append(about, first)
	}
	return names, about
}

// Page is the text of a page, wrapped at 92 columns; false where there is none of that name.
func Page(name string) (string, bool) {
	body, err := pages.ReadFile(path.Join("pages", name+".txt"))
	return string(body), err == nil
}

// NearPage is the page that a mistyped or unfinished name means; "" for none.
func NearPage(name string) string {
	names, _ := Pages()
	names = append(names, "flags")
	for _, n := range names {
		if len(name) > 1 && strings.HasPrefix(n, name) {
			return n
		}
	}
	return nearest.To(name, names)
}

// meant says which commands do what a general verb asks for.
var meant = []struct {
	verbs []string
	says  string
}{
	{[]string{"deploy", "run", "execute", "rollout"}, "`kasbah enact` carries a change out, after showing it"},
	{[]string{"diff", "preview", "changes"}, "`kasbah propose` previews what would change; `kasbah ledger compare` compares two moments"},
	{[]string{"delete", "remove", "teardown"}, "take a resource out of the code and `kasbah enact`; `kasbah raze` removes everything in a ward"},
	{[]string{"state", "info"}, "`kasbah` alone shows how the estate stands; `kasbah ledger show` what is recorded"},
	{[]string{"status"}, "`kasbah` alone shows how the estate stands"},
	{[]string{"validate", "verify", "lint", "test"}, "`kasbah check` finds mistakes; `kasbah rules -test` tries the house rules, `kasbah ledger verify` checks a ledger"},
	{[]string{"format", "fmt"}, "`kasbah tidy` formats declarations"},
	{[]string{"import"}, "`kasbah adopt` brings existing things under management"},
	{[]string{"graph", "draw"}, "`kasbah map` draws the graph"},
	{[]string{"drift", "audit"}, "`kasbah survey` finds drift; `kasbah watch` does it by a schedule"},
	{[]string{"rollback", "undo", "revert"}, "`kasbah ledger restore` goes back to an earlier moment"},
	{[]string{"history", "log"}, "`kasbah ledger log` lists what runs have done"},
	{[]string{"unlock"}, "`kasbah lock break` takes the lock away from a dead run"},
	{[]string{"init", "create", "new"}, "`kasbah start DIR` writes a new estate"},
	{[]string{"update", "upgrade"}, "`kasbah kit update` updates kits; what is declared is brought about by `kasbah enact`"},
	{[]string{"list"}, "`kasbah map` lists what is declared, `kasbah ledger show` what is recorded"},
	{[]string{"show", "get"}, "`kasbah ledger show ADDRESS` shows what is recorded of a resource, `kasbah why` where its values come from"},
	{[]string{"explain"}, "`kasbah why` says where a value comes from, `kasbah help COMMAND` explains a command"},
	{[]string{"login", "auth"}, "`kasbah key new` keeps a credential"},
}

// Meant says which command does what a general verb asks for; "" where no verb is known.
func Meant(verb string) string {
	for _, m := range meant {
		if slices.Contains(m.verbs, strings.ToLower(verb)) {
			return m.says
		}
	}
	return ""
}
