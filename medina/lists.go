package medina

import (
	"cmp"
	"fmt"
	"strings"
	"time"
)

// FaultList is the JSON form of the faults that Medina is still to make.
type FaultList struct {
	Format string  `json:"format"`
	Items  []Fault `json:"items"`
}

// NewFaultList is the document of some faults.
func NewFaultList(list []Fault) *FaultList { return &FaultList{"kasbah.faults/1", list} }

// Head heads the rows; nil where they list the kinds of faults.
func (l *FaultList) Head() []string {
	if len(l.Items) == 0 {
		return nil
	}
	return []string{"fault", "at", "type", "after", "calls", "for"}
}

// Rows are the faults for people, or the kinds that there are when none is asked for.
func (l *FaultList) Rows() [][]string {
	var rows [][]string
	if len(l.Items) == 0 {
		for _, k := range FaultKinds {
			rows = append(rows, []string{"  " + k.Name, k.Help})
		}
	}
	for _, f := range l.Items {
		wait := ""
		if f.Kind == "delay" || f.Kind == "throttle" {
			wait = (time.Duration(f.Millis) * time.Millisecond).String()
		}
		rows = append(rows, []string{f.Kind, cmp.Or(f.On, "any"), cmp.Or(f.Type, "any"), fmt.Sprint(f.After),
			fmt.Sprint(f.Times), wait})
	}
	return rows
}

// TokenList is the JSON form of a Medina's tokens.
type TokenList struct {
	Format string  `json:"format"`
	Items  []Token `json:"items"`
}

// NewTokenList is the document of some tokens.
func NewTokenList(list ...Token) *TokenList {
	return &TokenList{"kasbah.medina-tokens/1", append([]Token{}, list...)}
}

// Rows are the tokens for people: name, rights and zones.
func (l *TokenList) Rows() [][]string {
	var rows [][]string
	for _, t := range l.Items {
		in := "all zones"
		if len(t.Zones) > 0 {
			in = strings.Join(t.Zones, ", ")
		}
		rows = append(rows, []string{t.Name, t.Rights, in})
	}
	return rows
}
