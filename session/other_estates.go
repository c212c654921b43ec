package session

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"filippo.io/age"

	"kasbah/core/declare"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
)

// elsewhere are the other estates that were opened, by name. They are read, and never written or locked.
type elsewhere struct {
	mu     sync.Mutex
	opened map[string]*otherEstate
}

// otherEstate is one of them.
type otherEstate struct {
	*estate.Other
	env    string // which the session reads
	store  store.Store
	box    *seal.Box // nil where its ledgers are not sealed
	memory ledger.Memory
	open   ledger.Memory
}

// other opens another estate, once.
func (s *Session) other(name string) (*otherEstate, error) {
	s.elsewhere.mu.Lock()
	defer s.elsewhere.mu.Unlock()
	if o := s.elsewhere.opened[name]; o != nil {
		return o, nil
	}
	of := s.Estate.Other(name)
	if of == nil {
		return nil, fmt.Errorf("kasbah.toml names no estate %q under [estates]", name)
	}
	o := &otherEstate{Other: of, env: s.Estate.OtherEnv(of, s.Env)}
	set := value.CloneMap(of.Ledger)
	var err error
	if o.box, err = s.otherBox(of, set); err != nil {
		return nil, err
	}
	if o.memory, o.open, err = s.seenOf(set, o.box, of.Ledger["estate_id"]); err != nil {
		return nil, err
	}
	for _, k := range sealKeys {
		delete(set, k)
	}
	if o.store, err = s.OpenStore(context.Background(), set); err != nil {
		return nil, fmt.Errorf("the ledger of the estate %s: %w", name, err)
	}
	s.CloseLater(o.store.Close)
	if s.elsewhere.opened == nil {
		s.elsewhere.opened = map[string]*otherEstate{}
	}
	s.elsewhere.opened[name] = o
	return o, nil
}

// otherBox opens what another estate has sealed.
func (s *Session) otherBox(of *estate.Other, set value.Map) (*seal.Box, error) {
	if set["seal"] != "all" {
		return nil, nil
	}
	at := storeSettings{s.Estate.Dir, set}
	pin := seal.Pin{ID: at.text("estate_id"), Digest: at.text("estate_key"), Former: at.texts("former_keys")}
	if pin.ID == "" || pin.Digest == "" {
		e := problem.At(of.Position, "[estates.%s] with seal = \"all\" needs estate_id and estate_key", of.Name)
		e.Hint = "its own kasbah.toml has them under [ledger]"
		return nil, e
	}
	home, err := s.config.Home()
	if err != nil {
		return nil, err
	}
	identities := home.Identities
	if src, given := estate.ReadSource(of.Identity); given {
		identities = func() ([]age.Identity, error) {
			text, err := s.Secrets.Fetch(context.Background(), src)
			if err != nil {
				return nil, fmt.Errorf("[estates.%s] identity: %w", of.Name, err)
			}
			return home.ParseIdentities("[estates."+of.Name+"] identity", []byte(text))
		}
	}
	return seal.NewReader(pin, identities), nil
}

// otherLedger is the ledger of a ward of another estate, in the environment that ours reads.
func (s *Session) otherLedger(name, ward string) (*ledger.Ledger, error) {
	o, err := s.other(name)
	if err != nil {
		return nil, err
	}
	return o.ledger(o.env, ward)
}

func (o *otherEstate) ledger(env, ward string) (*ledger.Ledger, error) {
	l, err := ledger.New(o.store, o.Name, env, ward, ledger.Identity{})
	if err != nil {
		return nil, err
	}
	var writers []string
	if list, ok := o.Ledger["writers"].([]any); ok {
		for _, k := range list {
			text, _ := k.(string)
			writers = append(writers, text)
		}
	}
	l.WrittenBy(writers)
	if o.box != nil {
		l.SealWith(o.box)
	} else {
		l.OpenOnPurpose()
	}
	l.RememberIn(o.memory)
	l.SeenOpen(o.open)
	return l, nil
}

