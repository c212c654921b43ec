package enact

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// TestRedacted: secrets are taken out of an error, its problems and what wraps
// it, also where one begins another; what it is can be told still.
func TestRedacted(t *testing.T) {
	e := &executor{}
	refused := &driver.Error{Message: "no word-of-the-keepers here",
		Problems: []driver.Problem{{Path: "notes", Message: "word is too short, word-of-the-keepers too long"}}}
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
