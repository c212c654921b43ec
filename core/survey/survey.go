// Package survey compares what is recorded with what is live and gives every
// recorded resource a verdict.
package survey

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/steps"
	"kasbah/core/value"
)

// Format is the format of a survey as JSON.
const Format = "kasbah.survey/1"

// Verdict is what a survey says of a resource.
type Verdict string

const (
	Matches   Verdict = "matches"
	Differs   Verdict = "differs"
	Gone      Verdict = "gone"
	Unchecked Verdict = "unchecked"
	Learned   Verdict = "learned"  // it matches, and shows what its driver did not know of before
	Accepted  Verdict = "accepted" // it drifted, and a person accepts all of that
)

// Report is a survey of some wards in one environment.
type Report struct {
	Format    string          `json:"format"`
	Env       string          `json:"env"`
	Counts    Counts          `json:"counts"`
	Resources []*Resource     `json:"resources"` // by ward and address
	Rules     []rules.Finding `json:"rules"`     // at the stage live, but for what passed
	Strangers []Stranger      `json:"strangers"` // when they are asked for
	Failures  []Failure       `json:"failures"`  // wards and drivers of which nothing could be told
	Warnings  []string        `json:"warnings"`  // what could not be found out besides, each a sentence

	Steps  []steps.Ran              `json:"steps,omitempty"` // that ran, and how each ended
	Judged *rules.Report            `json:"-"`               // the same, with what passed
	States map[string]*ledger.State `json:"-"`               // the ledgers that it was held against, by ward
	// Seen are the attributes and tags of what is live and not as recorded, by full address.
	Seen map[string]driver.Live `json:"-"`
}

// Counts counts the verdicts.
type Counts struct {
	Matches   int `json:"matches"`
	Differs   int `json:"differs"`
	Gone      int `json:"gone"`
	Unchecked int `json:"unchecked"`
	Stranger  int `json:"stranger"`
	Learned   int `json:"learned"`
	Accepted  int `json:"accepted"`
	Ignored   int `json:"ignored"` // differences that kasbah.toml says to ignore
}

// Failure is a ward whose ledger could not be read, or a driver that could not be opened.
type Failure struct {
	Ward   string `json:"ward,omitempty"`
	Driver string `json:"driver,omitempty"`
	Error  string `json:"error"`
}

// Drifted reports whether something was edited or is gone.
func (c Counts) Drifted() bool { return c.Differs+c.Gone > 0 }

// Resource is one resource's verdict.
type Resource struct {
	Ward        string       `json:"ward"`
	Address     string       `json:"address"`
	Type        string       `json:"type"`
	ID          string       `json:"id"`
	Verdict     Verdict      `json:"verdict"`
	Because     string       `json:"because,omitempty"` // of unchecked
	Checked     []string     `json:"checked"`           // attributes that were compared, when it is asked for
	Differences []Difference `json:"differences"`
	AlsoMoved   []string     `json:"also_moved,omitempty"` // attributes that are not declared
	Security    []string     `json:"security,omitempty"`   // those of AlsoMoved that touch security
	Learned     []string     `json:"learned,omitempty"`    // attributes that the driver did not know of before
	Accepted    *Acceptance  `json:"accepted,omitempty"`   // of gone
	Position    string       `json:"position,omitempty"`   // where it is declared, as FILE:LINE

	seen *driver.Live // what is live, where it is not as recorded
	By   string       `json:"by,omitempty"` // of gone: who deleted it
	At   *time.Time   `json:"at,omitempty"`
}

// Difference is one attribute that is not as enacted.
type Difference struct {
	Path     string     `json:"path"`
	Expected value.Any  `json:"expected"`
	Found    value.Any  `json:"found"`
	By       string     `json:"by,omitempty"` // who changed it, if the cloud can tell
	At       *time.Time `json:"at,omitempty"`
	// Position is where the value is declared, as FILE:LINE.
	Position string      `json:"position,omitempty"`
	Accepted *Acceptance `json:"accepted,omitempty"`
}

