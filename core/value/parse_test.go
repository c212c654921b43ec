package value

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzParse: Parse reads what encoding/json reads, and refuses what it refuses.
func FuzzParse(f *testing.F) {
	for _, s := range []string{
		`{}`, `[]`, `null`, `"x"`, `1`, `-0`, `1e3`, `1.5`, `9223372036854775807`, `9223372036854775808`, `1e400`,
		`{"a":1,"a":{"b":[true,false,null]}}`,
		"{\"\xff\": \"\xfe\"}", `{"\u0061": "\ud83d\ude00", "b": "\ud800"}`, `{"a": 1} behind`, `{"a":`, `[1,]`, `{,}`,
		`{"a" 1}`, `tru`, ``, ` `, "\x00", `"\x"`, `{"a":1}}`,
		strings.Repeat("[", 9999) + strings.Repeat("]", 9999), strings.Repeat("[", 10001), `{"$call": 2}`, "\ufeff{}",
		"{\"a\":\"\x01\"}",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		want, err := decode(body)
		if err == nil {
			want, err = Normal(want)
		}
		got, err2 := Parse(body)
		if (err == nil) != (err2 == nil) {
			t.Fatalf("%q: encoding/json says %v, Parse says %v", body, err, err2)
		}
		if err == nil {
			require.Equal(t, want, got, "%q", body)
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
			v, _ := decode(body)
			_, _ = Normal(v)
		}
	})
}
