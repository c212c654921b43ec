package main

import (
	"fmt"
	"os"
	"path/filepath"
)

// adopted is how many things are found, written down and proven.
const adopted = 10_000

// adopting is finding what no ledger records, writing code for it and proving that, against reading
// the same pages over HTTP and parsing them.
func (b *bench) adopting() ([]row, error) {
	small := *b
	small.n = adopted
	_, api, end, err := small.served()
	if err != nil {
		return nil, err
	}
	defer end()
	dir := filepath.Join(b.dir, "found")
	if err := os.MkdirAll(filepath.Join(dir, "shore"), 0o755); err != nil {
		return nil, err
	}
	toml := "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\n[env.trial]\n"
	if err := os.WriteFile(filepath.Join(dir, "kasbah.toml"), []byte(toml), 0o644); err != nil {
		return nil, err
	}
	ours, floor, err := paired(b.times, func() (ran, error) {
		return b.program(dir, b.kasbah, "adopt", "-from", "medina", "-ward", "shore", "-dry", "-with", "drivers.medina.api="+api)
	}, func() (ran, error) { return small.pages(api) })
	return []row{
		{work: fmt.Sprintf("adopt -from of %d things: found, written, proven", adopted), against: "reading the same pages over " +
			"HTTP and parsing them", took: ours.seconds, floor: floor.seconds, ratio: ours.ratio, bar: "4x"},
		{work: "its peak of memory", took: float64(ours.peak >> 20), unit: "MB"},
	}, err
}