// Acceptance says that a person accepts a difference, and until when.
type Acceptance struct {
	Until string `json:"until"` // the last day, as 2026-12-31
	Why   string `json:"why"`
	Who   string `json:"who"`
}

// Options is what a survey is made from.
type Options struct {
	Env      string
	States   map[string]*ledger.State // by ward
	Wards    []string
	Drivers  map[string]driver.Driver
	Catalogs map[string]*schema.Catalog
	Rules    *rules.Set // nil when there are none
	Asked
	Trouble
	Known
}

// Asked is what a survey is asked for.
type Asked struct {
	Only  []string  // patterns of addresses; none for all
	Since time.Time // only what change feeds name since then; the zero time for all
	// Strangers says of which types what is not recorded is told: "" for none, used or all.
	Strangers string
	// Checked says what was compared of each resource. It costs a look at every
	// record, also of what the cloud's tag shows to be as it was.
	Checked bool
	// Located is how many equal findings there may be for their places to be told; 0 for any number.
	Located int
}

// Trouble is what could not be opened or read.
type Trouble struct {
	Broken map[string]error // drivers, by name
	Failed map[string]error // wards, whose ledgers could not be read
}

// Known is what else is known of an estate.
type Known struct {
	Ignore []Ignore // what is not told
	Today  string   // as 2026-12-31, for what is accepted until a day
	// At is where a resource, or a value of it by its path, is declared, as FILE:LINE; "" where
	// that is not known. It may be nil.
	At func(full, path string) string
	// Elsewhere are the things that the estate records, as `TYPE ID`, each with where.
	Elsewhere map[string]string
}

// Ignore is a pattern of addresses and a path, below which differences are not told.
type Ignore struct {
	Pattern string
	Path    value.Path // none for all of a resource, also that it is gone
}

// chunk is how many resources are judged at once by one core.
const chunk = 512

// Survey reads the clouds and compares. A ward or driver that failed hides nothing of the
// others: it is among the report's Failures.
func Survey(ctx context.Context, o Options) (*Report, error) {
	r := &Report{Format: Format, Env: o.Env, States: o.States, Resources: []*Resource{}, Rules: []rules.Finding{}, Warnings: []string{},
		Strangers: []Stranger{}, Failures: failures(o), Judged: &rules.Report{}, Seen: map[string]driver.Live{}}
	chosen, err := o.choose(ctx, r)
	if err != nil {
		return nil, err
	}
	live, unread, err := propose.ReadWhatCan(ctx, o.Drivers, o.Catalogs, chosen)
	if err != nil {
		return nil, err
	}
	if err := o.judgeAll(r, chosen, live, unread); err != nil {
		return nil, err
	}
	if err := judgeRules(ctx, o, r, live); err != nil {
		return nil, err
	}
	if err := o.strangers(ctx, r); err != nil {
		return nil, err
	}
	o.blame(ctx, r)
	o.locate(r)
	return r, ctx.Err()
}

// judgeAll gives every chosen resource its verdict.
func (o Options) judgeAll(r *Report, chosen map[string]*ledger.State, live propose.Live, unread propose.Unread) error {
	judged, ignored := make([][]*Resource, len(o.Wards)), make([]int, len(o.Wards))
	var g errgroup.Group
	for i, ward := range o.Wards {
		if chosen[ward] != nil {
			g.Go(func() (err error) {
				judged[i], ignored[i], err = o.ward(ward, chosen[ward], live, unread)
				return err
			})
		}
	}
	if err := g.Wait(); err != nil {
		return err
	}
	r.Resources = append(r.Resources, slices.Concat(judged...)...)
	for _, n := range ignored {
		r.Counts.Ignored += n
	}
	for _, res := range r.Resources {
		r.Counts.add(res.Verdict)
		if res.seen != nil {
			r.Seen[value.InWard(res.Ward, res.Address)] = *res.seen
		}
	}
	return nil
}

