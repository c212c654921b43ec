package medina_test

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/drivertest"
	"kasbah/medina"
)

// mixes are all habits one by one, and in pairs: a share of the pairs, all with THOROUGH=1.
func mixes() (out [][]string) {
	n := 0
	for i, a := range medina.Habits {
		out = append(out, []string{a})
		for _, b := range medina.Habits[i+1:] {
			if n++; medina.CheckHabits([]string{a, b}) == nil && (os.Getenv("THOROUGH") != "" || n%5 == 0) {
				out = append(out, []string{a, b})
			}
		}
	}
	for _, lists := range []string{medina.SummaryLists, medina.ListOnly} { // nearly all at once
		out = append(out, slices.DeleteFunc(slices.Clone(medina.Habits), func(h string) bool {
			return h != lists && slices.Contains([]string{medina.IDLists, medina.SummaryLists, medina.ListOnly}, h) ||
				h == medina.NoTags
		}))
	}
	return out
}

// TestHabits: whatever habits a cloud has, and with any two of them at once, things of it are
// made, read, listed, edited and deleted as its document says.
func TestHabits(t *testing.T) {
	for _, habits := range mixes() {
		t.Run(strings.Join(habits, "+"), func(t *testing.T) {
			d := open(t, medina.Options{Habits: habits})
			drivertest.Run(t, d, conformance.Sample{
				Type: "role", Few: true,
				Inputs: func(n int) value.Map {
					return value.Map{"name": fmt.Sprint("r-", n),
						"grants": []any{value.Map{"may": "read", "on": "queue/*"}},
						"tags":   value.Map{"n": fmt.Sprint("x", n)}}
				},
				Edit: driver.Change{To: value.Map{"grants": []any{}, "tags": value.Map{"b": "c"}}},
			})
		})
	}
}

// TestNoSuchHabit: a habit that there is not, and two that exclude each other, are refused.
func TestNoSuchHabit(t *testing.T) {
	for _, c := range []struct {
		says   string
		habits []string
	}{
		{`no habit "no-tag"; did you mean "no-tags"?`, []string{"no-tag"}},
		{"exclude each other", []string{medina.NoTags,
			medina.WeakTags}},
		{"it has empty-answers", []string{"zzz"}},
	} {
		t.Run(c.says, func(t *testing.T) {
			_, err := medina.Open(medina.Options{Path: t.TempDir() + "/m.db", Habits: c.habits})
			require.ErrorContains(t, err, c.says)
			_, err = medina.Settings{API: "embedded", Options: medina.Options{Habits: c.habits}}.Driver("x")
			require.ErrorContains(t, err, c.says)
		})
	}
}
