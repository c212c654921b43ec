package estate

import (
	"strings"
)

// Key is a key of kasbah.toml.
type Key struct {
	Name string
	Help string
	// Table says that it begins a section of its own.
	Table bool
}

// keys are those of each section. NAME and WARD stand for any name.
var keys = map[string][]Key{
	"": {
		{Name: "estate", Help: "the estate's name"},
		{Name: "renamed_from", Help: "its former name"},
		{Name: "wards", Help: "its wards: folders, and patterns of them"},
		{Name: "names", Help: "pattern of the names of things: {estate}, {env}, {ward}, {name}"},
		{Name: "prices", Help: "a price book"},
		{Name: "ledger", Help: "where the ledgers are", Table: true},
		{Name: "drivers", Help: "the clouds", Table: true},
		{Name: "kits", Help: "the kits", Table: true},
		{Name: "inputs", Help: "inputs of all environments", Table: true},
		{Name: "env", Help: "the environments", Table: true},
		{Name: "limits", Help: "bounds of an evaluation", Table: true},
		{Name: "approval", Help: "who must agree to changes", Table: true},
		{Name: "survey", Help: "what a survey leaves out", Table: true},
		{Name: "watch", Help: "when surveys are made", Table: true},
		{Name: "notify", Help: "the receivers of alerts", Table: true},
		{Name: "step", Help: "programs that have a say", Table: true},
		{Name: "estates", Help: "other estates that are read", Table: true},
	},
	"estates.NAME": {
		{Name: "ledger", Help: "where its ledgers are, as in its own kasbah.toml"},
		{Name: "identity", Help: "the key that opens them: { env = \"…\" }, { file = \"…\" }, { run = […] }"},
		{Name: "env", Help: "which of its environments ours read"},
	},
	"step": {
		{Name: "name", Help: "of the step"},
		{Name: "at", Help: "stages: declared, proposed, before-enact, enacted, surveyed"},
		{Name: "run", Help: "the program and its arguments"},
		{Name: "level", Help: "what a finding does: warn or block"},
		{Name: "time", Help: "how long it may take, such as \"5m\""},
		{Name: "env", Help: "names of variables that it gets"},
		{Name: "only", Help: "patterns: { env = [\"live\"], ward = [\"shore\"] }"},
	},
	"step.only": {{Name: "env", Help: "patterns of environments"}, {Name: "ward", Help: "patterns of wards"}},
	"env.NAME": {
		{Name: "like", Help: "the environment that it takes everything from"},
		{Name: "ends", Help: "how long after its last run it is to go, such as \"72h\", or \"never\""},
		{Name: "renamed_from", Help: "its former name"},
		{Name: "inputs", Help: "inputs of the environment", Table: true},
		{Name: "ward", Help: "what holds in one ward", Table: true},
		{Name: "ledger", Help: "another place for the ledgers", Table: true},
		{Name: "drivers", Help: "other settings of drivers", Table: true},
		{Name: "kits", Help: "other versions of kits", Table: true},
		{Name: "secrets", Help: "where secrets come from", Table: true},
		{Name: "approval", Help: "who must agree to changes", Table: true},
		{Name: "adopt", Help: "things to adopt: address = id", Table: true},
		{Name: "watch", Help: "when surveys are made", Table: true},
	},
	"env.NAME.ward.WARD": {
		{Name: "inputs", Help: "inputs of the ward", Table: true},
		{Name: "writers", Help: "who may write its ledger"},
		{Name: "watch", Help: "when it is surveyed", Table: true},
	},
	"ward.toml": {
		{Name: "inputs", Help: "inputs of the ward", Table: true},
		{Name: "env", Help: "what holds in one environment", Table: true},
		{Name: "approval", Help: "who must agree to changes", Table: true},
		{Name: "notify", Help: "the receivers of alerts", Table: true},
	},
	"ward.toml env.NAME": {
		{Name: "inputs", Help: "inputs of the ward", Table: true},
		{Name: "approval", Help: "who must agree to changes", Table: true},
	},
	"limits": {
		{Name: "file_bytes", Help: "of one file"},
		{Name: "levels", Help: "of nested values"},
		{Name: "text_bytes", Help: "of one text"},
		{Name: "range", Help: "elements of one range"},
		{Name: "steps", Help: "of a ward's evaluation"},
		{Name: "seconds", Help: "of a ward's evaluation"},
		{Name: "heap_bytes", Help: "of memory"},
		{Name: "resources", Help: "of a ward"},
	},
	"prices": {{Name: "book", Help: "the file"}, {Name: "currency", Help: "such as EUR"}},
	"survey": {{Name: "ignore", Help: "patterns of addresses, each with a path"}},
	"watch":  {{Name: "every", Help: "a cron line, a span such as \"6h\", or \"never\""}, {Name: "zone", Help: "of a cron line, such as Europe/Lisbon"}},
	"notify": {
		{Name: "name", Help: "of the receiver"},
		{Name: "events", Help: "patterns of events"},
		{Name: "url", Help: "of a webhook"},
		{Name: "sign", Help: "the credential that signs"},
		{Name: "mail", Help: "addresses"},
		{Name: "from", Help: "the sender"},
		{Name: "server", Help: "that sends the mail"},
		{Name: "user", Help: "of the server"},
		{Name: "password", Help: "of the server"},
		{Name: "run", Help: "a program"},
	},
	"kits.NAME": {
		{Name: "git", Help: "the repository"},
		{Name: "tag", Help: "of the version"},
		{Name: "path", Help: "below the repository"},
		{Name: "folder", Help: "of a kit that is kept in one"},
	},
}

// KeysOf are the keys that a section of kasbah.toml can have, such as `env.trial`; nil where that depends on
// something else, or they are the person's own.
func KeysOf(section string) []Key {
	parts := strings.Split(section, ".")
	if section == "" {
		return keys[""]
	}
	if len(parts) > 2 && parts[0] == "env" && (parts[2] == "watch" || parts[2] == "kits") { // as without an environment
		return KeysOf(strings.Join(parts[2:], "."))
	}
	switch {
	case len(parts) == 2 && (parts[0] == "env" || parts[0] == "kits" || parts[0] == "estates"):
		parts[1] = "NAME"
	case len(parts) == 4 && parts[0] == "env" && parts[2] == "ward":
		parts[1], parts[3] = "NAME", "WARD"
	case len(parts) == 5 && parts[0] == "env" && parts[2] == "ward" && parts[4] == "watch":
		return keys["watch"]
	}
	return keys[strings.Join(parts, ".")]
}

// namesOf are the names of a section's keys.
func namesOf(section string) []string {
	var out []string
	for _, k := range keys[section] {
		out = append(out, k.Name)
	}
	return out
}
