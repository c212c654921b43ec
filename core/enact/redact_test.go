package enact

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
	"kasbah/driver"
)

// TestRedacted: secrets are taken out of an error, its problems and what wraps
// it, also where one begins another; what it is can be told still.
func TestRedacted(t *testing.T) {
	e := &executor{confided: map[string]bool{}}
	refused := &driver.Error{Message: "no word-of-the-keepers here", Problems: []driver.Problem{{Path: "notes", Message: "word is too short, word-of-the-keepers too long"}}}
	require.Equal(t, error(refused), e.redacted(refused), "nothing is known yet")
	e.confide(value.Map{"a": "word", "b": []any{"word-of-the-keepers"}, "c": int64(5), "short": "x"})
	err := e.redacted(fmt.Errorf("notes: %w", errors.Join(driver.ErrTag, refused)))
	require.NotContains(t, err.Error(), "word")
	require.Contains(t, err.Error(), "no (secret) here")
	require.ErrorIs(t, err, driver.ErrTag)
	var said *driver.Error
	require.ErrorAs(t, err, &said)
	require.Equal(t, "(secret) is too short, (secret) too long", said.Problems[0].Message)
	require.NoError(t, e.redacted(nil))
}

// TestRedactedParts: a cloud may cut what it repeats short, break it over lines, or write
// it in another form.
func TestRedactedParts(t *testing.T) {
	const word = `seven seas/are "hidden" here`
	r := newRedactor([]string{word})
	for said, want := range map[string]string{
		"password seven seas/are \"hid… is too weak":                        "password (secret)… is too weak",
		"…dden\" here is too weak":                                          "…(secret) is too weak",
		"first line: seven seas\nsecond line: /are \"hidden\"":              "first line: (secret)\nsecond line: (secret)",
		`{"value":"seven seas/are \"hidden\" here"}`:                        `{"value":"(secret)"}`,
		"GET /roles?password=seven+seas%2Fare+%22hidden%22+here":            "GET /roles?password=(secret)",
		"c2V2ZW4gc2Vhcy9hcmUgImhpZGRlbiIgaGVyZQ== is not a password":        "(secret)== is not a password",
		"736576656e20736561732f617265202268696464656e222068657265 is wrong": "(secret) is wrong",
		"a role has no password":                                            "a role has no password",
	} {
		require.Equal(t, want, r.text(said))
	}
}
