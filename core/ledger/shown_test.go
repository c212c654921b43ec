package ledger

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

// TestShown: all records come in the order of addresses, from more parts than are decoded at once, and as the same
// JSON in both ways; the first that cannot be read ends them.
func TestShown(t *testing.T) {
	const n = 5*decodedAtOnce + 7
	s := &State{Records: map[string]*Stored{}}
	var plain bytes.Buffer
	in := &block{}
	in.open.Do(func() {})
	for i := range n {
		r := Record{Address: fmt.Sprintf("medina.bucket/b-%05d", i), ID: fmt.Sprint(i), Hidden: value.Attributes{"key": "tide"},
			Inputs: value.Attributes{"name": fmt.Sprint("coast-", i)}}
		body, err := json.Marshal(r)
		require.NoError(t, err)
		s.Records[r.Address] = &Stored{Address: r.Address, ID: r.ID, in: in, at: plain.Len(), size: len(body)}
		plain.Write(body)
	}
	in.plain = plain.Bytes()
	all := s.Shown(func(address string) bool { return !strings.HasSuffix(address, "7") })
	require.Equal(t, n-n/10, all.Len())
	last := ""
	for r, err := range all.All() {
		require.NoError(t, err)
		require.Less(t, last, r.Address)
		require.Equal(t, s.Records[r.Address].ID, r.ID)
		require.Empty(t, r.Hidden)
		require.Nil(t, s.Records[r.Address].record, "it is not kept")
		last = r.Address
	}
	whole, err := json.Marshal(all)
	require.NoError(t, err)
	var streamed bytes.Buffer
	require.NoError(t, jsonv2.MarshalWrite(&streamed, all))
	require.Equal(t, string(whole), streamed.String())
	require.Equal(t, all.Len(), strings.Count(string(whole), `"address"`))
	require.NotContains(t, string(whole), "tide")

	broken := fmt.Sprintf("medina.bucket/b-%05d", 2*decodedAtOnce)
	s.Records[broken].size += 1 << 30
	read := 0
	for r, err := range all.All() {
		if err != nil {
			require.ErrorContains(t, err, broken)
			require.Nil(t, r)
			break
		}
		require.Less(t, r.Address, broken)
		read++
	}
	require.Greater(t, read, decodedAtOnce)
	_, err = json.Marshal(all)
	require.ErrorContains(t, err, broken)
	require.ErrorContains(t, jsonv2.MarshalWrite(&streamed, all), broken)
}
