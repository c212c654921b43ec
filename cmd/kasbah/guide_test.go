package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// guideBlock is a block of commands and what they print.
var guideBlock = regexp.MustCompile("(?s)```console\n(.*?)```")

// guideFlag is a flag in the text.
var guideFlag = regexp.MustCompile("`-([a-z][a-z-]*)")

// passingBy is what differs from run to run, and what stands for it in the guide.
var passingBy = []struct {
	is   *regexp.Regexp
	told string
}{
	{regexp.MustCompile(`\b\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\b`), "2026-11-28 10:22:57"},
	{regexp.MustCompile(`\b\d\d:\d\d:\d\d\b`), "10:22:57"},
	{regexp.MustCompile(`\b(in|about|took) (a second|\d+(\.\d+)? (ms|s|min))`), "$1 2 s"},
	{regexp.MustCompile(`longest chain, [^.]*\.`), "longest chain, 2 deep: gauge, scribe."},
	{regexp.MustCompile(`\b(net|sub|mac|rec|dsk|bkt)-\d{4}\b`), "$1-0004"},
	{regexp.MustCompile(`\b\d+ entries`), "36 entries"},
	{regexp.MustCompile(`\b(just now|\d+ s ago)\b`), "just now"},
	{regexp.MustCompile(`(?m) +$`), ""},
}

// Ids of runs and numbers of entries: the guide counts them up from page to page's
// end, so that a reader can tell one from the other: a mark stands for each until its page is
// whole.
var (
	runID      = regexp.MustCompile(`\b[0-9A-HJKMNP-TV-Z]{8}\b`)
	entryOf    = regexp.MustCompile(`(?:(\w+), \w+: from ledger )?\bentry (\d+)`)
	entryRange = regexp.MustCompile(`(?m)^(\S+ +)(\w+)( .*\b)(\d+)-(\d+)( +kasbah)`)
	entryMark  = regexp.MustCompile("\x00(\\w+) (\\d+)\x00")
)

// firstEntry is what the guide calls the newest entry of each ward at a page's beginning.
var firstEntry = map[string]int{"shore": 25, "signal": 17, "chronicle": 21}

// mark puts a mark in place of each number of an entry. A text that names no ward is about
// shore.
func mark(text string) string {
	text = entryRange.ReplaceAllString(text, "$1$2$3\x00$2 $4\x00-\x00$2 $5\x00$6")
	return entryOf.ReplaceAllStringFunc(text, func(found string) string {
		m := entryOf.FindStringSubmatch(found)
		return strings.TrimSuffix(found, m[2]) + "\x00" + cmp.Or(m[1], "shore") + " " + m[2] + "\x00"
	})
}

// countUp puts in place of each id and mark what the guide calls it. was is the newest entry
// of shore at the page's beginning.
func countUp(page string, was int) string {
	runs := map[string]string{}
	page = runID.ReplaceAllStringFunc(page, func(id string) string {
		if runs[id] == "" {
			runs[id] = fmt.Sprintf("Q5T8ZK%02d", len(runs)+1)
		}
		return runs[id]
	})
	entries := map[string][]int{} // by ward
	for _, m := range entryMark.FindAllStringSubmatch(page, -1) {
		n, _ := strconv.Atoi(m[2])
		entries[m[1]] = append(entries[m[1]], n)
	}
	told := map[string]map[int]int{}
	for ward, list := range entries {
		slices.Sort(list)
		list = slices.Compact(list)
		first := 0 // of the list, the one that is the newest at the beginning
		if ward == "shore" {
			first, _ = slices.BinarySearch(list, was)
		}
		told[ward] = map[int]int{}
		for i, n := range list {
			told[ward][n] = max(1, firstEntry[ward]+4*(i-first))
		}
	}
	return entryMark.ReplaceAllStringFunc(page, func(found string) string {
		m := entryMark.FindStringSubmatch(found)
		n, _ := strconv.Atoi(m[2])
		return fmt.Sprint(told[m[1]][n])
	})
}

