package cli

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/propose"
	"kasbah/core/seal"
)

// fewest is how many resources a proposal must have to be remembered: fewer are
// evaluated in no time.
const fewest = 500

const rememberedFormat = "kasbah.remembered/1"

// remembering is what a command knows of the proposal that was remembered for the
// same wards.
type remembering struct {
	file  string                 // where it is kept
	basis func() (string, error) // what this proposal is made from
	was   *propose.Remembered
}

// recall looks for what is remembered and still rests on the same declarations. It
// is nil where a proposal is not of the kind that is remembered. What cannot be read
// counts as nothing: then all is made anew, and what is wrong with it told there.
func (a *app) recall(ctx context.Context, p *project, f proposeFlags) *remembering {
	if f.anew || f.raze || len(f.only)+len(f.swap) > 0 || p.holding != "" {
		return nil
	}
	dir, err := os.UserCacheDir()
	if err != nil {
		return nil // a machine without a place for it
	}
	basis, err := a.basis(ctx, p)
	if err != nil {
		return nil
	}
	of := strings.Join(append([]string{p.estate.Dir, p.env, strconv.FormatBool(f.offline)}, p.wards...), "\x00")
	r := &remembering{file: filepath.Join(dir, "kasbah", "remembered", digestOf(of)), basis: basis}
	body, err := os.ReadFile(r.file)
	if errors.Is(err, fs.ErrNotExist) {
		return r
	}
	if err == nil {
		r.was, err = p.readRemembered(body)
	}
	if err == nil {
		var now string
		if now, err = r.basis(); r.was.Basis != now {
			r.was = nil
		}
	}
	if err == nil && r.was != nil {
		var same bool
		if same, err = a.unmoved(ctx, p, r.was); !same {
			r.was = nil
		}
	}
	a.forgot(err)
	return r
}

// forgot tells those who want to know more why a proposal is made anew.
func (a *app) forgot(err error) {
	if err != nil && a.verbose {
		a.say("What is remembered of the last proposal cannot be used, so this one is made anew: %v", err)
	}
}

func digestOf(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }

// basis gathers what a proposal is made from, but for ledgers and the files of wards. It
// is digested when that is asked for: small estates have no use for it.
func (a *app) basis(ctx context.Context, p *project) (func() (string, error), error) {
	today := time.Now().Format(time.DateOnly) // before the rules look at the day
	o, err := a.declareOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	if err := p.loadRules(ctx, o).Err(); err != nil {
		return nil, err
	}
	if len(p.rules.Rules) == 0 { // no excuse ends
		today = ""
	}
	return sync.OnceValues(func() (string, error) {
		declared, err := o.Basis()
		if err != nil {
			return "", err
		}
		self, err := os.Executable()
		if err != nil {
			return "", err
		}
		program, err := os.Stat(self)
		if err != nil {
			return "", err
		}
		return digestOf(fmt.Sprintln(declared, version(), program.Size(), program.ModTime().UnixNano(), today, p.rules.Files())), nil
	}), nil
}

// unmoved reports whether the wards' files are as they were, and so are the ledgers of
// other wards.
func (a *app) unmoved(ctx context.Context, p *project, was *propose.Remembered) (bool, error) {
	o, err := a.declareOptions(ctx, p)
	if err != nil {
		return false, err
	}
	files, err := was.Files()
	if err != nil {
		return false, err
	}
	for _, ward := range p.wards {
		if same, err := o.Unmoved(ward, files[ward]); !same || err != nil {
			return false, err
		}
	}
	for ward, head := range was.Heads {
		if slices.Contains(p.wards, ward) {
			continue
		}
		s, err := p.otherState(ctx, ward)
		if err != nil || s.Hash != head {
			return false, err
		}
	}
	return true, nil
}

// remember keeps a proposal for the next one, where it can be. Nothing is lost where
// it cannot.
func (a *app) remember(p *project, r *remembering, proposal *propose.Proposal, o propose.Options) {
	if r == nil || len(proposal.Actions) < fewest || slices.ContainsFunc(o.Declared.Wards, restsOnSecrets) {
		return
	}
	others := map[string]string{}
	for ward, s := range p.outside {
		others[ward] = s.Hash
	}
	basis, err := r.basis()
	var m *propose.Remembered
	if err == nil {
		m, err = proposal.Remember(basis, o, others)
	}
	if err == nil && m == nil {
		return
	}
	var body []byte
	if err == nil {
		m.Remarks = p.remarks
		body, err = p.writeRemembered(m)
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(r.file), 0o700)
	}
	if err == nil {
		err = disk.Replace(r.file, body, 0o600)
	}
	if err == nil {
		err = sweep(filepath.Dir(r.file))
	}
	if err != nil && a.verbose {
		a.say("The proposal cannot be remembered, so the next one is made anew: %v", err)
	}
}

// sweep removes what has not been of use for a month, such as what was remembered of
// folders that are gone.
func sweep(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && time.Since(info.ModTime()) > 30*24*time.Hour {
			err = os.Remove(filepath.Join(dir, e.Name()))
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // somebody else was faster
			return err
		}
	}
	return nil
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

// writeRemembered seals as the ledger is sealed: published values are in it.
func (p *project) writeRemembered(m *propose.Remembered) ([]byte, error) {
	body, err := m.Encode()
	if err != nil {
		return nil, err
	}
	body = append([]byte(rememberedFormat+" "+digestOf(string(body))+"\n"), body...)
	if p.box == nil {
		return body, nil
	}
	return seal.Encrypt(body, p.box.Recipients)
}

func (p *project) readRemembered(body []byte) (*propose.Remembered, error) {
	if p.box != nil {
		var err error
		if body, err = p.box.Decrypt(body); err != nil {
			return nil, err
		}
	}
	head, body, _ := bytes.Cut(body, []byte("\n"))
	if string(head) != rememberedFormat+" "+digestOf(string(body)) {
		return nil, errors.New("it is damaged, or of another form")
	}
	return propose.ReadRemembered(body)
}
