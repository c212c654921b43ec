// Package steps reads what programs find that have a say in a change: steps, as kasbah.toml names them.
package steps

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"path"
	"strconv"
	"strings"
	"unicode/utf8"

	"kasbah/core/estate"
	"kasbah/core/form"
	"kasbah/core/problem"
	"kasbah/core/rules"
	"kasbah/core/value"
)

// Ran is one step that ran at one stage, and how that ended.
type Ran struct {
	Name     string  `json:"name"`
	At       string  `json:"at"`
	Level    string  `json:"level"`
	Outcome  Outcome `json:"outcome"`
	Findings int     `json:"findings"`
	Seconds  float64 `json:"seconds"`
}

// Outcome is how a step ended.
type Outcome string

const (
	Passed Outcome = "passed"
	Found  Outcome = "found"  // it found something
	Failed Outcome = "failed" // it hung, died, flooded or printed nonsense
)

// String is the step as people read it: `scan at proposed: 2 findings`.
func (r Ran) String() string {
	how := string(r.Outcome)
	if r.Outcome == Found {
		how = fmt.Sprintf("%d findings", r.Findings)
		if r.Findings == 1 {
			how = "1 finding"
		}
	}
	return fmt.Sprintf("%s at %s: %s", r.Name, r.At, how)
}

// Texts are steps as people read them; nil for none.
func Texts(ran []Ran) (out []string) {
	for _, r := range ran {
		out = append(out, r.String())
	}
	return out
}

// Most is how many bytes a step may write.
const Most = 8 << 20

// mostFindings is how many findings of one step are kept.
const mostFindings = 1000

// ErrNonsense is the error of an output that is of no known form.
var ErrNonsense = errors.New("what it wrote is not SARIF 2.1.0, not kasbah.check/1 and not lines of text")

// Read reads what a step found from what it wrote, and the code with which it ended. Lines of text are findings
// where that is not 0. Rule, level and stage of the findings are for the caller to fill in; those that only
// remark on something have the level warn.
func Read(out []byte, code int) ([]rules.Finding, error) {
	text := bytes.TrimSpace(out)
	var found []rules.Finding
	var err error
	switch {
	case len(text) > 0 && (text[0] == '{' || text[0] == '['):
		found, err = readJSON(text)
	case !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0:
		err = ErrNonsense
	case code != 0:
		found = readLines(string(text))
	}
	if n := len(found); n > mostFindings {
		found = append(found[:mostFindings], rules.Finding{Message: fmt.Sprintf("and %d more findings, which are not kept",
			n-mostFindings)})
	}
	return found, err
}

// line is a finding at a place: FILE:LINE:COLUMN: words, or FILE:LINE: words.
var line = form.Of(`^([^\s:][^:\n]*):(\d+)(?::(\d+))?:\s*(.+)$`)

func readLines(text string) (out []rules.Finding) {
	for _, l := range strings.Split(text, "\n") {
		if l = strings.TrimSpace(l); l == "" {
			continue
		}
		f := rules.Finding{Message: l}
		if m := line().FindStringSubmatch(l); m != nil {
			f.Position.File, f.Message = clean(m[1]), m[4]
			f.Position.Line, _ = strconv.Atoi(m[2])   // digits
			f.Position.Column, _ = strconv.Atoi(m[3]) // digits, or none
		}
		out = append(out, f)
	}
	return out
}

// clean is a file from the estate's folder.
func clean(file string) string { return path.Clean(strings.ReplaceAll(file, "\\", "/")) }

func readJSON(body []byte) ([]rules.Finding, error) {
	var doc struct {
		Format   string            `json:"format"`
		Problems []problem.Problem `json:"problems"`
		Version  string            `json:"version"`
		Runs     []sarifRun        `json:"runs"`
	}
	dec := json.NewDecoder(bytes.NewReader(body))
	if err := dec.Decode(&doc); err != nil || dec.More() {
		return nil, ErrNonsense
	}
	var out []rules.Finding
	switch {
	case doc.Format == "kasbah.check/1" && doc.Problems != nil:
		for _, p := range doc.Problems {
			f := rules.Finding{Ward: p.Ward, Address: p.Address, Message: p.Message, Help: p.Hint, Position: p.Position}
			if p.Level == problem.Note {
				f.Level = rules.Warn
			}
			out = append(out, f)
		}
	case doc.Version == "2.1.0" && doc.Runs != nil:
		for _, run := range doc.Runs {
			for i := range run.Results {
				if f, is := run.finding(&run.Results[i]); is {
					out = append(out, f)
				}
			}
		}
	default:
		return nil, ErrNonsense
	}
	return out, nil
}

