package render

import (
	"bytes"
	"fmt"
	"sort"
	"strings"

	"github.com/muesli/termenv"

	"kasbah/core/propose"
)

// Markdown writes a proposal for a pull request (CommonMark with tables): the
// summary, then what hurts most first. With fit above 0 it takes at most so
// many bytes: actions are left out from the harmless end, and counted.
func Markdown(p *propose.Proposal, opts ProposalOptions, fit int) []byte {
	var head bytes.Buffer
	var wards []string
	for _, w := range p.Wards {
		wards = append(wards, w.Ward)
	}
	fmt.Fprintf(&head, "## %s, %s: %d of %s would change\n\n", markdownText(strings.Join(wards, ", ")),
		markdownText(p.Env), p.Counts.Changing(), Count(p.Counts.Changing()+p.Counts.Same, "resource"))
	head.WriteString(summaryList(p, opts))
	list := opts.shown(p.Actions)
	sort.SliceStable(list, func(i, j int) bool { return actionOrder[list[i].Kind] > actionOrder[list[j].Kind] })
	if opts.Summary {
		list = nil
	}
	parts := make([][]byte, len(list))
	for i, a := range list {
		parts[i] = markdownAction(p, a)
	}
	const room = 100 // for the line that counts what is left out
	out := head.Bytes()
	for i, part := range parts {
		if fit > 0 && len(out)+len(part)+room > fit {
			return append(out, fmt.Sprintf("\n%s left out to fit.\n", Count(len(parts)-i, "harmless action"))...)
		}
		out = append(out, part...)
	}
	return out
}

// summaryList is the summary of the text form, a line an item.
func summaryList(p *propose.Proposal, opts ProposalOptions) string {
	var b bytes.Buffer
	NewOut(&b, 1<<20, termenv.Ascii).Summary(p, opts)
	var out strings.Builder
	for _, line := range append(append([]string(nil), warningLines(p)...), strings.Split(strings.TrimSpace(b.String()),
		"\n")...) {
		fmt.Fprintf(&out, "- %s\n", markdownText(line))
	}
	return out.String()
}

func warningLines(p *propose.Proposal) []string {
	var out []string
	for _, w := range p.Warnings {
		out = append(out, "Warning: "+w)
	}
	return out
}

func markdownAction(p *propose.Proposal, a *propose.Action) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "\n### %s %s\n\n", a.Kind, markdownCode(a.Full()))
	var notes []string
	if a.Because != "" || a.Was != "" || a.Adopts != "" {
		notes = append(notes, strings.TrimSpace(because(a)))
	}
	if at := a.Position.Short(); at != "" {
		notes = append(notes, at)
	}
	if len(notes) > 0 {
		fmt.Fprintf(&b, "%s\n", markdownText(strings.Join(notes, "; ")))
	}
	if a.Leaves() || len(a.Changes) == 0 {
		return b.Bytes()
	}
	b.WriteString("\n| attribute | will be | was |\n|---|---|---|\n")
	for _, c := range a.Changes {
		was := ""
		if c.Was.V != nil || a.Kind != propose.New {
			was = markdownCell(shownIn(a.Ward, c.Was.V, c.Secret))
			if c.ByHand {
				was += " (live)"
			}
		}
		mark := ""
		if c.Security {
			mark = " (security)"
		}
		fmt.Fprintf(&b, "| %s%s | %s | %s |\n", markdownCell(c.Path), mark,
			markdownCell(shownIn(a.Ward, c.WillBe.V, c.Secret)), was)
	}
	return b.Bytes()
}

// markdownText takes the meaning out of characters that Markdown would read. A word that
// would be a mention or a link, to whatever reads it, is code.
func markdownText(s string) string {
	words := strings.Split(Clean(s), " ")
	for i, w := range words {
		if strings.Contains(w, "@") || strings.Contains(w, "://") || strings.Contains(strings.ToLower(w), "www.") {
			words[i] = markdownCode(w)
		} else {
			words[i] = markdownWord(w)
		}
	}
	return strings.Join(words, " ")
}

func markdownWord(s string) string {
	return strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<", "&lt;", "|",
		`\|`, "#", `\#`).Replace(s)
}

// markdownCode writes a text as code, whatever backticks it holds.
func markdownCode(s string) string {
	s = Clean(s)
	fence := "`"
	for strings.Contains(s, fence) {
		fence += "`"
	}
	if strings.HasPrefix(s, "`") || strings.HasSuffix(s, "`") {
		s = " " + s + " "
	}
	return fence + s + fence
}

// markdownCell is code inside a table, where a bar would end the cell.
func markdownCell(s string) string {
	if s == "" {
		return ""
	}
	return strings.ReplaceAll(markdownCode(s), "|", `\|`)
}
