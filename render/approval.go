package render

import (
	"fmt"
	"strings"
	"time"

	"kasbah/core/approval"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// approvalLines say who must sign a proposal, and how it changes who must.
func approvalLines(p *propose.Proposal) []string {
	var out []string
	for _, x := range p.Approvals {
		out = append(out, fmt.Sprintf("%s needs %s (%s) of %s, and must be begun by %s.", x.Ward,
			Count(x.Signatures, "signature"),
			strings.Join(x.Because, ", "), strings.Join(value.Keys(x.Keys), ", "),
			x.Until.Local().Format(time.DateTime)))
	}
	for _, w := range p.Wards {
		if c := w.Approval; c != nil {
			out = append(out, fmt.Sprintf("Who must sign in %s changes: %s, instead of %s.", w.Ward,
				policyText(c.WillBe), policyText(c.Was)))
		}
	}
	return out
}

func policyText(p *approval.Policy) string {
	if p == nil {
		return "nobody"
	}
	what := "every change"
	if len(p.For) > 0 {
		what = strings.Join(p.For, ", ")
	}
	return fmt.Sprintf("%d of %s for %s within %s", p.Signatures, strings.Join(value.Keys(p.Keys), ", "), what, p.Valid)
}