// whoOpens says with an error whose keys open the ledger of another estate, where that is sealed to others.
func (s *Session) whoOpens(ward string, err error) error {
	name, _ := estate.SplitEstate(ward)
	if of := s.Estate.Other(name); of != nil && errors.Is(err, seal.ErrNoIdentity) {
		var to []string
		for _, r := range (storeSettings{s.Estate.Dir, of.Ledger}).texts("recipients") {
			who := estate.KeyHolder(r)
			if who == "" {
				who = estate.PublicKey(r)
			}
			to = append(to, who)
		}
		words := "have your key admitted there (`kasbah key show` prints it), or name one that opens it as identity under [estates." + name + "]"
		if to != nil {
			words = "it is sealed to " + strings.Join(to, ", ") + ": " + words
		}
		return fmt.Errorf("%w; %s", err, words)
	}
	if errors.Is(err, ledger.ErrSealed) {
		return fmt.Errorf("its ledger is sealed: [estates.%s] needs seal, estate_id and estate_key in ledger, as its own kasbah.toml has them", name)
	}
	return err
}

// readings are what the session's wards read of other estates, with the entry that each value rests on.
func (s *Session) readings(ctx context.Context, others *Others, d *declare.Declared) ([]propose.Reading, error) {
	var out []propose.Reading
	for _, w := range d.Wards {
		for _, read := range w.Reads {
			if read.Env == "" {
				continue
			}
			st, err := others.State(ctx, read.Ward)
			if err != nil {
				return nil, err
			}
			one := propose.Reading{Ward: w.Name, From: read.Ward, Name: read.Name, Env: read.Env,
				Value: value.Any{V: st.Published[read.Name]},
				Entry: st.Seq, Hash: st.Hash}
			if !slices.ContainsFunc(out, func(x propose.Reading) bool {
				return x.Ward == one.Ward && x.From == one.From &&
					x.Name == one.Name
			}) {
				out = append(out, one)
			}
		}
	}
	return out, nil
}

// SameReadings is an error where another estate publishes something else now than a proposal has read.
func (s *Session) SameReadings(ctx context.Context, p *propose.Proposal) error {
	refused := &enact.Refused{}
	others := s.Others()
	for _, r := range p.Readings {
		st, err := others.State(ctx, r.From)
		if err != nil {
			return s.whoOpens(r.From, err)
		}
		if is := st.Published[r.Name]; !bytes.Equal(value.Encode(is), value.Encode(r.Value.V)) {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s: %s publishes another %s in %s than when it was proposed; propose again",
				r.Ward, r.From, r.Name, r.Env))
		}
	}
	if refused.Reasons != nil {
		return refused
	}
	return nil
}

// circles reports wards that read each other across estates: a change would go round for ever.
func (s *Session) circles(ctx context.Context, others *Others, d *declare.Declared) (problems problem.List, err error) {
	for _, w := range d.Wards {
		for _, read := range w.Reads {
			if read.Env == "" {
				continue
			}
			way, err := s.wayBack(ctx, others, read.Ward, w.Name, map[string]bool{})
			if err != nil {
				return nil, err
			}
			if way != nil {
				p := problem.At(read.Position, "wards read each other: %s",
					strings.Join(append([]string{w.Name + " reads " + read.Ward}, way...), ", "))
				p.Ward = w.Name
				problems = append(problems, p)
			}
		}
	}
	return problems, nil
}

// wayBack is how a ward of another estate reads one of ours, by what the ledgers say, step by step; nil where it does
// not. What cannot be read leads nowhere.
func (s *Session) wayBack(ctx context.Context, others *Others, from, to string, seen map[string]bool) ([]string,
	error) {
	if seen[from] {
		return nil, nil
	}
	seen[from] = true
	st, err := others.State(ctx, from)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, nil
	}
	there, _ := estate.SplitEstate(from)
	for _, read := range st.Reads {
		words := strings.Fields(read)
		next := words[0]
		if of, ward := estate.SplitEstate(next); of == s.Estate.Name { // back at ours
			if len(words) > 2 && words[2] == s.Env && (ward == to || s.readsOwn(ctx, others, ward, to, map[string]bool{})) {
				return []string{from + " reads " + next}, nil
			}
			continue
		} else if of == "" {
			next = there + ":" + next
		} else if s.Estate.Other(of) == nil {
			continue
		}
		way, err := s.wayBack(ctx, others, next, to, seen)
		if err != nil || way != nil {
			return append([]string{from + " reads " + next}, way...), err
		}
	}
	return nil, nil
}

