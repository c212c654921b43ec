package declare

import (
	"runtime"
	"slices"
	"strconv"

	"golang.org/x/sync/errgroup"

	"kasbah/core/value"
)

// digest is what a proposal asks of every resource first.
type digest struct {
	needs []string // addresses, in byte order
	print value.Fingerprint
}

func (r *Resource) digested() *digest {
	if r.digest == nil {
		r.digest, _ = r.makeDigest(nil)
	}
	return r.digest
}

// NeedAddresses lists the addresses of what the resource needs, in byte order. The
// slice must not be changed.
func (r *Resource) NeedAddresses() []string { return r.digested().needs }

// Fingerprint digests the declaration: its inputs with pending values unresolved,
// its needs and its care.
func (r *Resource) Fingerprint() value.Fingerprint { return r.digested().print }

// LooksBeyond reports whether inputs are made from what is no resource: a secret, or
// a thing that is looked up. Those may change without any declaration.
func (r *Resource) LooksBeyond() bool {
	beyond := r.beyond
	if r.index == nil { // no evaluation has noted it
		value.Refs(r.Inputs(), func(ref value.Ref) {
			beyond = beyond || ref.Address != r.Full() && !slices.Contains(r.NeedAddresses(), ref.Address)
		})
	}
	return beyond
}

// makeDigest works in scratch, which it returns for the next one.
func (r *Resource) makeDigest(scratch []byte) (*digest, []byte) {
	d := &digest{needs: make([]string, 0, len(r.Needs))}
	for _, n := range r.Needs {
		d.needs = append(d.needs, n.Address)
	}
	slices.Sort(d.needs)
	scratch = r.appendDeclaration(scratch[:0], d.needs)
	d.print = value.FingerprintOf(scratch)
	return d, scratch
}

func (r *Resource) appendDeclaration(b []byte, needs []string) []byte {
	b = append(b, '[')
	b = append(value.AppendText(b, r.FullType()), ',')
	b = append(value.Append(b, r.Inputs()), ',')
	b = append(appendTexts(b, needs), ',')
	b = append(strconv.AppendBool(b, r.Care.Guard), ',')
	b = append(value.AppendText(b, r.Care.Swap), ',')
	var leave []string
	for _, p := range r.Care.Leave {
		leave = append(leave, p.String())
	}
	b = appendTexts(b, leave)
	if len(r.Care.Excuse) > 0 {
		excuse := value.Map{}
		for rule, x := range r.Care.Excuse {
			excuse[rule] = x.Reason + ", until " + x.Until
		}
		b = value.Append(append(b, ','), excuse)
	}
	if r.Care.AtDrop != "" {
		b = value.AppendText(append(b, ','), "at drop "+r.Care.AtDrop)
	}
	if r.Care.Timeout != 0 {
		b = value.AppendText(append(b, ','), r.Care.Timeout.String())
	}
	return append(b, ']')
}

func appendTexts(b []byte, list []string) []byte {
	b = append(b, '[')
	for i, s := range list {
		if i > 0 {
			b = append(b, ',')
		}
		b = value.AppendText(b, s)
	}
	return append(b, ']')
}

// digesting makes the digests of what is declared, in portions, beside the
// evaluation that declares more.
type digesting struct {
	workers errgroup.Group
	given   int // resources that were handed over
}

const portion = 512

func newDigesting() *digesting {
	d := &digesting{}
	d.workers.SetLimit(runtime.GOMAXPROCS(0))
	return d
}

// follow hands over what was declared since, a portion at a time.
func (d *digesting) follow(declared []*Resource) {
	if len(declared)-d.given >= portion {
		d.rest(declared)
	}
}

// rest hands over all of it.
func (d *digesting) rest(declared []*Resource) {
	list := declared[d.given:]
	d.given = len(declared)
	d.workers.Go(func() error {
		var scratch []byte
		for _, r := range list {
			r.digest, scratch = r.makeDigest(scratch)
		}
		return nil
	})
}

// wait hands over what is left, and returns once every digest is there.
func (d *digesting) wait(declared []*Resource) {
	d.rest(declared)
	_ = d.workers.Wait() // none of them fails
}
