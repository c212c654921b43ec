package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/oklog/ulid/v2"
	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/seal"
	"kasbah/core/value"
	"kasbah/home"
	"kasbah/render"
)

// askHidden asks for a text that the terminal does not show.
func (a *app) askHidden(what string) (string, error) {
	f, ok := a.stdin.(*os.File)
	if !ok || !a.interactive() {
		return "", errors.New("it has a passphrase, and there is no terminal to ask for it at")
	}
	fmt.Fprintf(a.errors, "%s ", what)
	defer fmt.Fprintln(a.errors)
	text, err := term.ReadPassword(int(f.Fd()))
	return string(text), err
}

// home is what this machine keeps for the person.
func (a *app) home() (*home.Home, error) { return home.Open(a.passphrase) }

// passphrase asks for one, each once.
func (a *app) passphrase(what string) (string, error) {
	a.asking.Lock()
	defer a.asking.Unlock()
	if text, ok := a.passphrases[what]; ok {
		return text, nil
	}
	text, err := a.askHidden(what)
	if err == nil {
		a.passphrases[what] = text
	}
	return text, err
}

// memory says once when what was seen of a ledger cannot be remembered here, as
// in a container without a place to write, and goes on.
type memory struct {
	ledger.Memory
	a *app
}

func (m *memory) Remember(name string, newest ledger.Head) error {
	if err := m.Memory.Remember(name, newest); err != nil {
		m.a.forgetful.Do(func() {
			m.a.say("What was seen of the ledger cannot be remembered here, so an old copy would not be noticed: %v", err)
		})
	}
	return nil
}

// newBox is what seals the project's ledgers; nil when they are not sealed.
func (a *app) newBox(p *project, s value.Map) (*seal.Box, error) {
	wrong := func(key, hint, format string, args ...any) error {
		e := problem.At(p.estate.LedgerAt(p.env, key), format, args...)
		e.Hint = hint
		return e
	}
	switch s["seal"] {
	case nil, "off":
		return nil, nil
	case "all":
	default:
		return nil, wrong("seal", "", "seal is %s, and must be \"all\" or \"off\"", value.Plain(s["seal"]))
	}
	set := storeSettings{p.estate.Dir, s}
	pin := seal.Pin{ID: set.text("estate_id"), Digest: set.text("estate_key"), Former: set.texts("former_keys")}
	if pin.ID == "" || pin.Digest == "" {
		return nil, wrong("seal", "`kasbah key estate` makes them", "seal = \"all\" needs estate_id and estate_key, which tell this estate's entries from anybody else's")
	}
	var to []string
	for _, text := range set.texts("recipients") {
		to = append(to, estate.Key(text))
	}
	if len(to) == 0 {
		return nil, wrong("seal", "`kasbah key show` prints yours", "seal = \"all\" needs recipients: the public keys of those who may read the ledger")
	}
	home, err := a.home()
	if err != nil {
		return nil, err
	}
	box, err := seal.NewBox(pin, to, home.Identities)
	if err != nil {
		return nil, wrong("recipients", "", "recipients: %v", err)
	}
	box.Fetch = func(ctx context.Context) (seal.Estate, error) { return p.estateKey(ctx, home, pin.ID) }
	return box, nil
}

// estateKey finds the estate's key for the first entry of a ledger: on this
// machine, or in another ledger of the estate.
func (p *project) estateKey(ctx context.Context, home *home.Home, id string) (seal.Estate, error) {
	e, err := home.Estate(id)
	if err == nil && p.box.InForce(e) {
		return e, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, seal.ErrNoIdentity) {
		return e, err
	}
	for _, env := range p.estate.Environments() {
		for _, ward := range p.estate.Wards {
			l, err := p.ledgerOf(env, ward, ledger.Identity{})
			if err != nil {
				return e, err
			}
			if _, err := l.Load(ctx); err != nil {
				continue // another one may do
			}
			if e, known := p.box.Estate(); known {
				return e, nil
			}
		}
	}
	return e, fmt.Errorf("the key of this estate is not on this machine (%s), and no ledger that can be read here holds it: whoever made the estate must make the first run", home.Dir)
}

func ledgerResealCommand() *command {
	var why string
	return &command{
		name: "ledger reseal", line: "make the recipients of kasbah.toml those who can read the ledger from now on", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah ledger reseal -env live -why \"keeper-3 has come\"", "kasbah ledger reseal shore"},
		flags:    func(fs *flag.FlagSet) { fs.StringVar(&why, "why", "", "the `reason`, for the history") },
		run: func(ctx context.Context, a *app, args []string) error {
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			type resealed struct {
				Ward    string `json:"ward"`
				Changed bool   `json:"changed"`
				Readers int    `json:"readers"`
			}
			doc := struct {
				Format string     `json:"format"`
				Run    string     `json:"run"`
				Wards  []resealed `json:"wards"`
			}{"kasbah.reseal/1", ulid.Make().String(), []resealed{}}
			n := 0
			if p.box != nil {
				n = len(p.box.Recipients)
			}
			opens, err := a.openingBox(p)
			if err != nil {
				return err
			}
			for _, w := range p.wards {
				o := ledger.BeginOptions{ID: doc.Run, Command: a.typed, Reason: why}
				reseal := p.ledgers[w].Reseal
				if opens != nil {
					reseal = func(ctx context.Context, o ledger.BeginOptions) (bool, error) {
						return p.ledgers[w].Unseal(ctx, opens, o)
					}
				}
				var unsigned *ledger.UnsignedError
				_, before := p.ledgers[w].Load(ctx)
				_ = errors.As(before, &unsigned) // anything else the reseal tells itself
				changed, err := reseal(ctx, o)
				if err != nil {
					return err
				}
				if changed && unsigned != nil {
					a.say("%s, %s: its entries up to now are not signed. They are trusted because this machine has read them before.", w, p.env)
				}
				doc.Wards = append(doc.Wards, resealed{w, changed, n})
				if a.json {
					continue
				}
				switch {
				case !changed:
					a.out().Printf("%s, %s: nothing to do.\n", w, p.env)
				case n == 0 && opens == nil && len(p.estate.Writers(p.env, w)) == 0:
					a.out().Printf("%s, %s: later entries are not signed.\n", w, p.env)
				case n == 0 && opens == nil:
					a.out().Printf("%s, %s: later entries are signed by those who may write.\n", w, p.env)
				case n == 0:
					a.out().Printf("%s, %s: later entries are not sealed. Older ones need their keys until they are pruned.\n", w, p.env)
				default:
					a.out().Printf("%s, %s: later entries are sealed to %s. Older ones are as they were until they are pruned.\n", w, p.env, render.Count(n, "reader"))
				}
			}
			if a.json {
				return a.document(doc)
			}
			return nil
		},
	}
}

