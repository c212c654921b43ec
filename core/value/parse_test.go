package value

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// decodedBefore is what encoding/json says of a document, as the reference: ours, with pending values, or another's.
func decodedBefore(body []byte, ours bool) (any, error) {
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.UseNumber()
	var v any
	err := dec.Decode(&v)
	if err != nil || !ours {
		if err == nil {
			v, err = Normal(v)
		}
		return v, err
	}
	return asOurs(v)
}

// errTwice is of a map in which two names become one: which of them counts is nobody's concern.
var errTwice = errors.New("a name is there twice")

func asOurs(v any) (any, error) {
	switch v := v.(type) {
	case []any:
		for i := range v {
			e, err := asOurs(v[i])
			if err != nil {
				return nil, err
			}
			v[i] = e
		}
		return v, nil
	case map[string]any:
		if p, ok := v[pendingKey]; ok {
			if len(v) > 1 {
				return nil, errors.New("a pending value stands alone")
			}
			body, err := json.Marshal(p)
			if err != nil {
				return nil, err
			}
			return decodePending(body)
		}
		out := make(Map, len(v))
		for k, e := range v {
			e, err := asOurs(e)
			if err != nil {
				return nil, err
			}
			k = strings.TrimPrefix(k, "$")
			if _, twice := out[k]; twice {
				return nil, errTwice
			}
			out[k] = e
		}
		return out, nil
	}
	return Normal(v)
}

// FuzzParse: Parse and Decode read what encoding/json reads, and refuse what it refuses.
func FuzzParse(f *testing.F) {
	for _, s := range []string{
		`{}`, `[]`, `null`, `"x"`, `1`, `-0`, `1e3`, `1.5`, `9223372036854775807`, `9223372036854775808`, `1e400`,
		`{"a":1,"a":{"b":[true,false,null]}}`,
		"{\"\xff\": \"\xfe\"}", `{"\u0061": "\ud83d\ude00", "b": "\ud800"}`, `{"a": 1} behind`, `{"a":`, `[1,]`, `{,}`,
		`{"a" 1}`, `tru`, ``, ` `, "\x00", `"\x"`, `{"a":1}}`,
		strings.Repeat("[", 9999) + strings.Repeat("]", 9999), strings.Repeat("[", 10001), `{"$call": 2}`, "\ufeff{}",
		"{\"a\":\"\x01\"}", `{"$pending":{"address":"a.b/c","path":"id"}}`, `{"$pending":{"address":"a.b/c"},"b":1}`,
		`{"b":1,"$pending":{"address":"a.b/c"}}`, `{"$pending":1}`, `{"$$pending":{"a":1},"$":2}`, `{"$a":1,"a":2}`,
		`{"a":[{"$pending":{"parts":[{"text":"x"},{"value":{"$pending":{"address":"a.b/c","path":"x[1]","secret":true}},"as":"json"}]}}]}`,
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		for _, ours := range []bool{false, true} {
			want, err := decodedBefore(body, ours)
			if errors.Is(err, errTwice) {
				return
			}
			got, err2 := parse(body, ours)
			if (err == nil) != (err2 == nil) {
				t.Fatalf("%q: encoding/json says %v, we say %v", body, err, err2)
			}
			if err == nil {
				require.Equal(t, want, got, "%q", body)
			}
		}
	})
}

func BenchmarkParse(b *testing.B) {
	var list []string
	for i := range 1000 {
		list = append(list,
			fmt.Sprintf(`{"id": "mac-%d", "name": "gauge-%d", "size": "small", "tags": {"turn": "1"}, "free": %d, "on": true, "values": ["10.0.0.%d"]}`, i, i, i, i))
	}
	body := []byte("[" + strings.Join(list, ",") + "]")
	b.Run("parse", func(b *testing.B) {
		for b.Loop() {
			_, _ = Parse(body)
		}
	})
	b.Run("before", func(b *testing.B) {
		for b.Loop() {
			_, _ = decodedBefore(body, false)
		}
	})
}
