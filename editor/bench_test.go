package editor

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// BenchmarkKeyPress is a check after a change of one ward of eight, in an estate of 10 000 resources.
func BenchmarkKeyPress(b *testing.B) {
	dir := b.TempDir()
	toml := "estate = \"coast\"\nwards = ["
	for i := range 8 {
		name := fmt.Sprintf("shore-%d", i)
		toml += fmt.Sprintf("%q, ", name)
		require.NoError(b, os.MkdirAll(filepath.Join(dir, name), 0o755))
		require.NoError(b, os.WriteFile(filepath.Join(dir, name, "shore.star"), []byte(`net = medina.network("coast", range = "10.0.0.0/8")
quay = medina.subnet("quay", network = net, range = "10.0.0.0/20")
machines = [medina.machine("gauge-%d" % i, subnet = quay, size = "tiny", image = "stone-1") for i in range(313)]
[medina.record("name-%d" % i, name = "n%d" % i, kind = "A", values = [machines[i % 313].address, machines[i * 7 % 313].address]) for i in range(935)]
`), 0o644))
	}
	toml += "]\n[drivers.medina]\nkind = \"medina\"\n[env.trial]\n"
	require.NoError(b, os.WriteFile(filepath.Join(dir, "kasbah.toml"), []byte(toml), 0o644))
	p := newProject(dir, open)
	defer func() { require.NoError(b, p.close()) }()
	file := "shore-3/shore.star"
	body, err := os.ReadFile(filepath.Join(dir, file))
	require.NoError(b, err)
	require.Empty(b, p.check(context.Background(), "trial")[0].problems)
	for b.Loop() {
		body = append(body, '#')
		p.setText(file, body)
		require.Empty(b, p.check(context.Background(), "trial")[0].problems)
	}
}
