package survey

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"strings"
	"time"

	"kasbah/core/ledger"
	"kasbah/core/value"
)

// Ending is a certificate, an excuse or the acceptance of a drift that ends soon.
type Ending struct {
	Ward    string
	Address string
	Type    string // with its driver
	Path    string // an attribute, or `excuse RULE`
	On      string // its last day, as 2026-12-31
	Because string // a sentence
}

// Endings lists what ends from a day on, up to another time. Certificates are attributes in PEM (RFC 7468)
// that are no secret, as they are live where a report has seen them moved, else as they are recorded.
func (r *Report) Endings(states map[string]*ledger.State, now, until time.Time) ([]Ending, error) {
	today, last := now.Format(time.DateOnly), until.Format(time.DateOnly)
	soon := func(day string) bool { return today <= day && day <= last }
	var out []Ending
	for _, res := range r.Resources {
		of := Ending{Ward: res.Ward, Address: res.Address, Type: res.Type}
		accepted := func(path string, a *Acceptance) {
			if a != nil && soon(a.Until) {
				of.Path, of.On, of.Because = path, a.Until, "its drift is accepted until "+a.Until+": "+a.Why
				out = append(out, of)
			}
		}
		accepted("", res.Accepted)
		for _, d := range res.Differences {
			accepted(d.Path, d.Accepted)
		}
	}
	for _, ward := range value.Keys(states) {
		s := states[ward]
		for _, address := range s.Addresses() {
			st := s.Records[address]
			says, err := st.Says("-----BEGIN CERTIFICATE-----", `"excuse":`)
			if err != nil {
				return nil, err
			}
			if !says {
				continue
			}
			rec, err := st.Record()
			if err != nil {
				return nil, err
			}
			of := Ending{Ward: ward, Address: address, Type: rec.Type}
			for _, rule := range value.Keys(rec.Care.Excuse) {
				if x := rec.Care.Excuse[rule]; soon(x.Until) {
					of.Path, of.On, of.Because = "excuse "+rule, x.Until, fmt.Sprintf("its excuse from rule %s ends on %s: %s", rule, x.Until, x.Reason)
					out = append(out, of)
				}
			}
			live := value.Map(rec.Live)
			if seen, moved := r.Seen[value.InWard(ward, address)]; moved {
				live = seen.Attributes
			}
			for _, name := range value.Keys(live) {
				if end := notAfter(live[name]); !end.IsZero() && !end.After(until) {
					of.Path, of.On, of.Because = name, end.Format(time.DateOnly), "its certificate ends at "+end.UTC().Format(time.RFC3339)
					out = append(out, of)
				}
			}
		}
	}
	return out, nil
}

// notAfter is when the first of some certificates in PEM ends; the zero time for what holds none.
func notAfter(v any) (first time.Time) {
	text, _ := v.(string)
	if !strings.Contains(text, "-----BEGIN CERTIFICATE-----") {
		return first
	}
	for rest := []byte(text); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return first
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil { // it is not one, whatever it says
			continue
		}
		if first.IsZero() || c.NotAfter.Before(first) {
			first = c.NotAfter
		}
	}
}
