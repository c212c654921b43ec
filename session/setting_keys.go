package session

import (
	"slices"

	"kasbah/core/value"
)

// driverKeys are the settings that drivers of a kind can have; those of kind process are the program's own.
var driverKeys = map[string][]string{
	"medina":   {"kind", "api", "path", "pace", "quota", "token", "ca", "rate", "habits"},
	"openapi":  openAPIKeys,
	"postgres": {"kind", "dsn"},
	"dns":      {"kind", "server", "zones", "key", "secret", "algorithm"},
	"process":  {"kind", "run"},
}

// DriverKinds are the kinds of drivers that kasbah.toml may name.
func DriverKinds() []string { return value.Keys(driverKinds) }

// DriverKeys are the settings that a driver of some kind can have; of any, for "".
func DriverKeys(kind string) []string {
	if kind != "" {
		return driverKeys[kind]
	}
	return []string{"kind"}
}

// StoreKinds are the kinds of stores that [ledger] may name.
func StoreKinds() []string {
	var out []string
	for _, k := range storeKinds {
		out = append(out, k.name)
	}
	return out
}

// LedgerKeys are the keys that [ledger] can have with a kind of store.
func LedgerKeys(kind string) []string {
	out := slices.Concat([]string{"store"}, sealKeys)
	for _, k := range storeKinds {
		if k.name == kind {
			out = append(out, k.keys...)
		}
	}
	return out
}
