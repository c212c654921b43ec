package problem

import (
	"encoding/json"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestProblems(t *testing.T) {
	p := At(Position{File: "shore/a.star", Line: 3, Column: 7}, "size is %d", 5)
	p.Address = "medina.disk/tape"
	require.Equal(t, "shore/a.star:3:7: medina.disk/tape: size is 5", p.Error())
	require.Equal(t, "shore/a.star:3", p.Position.Short())
	require.Equal(t, "", Position{}.String())
	require.Equal(t, "a.toml", Position{File: "a.toml"}.String())

	var l List
	l.Add(nil)
	require.NoError(t, l.Err())
	l.Add(&Problem{Level: Note, Message: "only a note"})
	l.Add(&Problem{Level: Warning, Message: "only a warning"})
	require.NoError(t, l.Err(), "notes and warnings stop nothing")
	l.Add(fmt.Errorf("around: %w", p))
	l.Add(errors.New("plain"))
	l.Add(List{At(Position{File: "a", Line: 9}, "z"), At(Position{File: "a", Line: 2, Column: 5}, "y"),
		At(Position{File: "a", Line: 2, Column: 5}, "y")})
	require.Equal(t, 5, l.Wrong())
	l.Sort()
	require.Len(t, l, 6, "exact doubles are told once")
	var said []string
	for _, p := range l {
		said = append(said, p.Error())
	}
	require.Equal(t, []string{"only a note", "only a warning", "plain", "a:2:5: y", "a:9: z",
		"shore/a.star:3:7: medina.disk/tape: size is 5"}, said)
	var list List
	require.ErrorAs(t, l.Err(), &list)
}

// TestExcuse: an excuse is read as it is written, and as older ledgers hold it.
func TestExcuse(t *testing.T) {
	for _, c := range []struct {
		name, json string
		is         Excuse
	}{
		{"as written", `{"reason":"spring, until the tide","until":"2031-12-31"}`, Excuse{"spring, until the tide", "2031-12-31"}},
		{"older", `"spring, until the tide, until 2031-12-31"`, Excuse{"spring, until the tide", "2031-12-31"}},
		{"without an end", `"spring"`, Excuse{"spring", ""}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var x Excuse
			require.NoError(t, json.Unmarshal([]byte(c.json), &x))
			require.Equal(t, c.is, x)
		})
	}
	body, err := json.Marshal(Excuse{"spring", "2031-12-31"})
	require.NoError(t, err)
	require.JSONEq(t, `{"reason":"spring","until":"2031-12-31"}`, string(body))
}
