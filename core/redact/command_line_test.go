package redact

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTypedLine: what is recorded of a command line holds no credential, and a shell
// reads it back as it was typed.
func TestTypedLine(t *testing.T) {
	settings := []string{"with", "to"}
	for _, c := range []struct {
		line string
		args []string
	}{
		{`kasbah enact shore -env trial`, []string{"enact", "shore", "-env", "trial"}},
		{`kasbah enact -with drivers.medina.bearer=… -yes`, []string{"enact", "-with", "drivers.medina.bearer=hush",
			"-yes"}},
		{`kasbah enact --with=drivers.medina.bearer=…`, []string{"enact", "--with=drivers.medina.bearer=hush"}},
		{`kasbah ledger move -to store=… -to dsn=…`, []string{"ledger", "move", "-to", "store=postgres",
			"-to", "dsn=postgres://keeper:hush@x/y"}},
		{`kasbah map -to medina.disk/tape`, []string{"map", "-to", "medina.disk/tape"}},
		{`kasbah enact -only 'medina.*/gauge' -why 'it'\''s "for" you'`, []string{"enact", "-only", "medina.*/gauge",
			"-why",
			`it's "for" you`}},
		{`kasbah review -- -with x=y`, []string{"review", "--", "-with", "x=y"}},
	} {
		t.Run(c.line, func(t *testing.T) {
			got := CommandLine(c.args, settings)
			require.Equal(t, c.line, got)
			require.NotContains(t, got, "hush")
		})
	}
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("sh is not installed")
	}
	odd := []string{"enact", "-input", `tags={"a": "b c"}`, "-why", "$HOME `x` \\ \n '", "", "*", "~"}
	out, err := exec.Command("sh", "-c",
		`kasbah() { for a in "$@"; do printf '%s\0' "$a"; done; }; `+CommandLine(odd, settings)).Output()
	require.NoError(t, err)
	require.Equal(t, strings.Join(odd, "\x00")+"\x00", string(out))
}
