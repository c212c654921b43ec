package declare_test

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
)

// TestWardsAtOnce: wards that read each other at random, in circles too, say the
// same however many are evaluated at once.
func TestWardsAtOnce(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(0))
	circles, right := 0, 0
	for seed := range uint64(30) {
		rnd := newRandom(seed)
		wards := 2 + rnd.IntN(5)
		files := map[string]string{"common/tags.star": "def tag(s):\n    return {\"ward\": s}\n"}
		for w := range wards {
			var b strings.Builder
			b.WriteString("load(\"/common/tags.star\", \"tag\")\n")
			fmt.Fprintf(&b, "net = medina.network(\"net\", range = \"10.%d.0.0/16\", tags = tag(ward))\nold = "+
				"medina.network.find(name = \"old\")\n", w)
			fmt.Fprintf(&b, "for i in range(%d):\n    medina.record(\"r-%%d\" %% i, name = \"r%%d.w%d.example\" %% "+
				"i, kind = \"TXT\", values = [net.id, old.gateway])\n", rnd.IntN(300), w)
			fmt.Fprintf(&b, "publish(\"first\", net.id)\n")
			for n := range rnd.IntN(3) {
				other := rnd.IntN(wards)
				if rnd.IntN(4) > 0 {
					other = rnd.IntN(w + 1) // no circle
				}
				if other == w {
					continue
				}
				fmt.Fprintf(&b, "v%d = published(\"w%d\", %q)\nmedina.record(\"read-%d\", name = "+
					"\"read%d.w%d.example\", kind = \"TXT\", values = [v%d])\n", n, other, rnd.of("first", "last",
					"last", "lats"), n, n, w, n)
			}
			b.WriteString("publish(\"last\", net.gateway)\n")
			files[fmt.Sprintf("w%d/a.star", w)] = b.String()
		}
		o := options(t, written(t, files), "trial")
		runtime.GOMAXPROCS(1)
		want := said(o)
		if strings.Contains(want, "wards read each other") {
			circles++
		} else if strings.Contains(want, "0 wrong") {
			right++
		}
		runtime.GOMAXPROCS(4)
		for range 3 {
			require.Equal(t, want, said(o), "seed %d", seed)
		}
	}
	require.Greater(t, circles, 2)
	require.Greater(t, right, 5)
}

// said is all that an evaluation says, as one text.
func said(o declare.Options) string {
	d, problems := declare.Evaluate(context.Background(), o)
	var b strings.Builder
	fmt.Fprintf(&b, "%d wrong\n%v\n", problems.Wrong(), full(problems))
	for _, r := range d.Resources {
		fmt.Fprintln(&b, r.Full(), r.Fingerprint(), r.NeedAddresses(), r.LooksBeyond())
	}
	for _, w := range d.Wards {
		fmt.Fprintln(&b, w.Name, w.Reads, len(w.Published))
	}
	fmt.Fprintln(&b, len(d.Finds))
	return b.String()
}
