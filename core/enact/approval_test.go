package enact_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"kasbah/core/approval"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/propose"
	"kasbah/core/store"
)

func newKey(t *testing.T) (ssh.Signer, string) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return s, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.PublicKey())))
}

// signed makes an estate in which keeper-2 must sign, and a proposal of every
// action that keeper-1 made and keeper-2 signed, as a file holds it.
func signed(t *testing.T) (*coast, []byte) {
	c := everyAction(t)
	key, public := newKey(t)
	own, ownPublic := newKey(t)
	c.byKey = ownPublic
	later := c.things["edited"].attrs["versions"]
	c.approval = &approval.Policy{Signatures: 1, Keys: map[string]string{"keeper-1": ownPublic, "keeper-2": public},
		Valid: "1h"}
	p := c.propose(false)
	require.True(t, p.ChangesPolicy())
	require.Empty(t, p.Approvals, "the policy that was asks for nothing")
	p.Actions = nil // of this one, the change of who must sign alone
	p.Counts = propose.Counts{}
	c.enact(p)
	require.Equal(t, later, c.things["edited"].attrs["versions"])
	body, err := c.propose(false).Seal()
	require.NoError(t, err)
	p, e, err := propose.ReadKept(body)
	require.NoError(t, err)
	require.Len(t, p.Approvals, 1)
	_, err = e.Sign(own)
	require.NoError(t, err)
	added, err := e.Sign(key)
	require.NoError(t, err)
	require.True(t, added)
	added, err = e.Sign(key)
	require.NoError(t, err)
	require.False(t, added, "signed before")
	body, err = json.MarshalIndent(e.Envelope, "", "  ")
	require.NoError(t, err)
	return c, body
}

// carryOut enacts what a file holds.
func (c *coast) carryOut(run string, body []byte, d driver.Driver, s store.Store) (*enact.Result, error) {
	p, e, err := propose.ReadKept(body)
	require.NoError(c.t, err)
	o := c.options(run, d, s)
	o.Envelope, o.JudgeLive = e, true
	return enact.Enact(context.Background(), p, o)
}

// goOnAfter kills a run of a signed proposal at a step, and takes the same
// file up again, as it is. It reports whether the run was long enough to die.
func goOnAfter(t *testing.T, at int, after bool, want map[string]string) bool {
	c, body := signed(t)
	m := &mortal{dieAt: at, after: after}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, _ = c.carryOut("doomed", body, &mortalDriver{c.drv, m}, &mortalStore{c.store, m}) // nobody hears of its end
	}()
	<-ended
	if !m.dead {
		return false
	}
	s, err := c.ledger().Load(context.Background())
	require.NoError(t, err)
	if len(s.Holders()) > 0 {
		require.NoError(t, c.ledger().Break(context.Background(), "doomed", "it was killed", ""))
	}
	spent := s.Proposals[firstID(t, body)] != nil && s.Proposals[firstID(t, body)].Spent
	if !spent { // it may have died after its end was written
		r, err := c.carryOut("morning", body, c.drv, c.store)
		require.NoError(t, err)
		require.Empty(t, r.Failures)
		require.Equal(t, "done", r.Outcome)
		require.Equal(t, r.Counts.Total, r.Counts.Done, "%+v", r.Counts)
	}
	require.Equal(t, want, c.picture())
	for _, a := range c.propose(false).Actions {
		require.Equal(t, propose.Same, a.Kind, "%s: %s %v", a.Address, a.Because, a.Changes)
	}
	by := map[bool]string{true: "doomed", false: "morning"}[spent]
	for _, again := range []string{"third", "fourth"} { // a run that was refused has carried out nothing
		_, err = c.carryOut(again, body, c.drv, c.store)
		require.ErrorContains(t, err, "run "+by+" has carried this proposal out")
	}
	v, err := c.ledger().Verify(context.Background())
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	return true
}

func firstID(t *testing.T, body []byte) string {
	p, _, err := propose.ReadKept(body)
	require.NoError(t, err)
	return p.ID
}

// TestGoOnUnderTheSameSignatures: killed before and after every append and
// every call, a run of a signed proposal goes on from there, without another
// signature, to the same cloud as an undisturbed one.
func TestGoOnUnderTheSameSignatures(t *testing.T) {
	oneByOne(t)
	c, body := signed(t)
	r, err := c.carryOut("undisturbed", body, c.drv, c.store)
	require.NoError(t, err)
	require.Equal(t, "done", r.Outcome, "%v", r.Failures)
	want := c.picture()
	stride := sample(1, 7, 11)
	steps := 0
	for at, alive := 1, false; !alive; at += stride {
		for _, after := range []bool{false, true} {
			if !t.Run(fmt.Sprintf("%d after %v", at, after), func(t *testing.T) {
				alive = !goOnAfter(t, at, after,
					want)
			}) {
				return
			}
		}
		steps = at
	}
	require.Greater(t, steps, 30)
}

