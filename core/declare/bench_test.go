package declare_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
)

const station = `def _station(net, range_, many):
    quay = medina.subnet("quay", network = net, range = range_)
    for i in range(many):
        medina.machine("gauge-%d" % i, subnet = quay, size = "small", image = "stone-1", notes = "http://%s/readings" % quay.gateway)
    return quay.id
station = kit(_station, inputs = {"net": kind.handle("medina.network"), "range_": kind.cidr, "many": kind.int(default = 99)})
`

// BenchmarkEvaluate declares 100 001 resources by loops and 1 000 instances
// of a kit. Loops of the same size that declare nothing are the interpreter's
// own share.
func BenchmarkEvaluate(b *testing.B) {
	run := func(name string, files map[string]string, resources int) {
		b.Run(name, func(b *testing.B) {
			o := options(b, written(b, files), "trial")
			b.ReportAllocs()
			b.ResetTimer()
			for range b.N {
				d, problems := declare.Evaluate(context.Background(), o)
				require.Empty(b, problems.Wrong())
				require.Len(b, d.Resources, resources)
			}
		})
	}
	loop := "load(\"kit:station\", \"station\")\nnet = medina.network(\"net\", range = \"10.0.0.0/8\")\n" +
		"ids = [station(\"s-%d\" % i, net = net, range_ = cidr.slice(\"10.0.0.0/8\", 24, i)) for i in range(1000)]\n"
	run("kits", map[string]string{"kits/station/kit.star": station, "shore/shore.star": loop}, 100_001)
	bare := "def machine(name, subnet, size, image, notes):\n    return (name, subnet, size, image, notes)\n" +
		"for i in range(1000):\n    quay = cidr.slice(\"10.0.0.0/8\", 24, i)\n    for j in range(99):\n" +
		"        machine(\"gauge-%d\" % j, subnet = quay, size = \"small\", image = \"stone-1\", notes = " +
		"\"http://%s/readings\" % quay)\n"
	run("interpreter", map[string]string{"shore/shore.star": bare}, 0)
}
