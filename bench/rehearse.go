package main

import (
	"fmt"
)

// trying is a small estate of which nearly all changes with turn.
const trying = `
turn = input("turn", kind.text)
net = medina.network("coast", range = "10.0.0.0/8")
quays = [medina.subnet("quay-%d" % i, network = net, range = cidr.slice("10.0.0.0/8", 24, i)) for i in range(10)]
gauges = [medina.machine("gauge-%d" % i, subnet = quays[i % 10], size = "small", image = "stone-1", tags = {"turn": turn}) for i in range(500)]
[medina.disk("tape-%d" % i, machine = g, gigabytes = 10, tags = {"turn": turn}) for i, g in enumerate(gauges)]
`

// rehearsing is a proposal of 1 000 edits, and one of as many new resources, that is tried
// on the simulated cloud, against the same that is not.
func (b *bench) rehearsing() ([]row, error) {
	dir, err := b.files("rehearse", map[string]string{
		"shore/shore.star": trying, "kasbah.toml": "estate = \"coast\"\nwards = [\"shore\"]\n[ledger]\nseal = " +
			"\"off\"\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial]\n[env.new]\n",
	})
	if err != nil {
		return nil, err
	}
	if _, err := b.program(dir, b.kasbah, "enact", "-env", "trial", "-yes", "-quiet", "-input", "turn=1"); err != nil {
		return nil, err
	}
	var out []row
	for _, c := range []struct{ env, what string }{{"trial", "edits"}, {"new", "new resources"}} {
		propose := func(rehearse string) func() (ran, error) {
			return func() (ran, error) {
				return b.program(dir, b.kasbah, "propose", "-env", c.env, "-input", "turn=2", "-rehearse", rehearse)
			}
		}
		ours, floor, err := paired(4*b.times, propose("auto"), propose("never"))
		if err != nil {
			return nil, err
		}
		out = append(out, row{work: fmt.Sprintf("propose 1 000 %s, tried on the simulated cloud", c.what),
			against: "the same with `-rehearse never`", took: ours.seconds, floor: floor.seconds,
			ratio: ours.ratio, bar: "1.5x"})
	}
	return out, nil
}