// openingBox opens ledgers that are not to be sealed any more: kasbah.toml says
// seal = "off", and still how they were sealed. It is nil where they are sealed,
// or never were.
func (a *app) openingBox(p *project) (*seal.Box, error) {
	with, err := a.settings(p.estate)
	if err != nil {
		return nil, err
	}
	s := merged(p.estate.Ledger(p.env), with, "ledger.")
	if p.box != nil || s["estate_id"] == nil {
		return nil, nil
	}
	s["seal"] = "all"
	return a.newBox(p, s)
}

// acceptEnd notes that a ledger was restored from a backup on purpose.
func (a *app) acceptEnd(ctx context.Context, p *project, at int64, why string) error {
	switch {
	case len(p.wards) != 1:
		return problem.Usage("entries count from 1 in each ward: say which ward's ledger was restored")
	case why == "":
		return problem.Usage("-accept wants a reason: -why \"…\"")
	}
	if err := p.ledgers[p.wards[0]].Accept(ctx, at, ledger.BeginOptions{ID: ulid.Make().String(), Command: a.typed, Reason: why}); err != nil {
		return err
	}
	if !a.json {
		a.out().Printf("%s, %s: entry %d counts as its end before now.\n", p.wards[0], p.env, at)
	}
	return nil
}

// sealingOf are the lines of kasbah.toml that seal an estate.
func sealingOf(recipients []string, pin seal.Pin, writer string) string {
	var quoted []string
	for _, r := range recipients {
		quoted = append(quoted, fmt.Sprintf("%q", r))
	}
	return fmt.Sprintf("seal       = \"all\"   # every object is encrypted to these keys before it leaves this machine\nrecipients = [%s]\nestate_id  = %q\nestate_key = %q\nwriters    = [%q]   # who may write it; each run signs what it writes\n",
		strings.Join(quoted, ", "), pin.ID, pin.Digest, writer)
}

// signer is the first key of this machine among some that may write.
func (a *app) signer(among []string) (ssh.Signer, error) {
	home, err := a.home()
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
func (a *app) proposer(p *project, states map[string]*ledger.State) (*home.SigningKey, error) {
	var sign, write []string
	for _, w := range p.wards {
		if s := states[w]; s != nil && s.Approval != nil {
			for _, who := range value.Keys(s.Approval.Keys) {
				sign = append(sign, s.Approval.Keys[who])
			}
		}
		write = append(write, p.estate.Writers(p.env, w)...)
	}
	if len(sign)+len(write) == 0 {
		return nil, nil
	}
	home, err := a.home()
	if err != nil {
		return nil, err
	}
	own, err := home.WriterPublic()
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	both := slices.DeleteFunc(slices.Clone(sign), func(k string) bool { return !(&ledger.Writers{Keys: write}).Lists(k) })
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

// keyName is what a key of the person is called where it is listed.
func (a *app) keyName() string {
	name := regexp.MustCompile(`[^a-z0-9_.-]+`).ReplaceAllString(strings.ToLower(a.acting()), "-")
	if name = strings.Trim(name, "-._0123456789"); name == "" {
		return "somebody"
	}
	return name
}

// newSealing finds or makes the person's key and makes the estate's, and
// returns the lines of kasbah.toml and what to say.
func (a *app) newSealing() (lines string, said string, err error) {
	home, err := a.home()
	if err != nil {
		return "", "", fmt.Errorf("there is no place for a key: %w; -seal off does without one, and no secret can be recorded then", err)
	}
	mine, err := home.Public()
	if err != nil {
		return "", "", err
	}
	said = "sealed to your key in " + home.IdentitiesFile()
	if len(mine) == 0 {
		made, err := home.NewIdentity()
		if err != nil {
			return "", "", err
		}
		mine, said = []string{made}, "made a key: "+home.IdentitiesFile()+"; keep a copy of it, without it nobody can read the ledger"
	}
	mine = mine[len(mine)-1:]
	writer, err := home.WriterPublic()
	if errors.Is(err, fs.ErrNotExist) {
		writer, err = home.NewWriter()
	}
	if err != nil {
		return "", "", err
	}
	e := seal.NewEstate()
	if err := home.KeepEstate(e, mine); err != nil {
		return "", "", err
	}
	return sealingOf(mine, e.Pin(), writer+" "+a.keyName()), said, nil
}
