package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
)

// affecting is finding which wards a changed file affects since a commit, against a check of the ward that is.
func (b *bench) affecting() ([]row, error) {
	dir, err := b.write("affected", b.n)
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := os.Setenv("GIT_CONFIG_GLOBAL", os.DevNull); err != nil { // what a person's git does besides is not measured
		return nil, err
	}
	for _, args := range [][]string{{"init", "-q"}, {"add", "."}, {"-c", "user.name=keeper-1", "-c",
		"user.email=keeper-1@lantern.example", "commit", "-q", "-m", "the coast"}} {
		cmd := exec.Command("git", args...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
	}
	file := filepath.Join(dir, wardName(3), "shore.star")
	body, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(file, bytes.Replace(body, []byte("ttl = 60"), []byte("ttl = 61"), 1), 0o644); err != nil {
		return nil, err
	}
	ours, floor, err := paired(b.times,
		func() (ran, error) { return b.program(dir, b.kasbah, "affected", "-since", "HEAD") },
		func() (ran, error) { return b.program(dir, b.kasbah, "check", wardName(3)) })
	return []row{{work: fmt.Sprintf("affected since a commit, %d resources in eight wards, one file changed", b.n),
		against: "`kasbah check` of the ward that is affected", took: ours.seconds, floor: floor.seconds,
		ratio: ours.ratio, bar: "1.5x"}}, err
}
