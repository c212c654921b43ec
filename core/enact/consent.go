package enact

import (
	"fmt"
	"strings"

	"kasbah/core/propose"
)

// Consents are what was agreed to before a proposal was shown.
type Consents struct {
	Yes      bool // to carry it out
	Data     bool // to lose data
	Security bool // to changes of security
}

// Missing refuses a proposal that needs a consent which was not given; nil where none is missing.
func (c Consents) Missing(p *propose.Proposal) error {
	refused := func(format string, args ...any) error {
		return &Refused{Reasons: []string{fmt.Sprintf(format, args...)}}
	}
	switch {
	case !c.Yes:
		return refused("no terminal to ask at; -yes goes ahead")
	case len(p.Data) > 0 && !c.Data:
		return refused("it loses data (%s); -allow data consents to it", strings.Join(p.Data, ", "))
	case len(p.Security) > 0 && !c.Security:
		return refused("it touches security (%s); -allow security consents to it", strings.Join(p.Security, ", "))
	}
	return nil
}

// Question is one that a person must agree to before a proposal is carried out.
type Question struct {
	Text string
	want string // the answer that agrees; "" for yes
}

// Agrees reports whether an answer agrees.
func (q Question) Agrees(answer string) bool {
	if q.want == "" {
		return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
	}
	words := strings.FieldsFunc(answer, func(c rune) bool { return c == ' ' || c == ',' })
	return strings.Join(words, " ") == q.want
}

// Questions are those that a person is asked about a proposal, besides what was agreed to: first
// each change of security, and then the whole, by the names of its wards where something is lost.
func (c Consents) Questions(p *propose.Proposal) []Question {
	var out []Question
	if !c.Security {
		for _, full := range p.Security {
			out = append(out, Question{Text: fmt.Sprintf("Security of %s changes. Go on? Type y:", full)})
		}
	}
	switch {
	case p.Raze && !(c.Yes && (len(p.Data) == 0 || c.Data)):
		return append(out, byName("This removes everything in "+strings.Join(p.WardNames(), ", ")+".", p.WardNames()))
	case len(p.Data) > 0 && !c.Data:
		return append(out, byName("This loses data.", p.WardsThatLose()))
	case c.Yes:
		return out
	}
	return append(out, Question{Text: "Carry it out? Type y:"})
}

// byName is a question that the names of wards answer.
func byName(what string, wards []string) Question {
	names := "wards' names"
	if len(wards) == 1 {
		names = "ward's name"
	}
	want := strings.Join(wards, " ")
	return Question{fmt.Sprintf("%s Type the %s, %s, to go on:", what, names, want), want}
}