// ward gives every chosen resource of a ward its verdict, and counts the differences that are ignored.
func (o Options) ward(ward string, s *ledger.State, live propose.Live, unread propose.Unread) ([]*Resource, int, error) {
	open := map[string]bool{}
	for _, in := range o.States[ward].Intents {
		open[in.Intent.Address] = true
	}
	ignored := o.ignoredIn(ward)
	addresses := s.Addresses()
	judged := make([]*Resource, len(addresses))
	var left atomic.Int64
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for from := 0; from < len(addresses); from += chunk {
		g.Go(func() (err error) {
			for i := from; i < min(from+chunk, len(addresses)) && err == nil; i++ {
				a := addresses[i]
				if judged[i], err = o.judge(ward, s.Records[a], live, unread, open[a]); err == nil {
					left.Add(int64(judged[i].settle(ignored, o.States[ward], o.Today)))
				}
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, 0, err
	}
	matches := o.matcher()
	for _, in := range o.States[ward].Intents { // made, perhaps, and not recorded yet
		a := in.Intent.Address
		if o.States[ward].Records[a] != nil || !open[a] || !matches(ward, a) {
			continue
		}
		open[a] = false
		judged = append(judged, &Resource{
			Ward: ward, Address: a, Type: in.Intent.Type, Verdict: Unchecked, Because: noResult,
			Checked: []string{}, Differences: []Difference{},
		})
	}
	return judged, int(left.Load()), nil
}

// judgeRules holds what is live against the rules.
func judgeRules(ctx context.Context, o Options, r *Report, live propose.Live) error {
	if o.Rules == nil || len(o.Rules.Rules) == 0 {
		return nil
	}
	var subjects []*rules.Subject
	for _, res := range r.Resources {
		l, there := live[res.Type][res.ID]
		drv, typ := propose.SplitType(res.Type)
		if !there || o.Catalogs[drv] == nil || o.Catalogs[drv].Types[typ] == nil {
			continue
		}
		rec, err := o.States[res.Ward].Records[res.Address].Record()
		if err != nil {
			return err
		}
		attributes, err := l.Attributes()
		if err != nil {
			return err
		}
		attributes = rec.Conceal(o.Catalogs[drv].Types[typ], attributes)
		subjects = append(subjects, &rules.Subject{
			Ward: res.Ward, Address: res.Address, Type: res.Type, Schema: o.Catalogs[drv].Types[typ], Kit: rec.Kit,
			Guarded: rec.Care.Guard,
			Inputs:  attributes, Live: attributes, Excuse: rec.Care.Excuse,
		})
	}
	c := r.Counts
	report, err := o.Rules.Judge(ctx, rules.Live, subjects, value.Map{
		"counts": value.Map{"matches": int64(c.Matches), "differs": int64(c.Differs), "gone": int64(c.Gone),
			"unchecked": int64(c.Unchecked), "learned": int64(c.Learned), "accepted": int64(c.Accepted)},
	})
	if err != nil {
		return err
	}
	r.Judged, r.Rules = report, append(r.Rules, report.Findings...)
	return nil
}

func (c *Counts) add(v Verdict) {
	switch v {
	case Matches:
		c.Matches++
	case Differs:
		c.Differs++
	case Gone:
		c.Gone++
	case Unchecked:
		c.Unchecked++
	case Learned:
		c.Learned++
	case Accepted:
		c.Accepted++
	}
}

const (
	noResult = "a call for it has no result yet"
	unshown  = "the cloud shows none of its type"
)

// Unread reports whether the resource could not be looked at although its cloud shows it.
func (r *Resource) Unread() bool {
	return r.Verdict == Unchecked && r.Because != unshown && r.Because != noResult
}

// Failed reports whether something could not be checked that can be.
func (r *Report) Failed() bool {
	return len(r.Failures) > 0 || slices.ContainsFunc(r.Resources, func(res *Resource) bool {
		return res.Verdict == Unchecked &&
			res.Because != unshown
	})
}

// judge compares one record with what is live.
func (o Options) judge(ward string, st *ledger.Stored, live propose.Live, unread propose.Unread, open bool) (*Resource,
	error) {
	res := &Resource{Ward: ward, Address: st.Address, Type: st.Type, ID: st.ID, Checked: []string{},
		Differences: []Difference{}}
	drv, typName := propose.SplitType(st.Type)
	var typ *schema.Type
	if c := o.Catalogs[drv]; c != nil {
		typ = c.Types[typName]
	}
	l, there := live[st.Type][st.ID]
	if typ != nil && typ.Unshown && !open {
		res.Verdict, res.Because = Unchecked, unshown
		return res, nil
	}
	if !o.Checked && !open && typ != nil && there && st.Whole && st.Settled && l.AsRecorded() {
		res.Verdict = Matches
		return res, nil
	}
	rec, err := st.Record()
	if err != nil {
		return nil, err
	}
	unchecked := func(why string) (*Resource, error) {
		res.Verdict, res.Because = Unchecked, why
		return res, nil
	}
	switch broken := o.Broken[drv]; {
	case open:
		return unchecked(noResult)
	case broken != nil:
		return unchecked(fmt.Sprintf("the driver %s could not be opened: %v", drv, broken))
	case rec.ID == "":
		return unchecked("a swap ended between its halves")
	case typ == nil:
		return unchecked("its driver no longer has the type " + typName)
	case unread.Of(st.Type, st.ID) != nil && !there:
		return unchecked(unread.Of(st.Type, st.ID).Error())
	}
	if !there {
		res.Verdict = Gone
		return res, nil
	}
	now, err := l.Attributes()
	if err != nil {
		return nil, err
	}
	now = rec.Conceal(typ, now)
	res.compare(rec, now, typ)
	if !l.AsRecorded() {
		shown, err := l.Attributes()
		if err != nil {
			return nil, err
		}
		res.seen = &driver.Live{ID: l.ID, Tag: l.Tag, Attributes: shown}
	}
	switch {
	case len(res.Differences) > 0:
		res.Verdict = Differs
	case len(res.Learned) > 0:
		res.Verdict = Learned
	default:
		res.Verdict = Matches
	}
	return res, nil
}

// compare notes how what is live differs from the record.
func (res *Resource) compare(rec *ledger.Record, now value.Map, typ *schema.Type) {
	for _, a := range typ.Attributes {
		want, recorded := rec.Inputs[a.Name]
		if a.Output || !recorded || a.Secret && !value.IsSecret(want) {
			continue
		}
		found := now[a.Name]
		changes, whole := propose.Compare(a.Name, want, found, rec.Care.Leave)
		if whole {
			continue
		}
		res.Checked = append(res.Checked, a.Name)
		for _, c := range changes {
			res.Differences = append(res.Differences, Difference{Path: c.Path, Expected: c.WillBe, Found: c.Was})
		}
	}
	for _, name := range value.Keys(now) {
		if _, declared := rec.Inputs[name]; !declared && propose.ValuesDiffer(rec.Live[name], now[name]) {
			if typ.Attribute(name) != nil && rec.Learned(name) {
				res.Learned = append(res.Learned, name)
				continue
			}
			res.AlsoMoved = append(res.AlsoMoved, name)
			if a := typ.Attribute(name); a != nil && a.Security {
				res.Security = append(res.Security, name)
			}
		}
	}
}

// StepsBlock reports whether a step found what is to end the command with a failure.
func (r *Report) StepsBlock() bool {
	return slices.ContainsFunc(r.Rules, func(f rules.Finding) bool { return f.Step && f.Blocks() })
}
