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
	for line, args := range map[string][]string{
		`kasbah enact shore -env trial`: {"enact", "shore", "-env", "trial"},
		`kasbah enact -with drivers.medina.bearer=… -yes`: {"enact", "-with", "drivers.medina.bearer=hush",
			"-yes"},
		`kasbah enact --with=drivers.medina.bearer=…`: {"enact", "--with=drivers.medina.bearer=hush"},
		`kasbah ledger move -to store=… -to dsn=…`: {"ledger", "move", "-to", "store=postgres",
			"-to", "dsn=postgres://keeper:hush@x/y"},
		`kasbah map -to medina.disk/tape`: {"map", "-to", "medina.disk/tape"},
		`kasbah enact -only 'medina.*/gauge' -why 'it'\''s "for" you'`: {"enact", "-only", "medina.*/gauge", "-why",
			`it's "for" you`},
		`kasbah review -- -with x=y`: {"review", "--", "-with", "x=y"},
	} {
		got := CommandLine(args, settings)
		require.Equal(t, line, got)
		require.NotContains(t, got, "hush")
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
