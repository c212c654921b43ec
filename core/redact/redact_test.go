package redact_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/redact"
)

// TestRedactedParts: a cloud may cut what it repeats short, break it over lines, or write
// it in another form.
func TestRedactedParts(t *testing.T) {
	const word = `seven seas/are "hidden" here`
	var r redact.Redactor
	require.Equal(t, word, r.Text(word), "nothing is known yet")
	r.Add(word)
	r.Add("a") // too short to be told from other words
	for _, c := range []struct{ said, want string }{
		{"password seven seas/are \"hid… is too weak", "password (secret)… is too weak"},
		{"…dden\" here is too weak", "…(secret) is too weak"},
		{"first line: seven seas\nsecond line: /are \"hidden\"", "first line: (secret)\nsecond line: (secret)"},
		{`{"value":"seven seas/are \"hidden\" here"}`, `{"value":"(secret)"}`},
		{"GET /roles?password=seven+seas%2Fare+%22hidden%22+here", "GET /roles?password=(secret)"},
		{"c2V2ZW4gc2Vhcy9hcmUgImhpZGRlbiIgaGVyZQ== is not a password", "(secret)== is not a password"},
		{"736576656e20736561732f617265202268696464656e222068657265 is wrong", "(secret) is wrong"},
		{"a role has no password", "a role has no password"},
	} {
		t.Run(c.said, func(t *testing.T) {
			require.Equal(t, c.want, r.Text(c.said))
		})
	}
}