// readsOwn reports whether a ward of ours reads another one, by what the ledgers say.
func (s *Session) readsOwn(ctx context.Context, others *Others, ward, of string, seen map[string]bool) bool {
	if seen[ward] || !s.Estate.HasWard(ward) {
		return false
	}
	seen[ward] = true
	st, err := others.State(ctx, ward)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(st.Reads, func(read string) bool {
		next, _, _ := strings.Cut(read, " ")
		return next == of || s.readsOwn(ctx, others, next, of, seen)
	})
}

// Users are who reads what the wards of the session publish: `WARD NAME` -> readers, each as `shore` or as
// `harbour:quay in live`. What could not be read is told.
func (s *Session) Users(ctx context.Context, others *Others) map[string][]string {
	out := map[string][]string{}
	for _, ward := range s.Estate.Wards {
		st, err := others.State(ctx, ward)
		if err != nil {
			s.tell("What %s reads could not be read: %v", ward, err)
			continue
		}
		for _, read := range st.Reads {
			out[read] = append(out[read], ward)
		}
	}
	for _, name := range s.Estate.Others() {
		if err := s.usersIn(ctx, name, out); err != nil {
			s.tell("Who in the estate %s reads what this one publishes could not be read: %v", name, err)
		}
	}
	return out
}

// usersIn adds the readers in another estate, of all of its environments.
func (s *Session) usersIn(ctx context.Context, name string, out map[string][]string) error {
	o, err := s.other(name)
	if err != nil {
		return err
	}
	places, err := ledger.Places(ctx, o.store)
	if err != nil {
		return err
	}
	for _, at := range places {
		if at.Estate != name || at.Ward == ledger.JournalWard {
			continue
		}
		l, err := o.ledger(at.Env, at.Ward)
		if err != nil {
			return err
		}
		st, err := l.Load(ctx)
		if err != nil {
			return s.whoOpens(name+":"+at.Ward, err)
		}
		for _, read := range st.Reads {
			words := strings.Fields(read)
			if of, ward := estate.SplitEstate(words[0]); of == s.Estate.Name && len(words) == 3 && words[2] == s.Env {
				key := ward + " " + words[1]
				out[key] = append(out[key], fmt.Sprintf("%s:%s in %s", name, at.Ward, at.Env))
			}
		}
	}
	return nil
}

// warnReaders says in a proposal which readers in other estates would miss a value, or get another one.
func (s *Session) warnReaders(ctx context.Context, others *Others, p *propose.Proposal,
	states map[string]*ledger.State) {
	if len(s.Estate.Others()) == 0 {
		return
	}
	moves := map[string]string{} // `WARD NAME` -> what happens to it
	for _, at := range p.Wards {
		st := states[at.Ward]
		for name, was := range st.Published {
			is, still := at.Published[name]
			switch {
			case !still || p.Raze:
				moves[at.Ward+" "+name] = "would no longer be published"
			case !value.Equal(is.V, was) && !value.Equal(is.V, st.Offered[name]):
				moves[at.Ward+" "+name] = "would change"
			}
		}
	}
	if len(moves) == 0 {
		return
	}
	users := s.Users(ctx, others)
	for _, key := range value.Keys(moves) {
		var foreign []string
		for _, u := range users[key] {
			if strings.Contains(u, ":") {
				foreign = append(foreign, u)
			}
		}
		if foreign != nil {
			ward, name, _ := strings.Cut(key, " ")
			verb := "read"
			if len(foreign) == 1 {
				verb = "reads"
			}
			p.Warnings = append(p.Warnings, fmt.Sprintf("%s %s %s of %s, which %s", strings.Join(foreign, ", "), verb, name,
				ward, moves[key]))
		}
	}
}
