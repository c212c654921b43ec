// Package kasbah_test holds the test of the walls between the packages.
package kasbah_test

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWalls walks the import graph: imports go one way only, from the
// command line to the core, and the core knows no interface, no store and no
// cloud.
func TestWalls(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(out)))
	count := 0
	for {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
		count++
		for _, to := range p.Imports {
			if wall := forbidden(strings.TrimPrefix(p.ImportPath, "kasbah/"), strings.TrimPrefix(to, "kasbah/"),
				to); wall != "" {
				t.Errorf("%s imports %s: %s", p.ImportPath, to, wall)
			}
		}
	}
	require.Greater(t, count, 15)
}

func forbidden(from, to, full string) string {
	in := func(path string, rooms ...string) bool {
		for _, r := range rooms {
			if path == r || strings.HasPrefix(path, r+"/") {
				return true
			}
		}
		return false
	}
	core := in(from, "core")
	switch {
	case core && (to == "flag" || to == "os/exec" || to == "os/signal" || to == "net/http" && from != "core/declare"):
		return "the core reads no flags, runs no programs and serves nothing"
	case !strings.HasPrefix(full, "kasbah/"):
		return ""
	case in(from, "core/store") && !in(to, "core/store"), in(from, "core/driver") && !in(to, "core/driver",
		"core/schema", "core/value"):
		return "a contract knows nothing of who keeps it"
	case core && !in(to, "core"):
		// the suites and the simulated cloud are test kits; go list gives no imports of tests
		return "the core imports nothing of ours outside of the core"
	case in(from, "render") && in(to, "cli", "editor", "medina", "demo", "stores", "drivers", "core/store"):
		return "render only draws results"
	case in(from, "page") && !in(to, "core", "render", "transport"):
		return "the watcher's page shows what it is given"
	case in(from, "stores") && !in(to, "stores", "core/store", "core/form", "transport"):
		return "stores know nothing of what they keep"
	case in(from, "transport") && !in(to, "core/disk"):
		return "a connection knows nothing of what uses it"
	case in(from, "home") && !in(to, "core"):
		return "what a machine keeps is for the core, and for sessions"
	case in(from, "kits") && !in(to, "core"):
		return "kits are opened for the core, and know nothing else"
	case in(from, "drivers") && !in(to, "drivers", "transport", "core/driver", "core/schema", "core/value",
		"core/nearest", "core/form", "core/environ", "core/disk", "program"):
		return "drivers know values, schemas and what a program gets, only"
	case in(from, "medina") && !in(to, "drivers", "transport", "core/driver", "core/schema", "core/value",
		"core/nearest", "core/problem", "core/disk"):
		return "the simulated cloud knows nothing of what uses it"
	case in(from, "session") && in(to, "cli", "render", "demo"):
		return "a session shows nothing"
	case in(from, "editor") && !in(to, "core", "session", "transport"):
		return "an editor is served from sessions"
	case in(from, "terminal") && !in(to, "render"):
		return "a stream knows nothing of what goes through it"
	case in(from, "complete") && !in(to, "core"):
		return "words are finished without a look at commands or estates"
	case in(from, "program") && strings.HasPrefix(full, "kasbah/"):
		return "a program that is run knows nothing of who runs it"
	case in(from, "dialogue") && !in(to, "core", "session", "render", "terminal", "demo"):
		return "a conversation knows nothing of commands"
	case in(from, "exit") && !in(to, "core", "render", "terminal"):
		return "how the program ends knows nothing of commands"
	case in(from, "flags") && !in(to, "core", "render"):
		return "a flag knows nothing of commands"
	case in(from, "cli") && in(to, "stores"):
		return "the command line opens stores by a session"
	case in(to, "cli") && from != "cmd/kasbah":
		return "only the program uses cli"
	}
	return ""
}

// TestSurfaceStaysSmall: the command line computes nothing, and its size shows when it begins to.
func TestSurfaceStaysSmall(t *testing.T) {
	files, err := filepath.Glob("cli/*.go")
	require.NoError(t, err)
	lines := 0
	for _, f := range files {
		body, err := os.ReadFile(f)
		require.NoError(t, err)
		lines += bytes.Count(body, []byte("\n"))
	}
	require.Greater(t, lines, 1000)
	require.Less(t, lines, 5000, "move what computes to session or core, and what draws to render")
}
