package session

import (
	"errors"
	"io/fs"
	"slices"

	"golang.org/x/crypto/ssh"

	"kasbah/core/ledger"
	"kasbah/core/value"
	"kasbah/home"
)

// signer is the first key of this machine among some that may write.
func (s *Session) signer(among []string) (ssh.Signer, error) {
	home, err := s.config.Home()
	if err != nil {
		return nil, err
	}
	k, err := home.Writer(among)
	if err != nil || k == nil {
		return nil, err
	}
	return k.Signer()
}

// proposer is the key of this machine that signs what is proposed: one of those who may
// sign proposals, else one of those who may write, else the person's own; nil for none.
func (s *Session) proposer(states map[string]*ledger.State) (*home.SigningKey, error) {
	var sign, write []string
	for _, w := range s.Wards {
		if st := states[w]; st != nil && st.Approval != nil {
			for _, who := range value.Keys(st.Approval.Keys) {
				sign = append(sign, st.Approval.Keys[who])
			}
		}
		write = append(write, s.Estate.Writers(s.Env, w)...)
	}
	if len(sign)+len(write) == 0 {
		return nil, nil
	}
	home, err := s.config.Home()
	if err != nil {
		return nil, err
	}
	own, err := home.WriterPublic()
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	both := slices.DeleteFunc(slices.Clone(sign),
		func(k string) bool { return !(&ledger.Writers{Keys: write}).Lists(k) })
	if len(write) == 0 {
		both = sign
	}
	for _, among := range [][]string{both, write, {own}} {
		if k, err := home.Writer(among); err != nil || k != nil {
			return k, err
		}
	}
	return nil, nil
}

// proposerKey is the public key of who proposes; "" for none.
func (s *Session) proposerKey(states map[string]*ledger.State) (string, error) {
	k, err := s.proposer(states)
	if err != nil || k == nil {
		return "", err
	}
	return k.Public, nil
}
