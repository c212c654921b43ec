package ledger

import "kasbah/core/value"

// Log is the JSON form of a history.
type Log struct {
	Format string        `json:"format"`
	Runs   []*RunSummary `json:"runs"`
	Unread int64         `json:"unread,omitempty"` // entries that are sealed to keys which are not here
}

// Recorded is the JSON form of what is recorded, without secrets.
type Recorded struct {
	Format string         `json:"format"`
	Env    string         `json:"env"`
	Wards  []RecordedWard `json:"wards"`
}

// RecordedWard is a ward's part of it.
type RecordedWard struct {
	Ward      string  `json:"ward"`
	Entry     int64   `json:"entry"` // the newest one that it rests on
	Resources Records `json:"resources"`
}

// Export is all that is recorded, without secrets, for other programs.
type Export struct {
	Format string       `json:"format"`
	Estate string       `json:"estate"`
	Env    string       `json:"env"`
	Wards  []ExportWard `json:"wards"`
}

// ExportWard is a ward's part of it.
type ExportWard struct {
	Ward      string           `json:"ward"`
	Entry     int64            `json:"entry"`
	Hash      string           `json:"hash"`
	Published value.Attributes `json:"published"`
	Reads     []string         `json:"reads,omitempty"`
	Resources Records          `json:"resources"`
}

// ValuesDocument is the JSON form of what wards publish.
type ValuesDocument struct {
	Format string                      `json:"format"`
	Env    string                      `json:"env"`
	Wards  map[string]value.Attributes `json:"wards"`
	Order  []string                    `json:"-"` // of the wards
	// Users are who reads each, by ward and name, where that was asked for.
	Users map[string]map[string][]string `json:"users,omitempty"`
}

// HolderList is the JSON form of who holds which lock.
type HolderList struct {
	Format  string   `json:"format"`
	Env     string   `json:"-"`
	Holders []Holder `json:"holders"`
	// Unresolved are calls without a result, of runs that hold no lock any more.
	Unresolved []*OpenIntent `json:"-"`
}

// ResealedWards is the JSON form of what a reseal changed.
type ResealedWards struct {
	Format string         `json:"format"`
	Env    string         `json:"-"`
	Run    string         `json:"run"`
	Wards  []ResealedWard `json:"wards"`
}

// ResealedWard is a ward's part of it.
type ResealedWard struct {
	Ward    string `json:"ward"`
	Changed bool   `json:"changed"`
	Readers int    `json:"readers"`
	Signed  bool   `json:"-"` // later entries are signed
	Opened  bool   `json:"-"` // later entries are no longer sealed
}

// PrunedWards is the JSON form of what was pruned.
type PrunedWards struct {
	Format string       `json:"format"`
	Env    string       `json:"-"`
	Wards  []PrunedWard `json:"wards"`
}

// PrunedWard is a ward's part of it.
type PrunedWard struct {
	Ward string `json:"ward"`
	UpTo int64  `json:"up_to"` // the newest entry that is gone; 0 for none
}

// VerifiedWards is the JSON form of what a check of ledgers found, by ward.
type VerifiedWards struct {
	Format string               `json:"format"`
	Env    string               `json:"-"`
	Wards  map[string]*Verified `json:"wards"`
	Order  []string             `json:"-"` // of the wards
}
