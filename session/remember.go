package session

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kasbah/core/declare"
	"kasbah/core/propose"
	"kasbah/core/recall"
	"kasbah/core/rules"
)

// fewest is how many resources a proposal must have to be remembered: fewer are
// evaluated in no time.
const fewest = 500

// remembering is what a command knows of the proposal that was remembered for the
// same wards.
type remembering struct {
	file  recall.File
	basis func() (string, error) // what this proposal is made from
	was   *propose.Remembered
}

// recall looks for what is remembered and still rests on the same declarations. It
// is nil where a proposal is not of the kind that is remembered. What cannot be read
// counts as nothing: then the whole proposal is made, and what is wrong is told there.
func (s *Session) recall(ctx context.Context, others *Others, r Request) *remembering {
	if len(s.Estate.Adoptions(s.Env)) > 0 { // what they take is not known from the declarations alone
		return nil
	}
	if s.config.Overlay != nil || r.Adopt != nil || r.Anew || r.Raze || len(r.Only)+len(r.Swap) > 0 || r.Run != "" {
		return nil
	}
	if len(s.Estate.Others()) > 0 || len(s.stepsAt(atDeclared)) > 0 { // these look at what is declared each time, and readings are noted
		return nil
	}
	basis, err := s.basis(ctx, others)
	if err != nil {
		return nil
	}
	m := &remembering{basis: basis, was: &propose.Remembered{}}
	var there bool
	if m.file, there = s.kept(append([]string{s.Env, strconv.FormatBool(r.Offline)}, s.Wards...)...); !there {
		return nil
	}
	same, err := m.file.Read(m.was)
	if same && err == nil {
		err = m.was.Whole()
	}
	if same && err == nil {
		same, err = s.unmoved(ctx, others, m)
	}
	if !same || err != nil {
		m.was = nil
	}
	s.forgot(err)
	return m
}

// kept is where something of the estate is kept; there is none on a machine without a place for it.
func (s *Session) kept(of ...string) (f recall.File, there bool) {
	dir, err := os.UserCacheDir()
	if err != nil {
		return f, false
	}
	program, err := s.programs.get(func() (string, error) {
		self, err := os.Executable()
		if err != nil {
			return "", err
		}
		is, err := os.Stat(self)
		if err != nil {
			return "", err
		}
		dir := filepath.Join(dir, "kasbah", "remembered")
		return digestOf(fmt.Sprintln(s.config.Identity.Program, is.Size(), is.ModTime().UnixNano())), recall.Sweep(dir)
	})
	return recall.File{Path: filepath.Join(dir, "kasbah", "remembered",
		digestOf(strings.Join(append([]string{s.Estate.Dir}, of...), "\x00"))), Program: program, Box: s.Box}, err == nil
}

// declarations remembers what wards declared; see declare.Memory.
type declarations struct {
	s    *Session
	work sync.WaitGroup // that keeps what was evaluated
	one  sync.Mutex     // one ward is kept at a time, for the sake of memory
}

func (d *declarations) file(ward string) (recall.File, bool) {
	return d.s.kept("declared", d.s.Env, ward)
}

// Recall is what was remembered of a ward last.
func (d *declarations) Recall(ward string) *declare.Remembered {
	f, there := d.file(ward)
	if !there {
		return nil
	}
	is := &declare.Remembered{}
	there, err := f.Read(is)
	if err != nil {
		d.s.detail("What %s declared the last time cannot be used, so it is evaluated: %v", ward, err)
	}
	if !there || err != nil {
		return nil
	}
	return is
}

// Remember keeps what a ward declared, beside what comes next.
func (d *declarations) Remember(ward string, is func() *declare.Remembered) {
	f, there := d.file(ward)
	if !there {
		return
	}
	d.work.Go(func() {
		d.one.Lock()
		defer d.one.Unlock()
		if m := is(); m != nil {
			if err := f.Write(m); err != nil {
				d.s.detail("What %s declares cannot be remembered, so it is evaluated each time: %v", ward, err)
			}
		}
	})
}

// forgot tells those who want to know more why a proposal is made again.
func (s *Session) forgot(err error) {
	if err != nil {
		s.detail("The last proposal that was remembered cannot be used, so everything is evaluated: %v", err)
	}
}

func digestOf(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }

// basis gathers what a proposal is made from, but for ledgers and the files of wards. It
// is digested when that is asked for: small estates have no use for it.
func (s *Session) basis(ctx context.Context, others *Others) (func() (string, error), error) {
	today := time.Now().Format(time.DateOnly) // before the rules look at the day
	o, err := s.Options(ctx, others)
	if err != nil {
		return nil, err
	}
	set, err := s.Rules(ctx)
	if err != nil {
		return nil, err
	}
	if len(set.Rules) == 0 { // no excuse ends
		today = ""
	}
	var from Source // that a rule may judge
	if set.JudgesWhole(rules.Declared) {
		from = s.Source(ctx)
	}
	return sync.OnceValues(func() (string, error) {
		declared, err := o.Basis()
		if err != nil {
			return "", err
		}
		return digestOf(fmt.Sprintln(declared, today, set.Files(), from)), nil
	}), nil
}

// unmoved reports whether what is remembered is made from the same things: the basis, the
// wards' files, and the ledgers of other wards.
func (s *Session) unmoved(ctx context.Context, others *Others, m *remembering) (bool, error) {
	now, err := m.basis()
	if err != nil || m.was.Basis != now {
		return false, err
	}
	o, err := s.Options(ctx, others)
	if err != nil {
		return false, err
	}
	files, err := m.was.Files()
	if err != nil {
		return false, err
	}
	for _, ward := range s.Wards {
		if same, err := o.Unmoved(ward, files[ward]); !same || err != nil {
			return false, err
		}
	}
	for ward, head := range m.was.Heads {
		if slices.Contains(s.Wards, ward) {
			continue
		}
		st, err := others.State(ctx, ward)
		if err != nil || st.Hash != head {
			return false, err
		}
	}
	return true, nil
}

// remember keeps a proposal for the next one, where it can be. Nothing is lost where
// it cannot.
func (s *Session) remember(m *remembering, p *Proposed, o propose.Options, others *Others) {
	if m == nil || len(p.Proposal.Actions) < fewest || slices.ContainsFunc(o.Declared.Wards, restsOnSecrets) {
		return
	}
	basis, err := m.basis()
	if err == nil {
		var was *propose.Remembered
		if was, err = p.Proposal.Remember(basis, o, others.Heads()); err == nil && was != nil {
			was.Remarks = p.Remarks
			err = m.file.Write(was)
		}
	}
	if err != nil {
		s.detail("The proposal cannot be remembered, so the next one evaluates everything: %v", err)
	}
}

// restsOnSecrets reports whether a ward's declarations hold what no digest shows to
// be the same.
func restsOnSecrets(w *declare.Ward) bool {
	for _, p := range w.Published {
		if p.Secret {
			return true
		}
	}
	return len(w.Secrets) > 0
}