// TestEveryByte: whatever byte of a kept or signed proposal is another one, it
// is refused.
func TestEveryByte(t *testing.T) {
	c, body := signed(t)
	p, e, err := propose.ReadKept(body)
	require.NoError(t, err)
	s, err := c.ledger().Load(context.Background())
	require.NoError(t, err)
	missing, err := p.Approve("shore", s.Approval, e)
	require.NoError(t, err)
	require.Empty(t, missing)
	plain, err := p.Seal()
	require.NoError(t, err)
	refuses := func(what string, body []byte) {
		p, e, err := propose.ReadKept(body)
		if err != nil {
			return
		}
		missing, err := p.Approve("shore", s.Approval, e)
		require.NoError(t, err)
		require.NotEmpty(t, missing, what)
	}
	for _, c := range []struct {
		name string
		of   []byte
	}{
		{"plain", plain},
		{"signed", body},
	} {
		t.Run(c.name, func(t *testing.T) {
			step := max(1, len(c.of)/sample(4000, 1500, 400))
			for at := 0; at < len(c.of); at += step {
				bit := byte(1) << (at / step % 8)
				other := append([]byte(nil), c.of...)
				other[at] ^= bit
				if c.name == "signed" {
					refuses(fmt.Sprintf("byte %d, bit %d", at, bit), other)
					continue
				}
				_, _, err := propose.ReadKept(other)
				require.Error(t, err, "byte %d, bit %d: %q", at, bit, c.of[max(0, at-20):min(len(c.of), at+20)])
			}
			for cut := 1; cut < len(c.of)-1; cut += 20 * step { // the newline at the end says nothing
				_, _, err := propose.ReadKept(c.of[:cut])
				require.Error(t, err)
			}
		})
	}
}

// TestWhoMaySign: one's own signature, a stranger's, one key under two names,
// a signature of other bytes, and one that comes too late.
func TestWhoMaySign(t *testing.T) {
	one, onePublic := newKey(t)
	two, twoPublic := newKey(t)
	stranger, _ := newKey(t)
	force := &approval.Policy{Signatures: 2, Keys: map[string]string{"keeper-1": onePublic, "keeper-2": twoPublic,
		"keeper-9": twoPublic}, Valid: "72h"}
	p := &propose.Proposal{
		Wards:   []propose.WardAt{{Ward: "shore"}},
		Actions: []*propose.Action{{Ward: "shore", Address: "medina.bucket/a", Kind: propose.Drop}},
		Head:    propose.Head{Format: propose.Format, By: "keeper-2", ByKey: onePublic},
	}
	e := approval.Wrap([]byte("{}"))
	says := func() string {
		s, err := p.Approve("shore", force, e)
		require.NoError(t, err)
		return s
	}
	require.Equal(t, "shore asks for 3 signatures (every change), one more because the proposer is not one of those "+
		"who may sign, and no one signed", says(), "nobody has signed as the proposer")
	sign := func(s ssh.Signer) {
		_, err := e.Sign(s)
		require.NoError(t, err)
	}
	sign(stranger)
	require.Contains(t, says(), "it is signed by a key that is not listed, SHA256:")
	sign(one)
	require.Equal(t,
		"shore asks for 2 signatures (every change), and it is signed by a key that is not listed, "+approval.Fingerprint(stranger.PublicKey()), says(), "one's own does not count, whatever name one goes by")
	sign(two)
	require.Contains(t, says(), "and only keeper-2 signed", "one key counts once")
	force.Signatures = 1
	require.Empty(t, says())
	_, p.ByKey = newKey(t)
	require.Empty(t, says(), "two have signed, one more than is asked for")
	force.Signatures = 2
	require.Contains(t, says(), "shore asks for 3 signatures (every change), one more because the proposer is not "+
		"one of those who may sign, and only keeper-1, keeper-2 signed")
	force.For = []string{"new", "data"}
	p.ByKey = twoPublic
	require.Empty(t, says(), "a drop that loses nothing needs none")
	p.Data = []string{"shore:medina.bucket/a"}
	require.Contains(t, says(), "shore asks for 2 signatures (data), and only keeper-1 signed")
	other := approval.Wrap([]byte("{ }"))
	other.Signatures = e.Signatures
	e = other
	require.Contains(t, says(), "that of keeper-1, keeper-2 is not over this proposal")
	require.WithinDuration(t, time.Now().Add(72*time.Hour), force.Ends(time.Now()), time.Minute)
}
