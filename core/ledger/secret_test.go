package ledger_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// TestHidden: what was given from a secret and what the cloud has made stand in
// Hidden alone; the rest is compared without them.
func TestHidden(t *testing.T) {
	typ := &schema.Type{Name: "database", Attributes: []*schema.Attribute{
		{Name: "notes", Kind: schema.Text}, {Name: "size", Kind: schema.Text}, {Name: "code", Kind: schema.Text,
			Secret: true},
		{Name: "password", Kind: schema.Text, Secret: true, Output: true},
	}}
	word := &value.Pending{Ref: &value.Ref{Address: value.SecretAddress("word"), Secret: true}}
	declared := value.Map{"notes": value.Concat(value.Part{Text: "open: "}, value.Part{Value: word}), "code": word,
		"size": "s"}
	clear := value.Map{"notes": "open: hidden-1", "code": "hidden-1", "size": "s"}
	r := &ledger.Record{Address: "sea.database/log", Type: "sea.database", Inputs: value.CloneMap(clear)}
	r.Hide(declared)
	// the code is never shown
	r.Take(typ, "shore:sea.database/log", value.Map{"notes": "open: hidden-1", "size": "s", "password": "hidden-2"})
	shown, err := json.Marshal(r.Shown())
	require.NoError(t, err)
	require.NotContains(t, string(shown), "hidden")
	require.Equal(t, value.Attributes{"notes": "open: hidden-1", "code": "hidden-1", "password": "hidden-2"}, r.Hidden)
	require.True(t, value.Equal(r.Live["code"], word))
	v, ok := r.At(value.Path{value.Key("password")})
	require.True(t, ok)
	require.Equal(t, "hidden-2", v)
	require.Equal(t, clear, r.Reveal(value.Map(r.Inputs)))
	require.Equal(t, "s", value.Map(r.Inputs)["size"])

	live := value.Map{"notes": "open: hidden-1", "size": "s", "password": "hidden-2"}
	require.True(t, value.Equal(map[string]any(r.Live), r.Conceal(typ, live)), "all is as recorded")
	require.True(t, value.Equal(map[string]any(r.Live), r.Conceal(typ, value.Map(r.Live))),
		"concealed twice is concealed")
	live["notes"], live["password"] = "by hand", "other"
	now := r.Conceal(typ, live)
	require.False(t, value.Equal(now["notes"], r.Live["notes"]))
	require.False(t, value.Equal(now["password"], r.Live["password"]))
	require.True(t, value.IsSecret(now["notes"]) && value.IsSecret(now["password"]))
	require.Equal(t, "by hand", live["notes"], "what was given is left as it was")

	body, err := json.Marshal(r)
	require.NoError(t, err)
	var back ledger.Record
	require.NoError(t, json.Unmarshal(body, &back))
	require.Equal(t, r.Hidden, back.Hidden)
	require.True(t, value.Equal(map[string]any(r.Live), map[string]any(back.Live)))
}