// The parts of a SARIF 2.1.0 log (OASIS) that are read here.
type (
	sarifRun struct {
		Tool struct {
			Driver struct {
				Rules []sarifRule `json:"rules"`
			} `json:"driver"`
		} `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifRule struct {
		ID      string    `json:"id"`
		Help    sarifText `json:"help"`
		Default struct {
			Level string `json:"level"`
		} `json:"defaultConfiguration"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string    `json:"ruleId"`
		RuleIndex *int      `json:"ruleIndex"`
		Kind      string    `json:"kind"`
		Level     string    `json:"level"`
		Message   sarifText `json:"message"`
		Locations []struct {
			Physical struct {
				Artifact struct {
					URI string `json:"uri"`
				} `json:"artifactLocation"`
				Region struct {
					StartLine   int `json:"startLine"`
					StartColumn int `json:"startColumn"`
				} `json:"region"`
			} `json:"physicalLocation"`
			Logical []struct {
				Name string `json:"fullyQualifiedName"`
			} `json:"logicalLocations"`
		} `json:"locations"`
		Suppressions []struct {
			Status string `json:"status"`
		} `json:"suppressions"`
	}
)

// finding is a result, unless nothing is wrong or it is suppressed (SARIF 2.1.0, 3.27.9, 3.27.10 and 3.27.23).
func (run *sarifRun) finding(r *sarifResult) (rules.Finding, bool) {
	for _, s := range r.Suppressions {
		if s.Status == "" || s.Status == "accepted" {
			return rules.Finding{}, false
		}
	}
	f := rules.Finding{Message: r.Message.Text}
	rule := run.rule(r)
	level := r.Level
	if level == "" && rule != nil {
		level = rule.Default.Level
	}
	switch r.Kind {
	case "", "fail":
	case "review", "open":
		level = "note"
	default:
		return f, false
	}
	if level == "note" || level == "none" {
		f.Level = rules.Warn
	}
	if rule != nil {
		f.Help = rule.Help.Text
	}
	if f.Message == "" {
		f.Message = "a result without a message"
	}
	if r.RuleID != "" {
		f.Message = r.RuleID + ": " + f.Message
	}
	if len(r.Locations) > 0 {
		at := r.Locations[0]
		uri := strings.TrimPrefix(at.Physical.Artifact.URI, "file://")
		if name, err := url.PathUnescape(uri); err == nil && name != "" {
			f.Position.File, f.Position.Line, f.Position.Column = clean(name), at.Physical.Region.StartLine, at.Physical.Region.StartColumn
		}
		if len(at.Logical) > 0 {
			f.Ward, f.Address = value.SplitWard(at.Logical[0].Name)
		}
	}
	return f, true
}

func (run *sarifRun) rule(r *sarifResult) *sarifRule {
	all := run.Tool.Driver.Rules
	if r.RuleIndex != nil && *r.RuleIndex >= 0 && *r.RuleIndex < len(all) {
		return &all[*r.RuleIndex]
	}
	for i := range all {
		if all[i].ID == r.RuleID {
			return &all[i]
		}
	}
	return nil
}

// Document is the JSON form of steps, and of what one found.
type Document struct {
	Format   string          `json:"format"`
	Env      string          `json:"env"`
	Steps    []Listed        `json:"steps"`
	Ran      []Ran           `json:"ran"`
	Findings []rules.Finding `json:"findings"`
}

// Listed is a step as kasbah.toml has it.
type Listed struct {
	Name  string   `json:"name"`
	At    []string `json:"at"`
	Level string   `json:"level"`
	Time  string   `json:"time"`
	Run   []string `json:"run"`
	Env   []string `json:"env"`            // names of variables
	Envs  []string `json:"envs,omitempty"` // patterns of the environments where it runs
	Wards []string `json:"wards,omitempty"`
	Runs  bool     `json:"runs"` // in this environment, for these wards
}

// NewDocument makes a document. Lists that are nil are empty in it.
func NewDocument(env string, steps []estate.Step, ran []Ran, found []rules.Finding) *Document {
	d := &Document{Format: "kasbah.steps/1", Env: env, Steps: []Listed{}, Ran: append([]Ran{}, ran...),
		Findings: append([]rules.Finding{}, found...)}
	for _, s := range steps {
		d.Steps = append(d.Steps, Listed{Name: s.Name, At: s.At, Level: s.Level, Time: s.Time.String(), Run: s.Run,
			Env:  append([]string{}, s.Env...),
			Envs: s.Envs, Wards: s.Wards, Runs: s.For(env, nil)})
	}
	return d
}