// TestGuide: what the guide's pages show is what the program prints, command by
// command in the estate of the demo. GUIDE=write writes what it prints into them.
func TestGuide(t *testing.T) {
	pages, err := filepath.Glob("../../docs/guide/*.md")
	require.NoError(t, err)
	base := &program{t: t, dir: t.TempDir()}
	base.env = []string{"XDG_CONFIG_HOME=" + filepath.Join(base.dir, "config"), "KASBAH_ENV=trial"}
	base.must("demo", "-keep", "coast")
	reference, err := os.ReadFile("../../docs/reference/commands.md")
	require.NoError(t, err)
	shown := 0
	for _, page := range pages {
		body, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, flag := range guideFlag.FindAllStringSubmatch(string(body), -1) {
			require.Contains(t, string(reference), "\n  -"+flag[1], "%s names a flag that no command has", page)
		}
		if !guideBlock.Match(body) {
			continue
		}
		shown++
		t.Run(strings.TrimSuffix(filepath.Base(page), ".md"), func(t *testing.T) {
			t.Parallel()
			p := &guided{program: &program{t: t, dir: filepath.Join(t.TempDir(), "coast"), env: base.env}}
			require.NoError(t, os.CopyFS(p.dir, os.DirFS(filepath.Join(base.dir, "coast"))))
			var shore struct{ Wards []struct{ Entry int } }
			require.NoError(t, json.Unmarshal([]byte(p.must("ledger", "show", "-ward", "shore", "-json")), &shore))
			is := shore.Wards[0]
			p.entry = fmt.Sprint(is.Entry)
			now := guideBlock.ReplaceAllStringFunc(string(body), func(block string) string {
				return "```console\n" + p.follow(guideBlock.FindStringSubmatch(block)[1]) + "```"
			})
			now = countUp(now, is.Entry)
			if os.Getenv("GUIDE") == "write" {
				require.NoError(t, os.WriteFile(page, []byte(now), 0o644))
				return
			}
			require.Equal(t, narrow(string(body)), narrow(now))
		})
	}
	require.Greater(t, shown, 4)
}

// guided is the estate of a page. entry is the newest of shore's ledger at its
// beginning, which the pages call 25: how many lines go into one is not fixed.
type guided struct {
	*program
	entry string
}

var oldEntry = regexp.MustCompile(`(compare|restore) 25\b`)

// follow types the commands of a block and returns it with what they print.
func (p *guided) follow(block string) string {
	var out strings.Builder
	for _, line := range strings.SplitAfter(block, "\n") {
		command, typed := strings.CutPrefix(line, "$ ")
		if !typed {
			continue
		}
		out.WriteString(line)
		cmd := exec.Command("sh", "-c", oldEntry.ReplaceAllString(command, "${1} "+p.entry))
		cmd.Dir, cmd.Env = p.dir, p.command().Env
		printed, err := cmd.Output()
		if exit := (*exec.ExitError)(nil); asExit(err, &exit) {
			printed = append(printed, exit.Stderr...) // why it did not
		} else {
			require.NoError(p.t, err, command)
		}
		text := strings.ReplaceAll(string(printed), p.dir, "coast")
		if host, err := os.Hostname(); err == nil {
			text = strings.ReplaceAll(text, "@"+host, "@t3")
			text = strings.ReplaceAll(text, " on "+host, " on t3")
		}
		text = mark(text)
		for _, x := range passingBy {
			text = x.is.ReplaceAllString(text, x.told)
		}
		out.WriteString(text)
		if text != "" && !strings.HasSuffix(text, "\n") {
			out.WriteString("\n")
		}
	}
	return out.String()
}

// narrow is a text without what the width of a column decides.
func narrow(text string) string { return regexp.MustCompile(` +`).ReplaceAllString(text, " ") }
