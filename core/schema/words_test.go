package schema

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestA(t *testing.T) {
	require.Equal(t, []string{"a machine", "an object", "a "}, []string{WithArticle("machine"), WithArticle("object"),
		WithArticle("")})
}
