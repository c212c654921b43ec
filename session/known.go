package session

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kasbah/core/disk"
	"kasbah/core/ledger"
	"kasbah/core/propose"
)

const knownFormat = "kasbah.known/1"

// Known is what the last proposal said of each address, kept on this machine for those who type: editors
// and shells. It holds no values.
type Known struct {
	At      time.Time        // of the proposal
	Entries map[string]int64 // by ward: the ledger's newest entry that it was made from
	Actions map[string]string
	// Addresses are all of them with their wards, in their order.
	Addresses []string
}

type knownHead struct {
	Format  string           `json:"format"`
	At      time.Time        `json:"at"`
	Entries map[string]int64 `json:"entries"`
	Idle    bool             `json:"idle,omitempty"` // nothing would change
}

func knownPath(dir, env string) (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	return filepath.Join(cache, "kasbah", "known", digestOf(dir+"\x00"+env)), nil
}

// ReadKnown is what is known of an estate's folder in an environment; nil where nothing is. What is damaged
// counts as nothing: it is only remembered.
func ReadKnown(dir, env string) *Known {
	head, rest := readKnown(dir, env)
	if rest == nil {
		return nil
	}
	k := &Known{At: head.At, Entries: head.Entries, Actions: map[string]string{}}
	lines := bufio.NewScanner(bytes.NewReader(rest))
	lines.Buffer(nil, len(rest)+1)
	for lines.Scan() {
		address, action, _ := strings.Cut(lines.Text(), "\t")
		k.Addresses = append(k.Addresses, address)
		if action != "" {
			k.Actions[address] = action
		}
	}
	return k
}

// knownLines are the lines of the file in which what is known is kept, one for each address; nil where nothing is.
func knownLines(dir, env string) []byte {
	_, rest := readKnown(dir, env)
	return rest
}

func readKnown(dir, env string) (head knownHead, lines []byte) {
	path, err := knownPath(dir, env)
	if err != nil {
		return head, nil
	}
	body, err := os.ReadFile(path)
	if err != nil {
		return head, nil
	}
	first, rest, found := bytes.Cut(body, []byte("\n"))
	if !found || json.Unmarshal(first, &head) != nil || head.Format != knownFormat {
		return head, nil
	}
	return head, rest
}

// keepKnownOf keeps what a whole proposal of what is declared says.
func (s *Session) keepKnownOf(p *propose.Proposal, states map[string]*ledger.State, r Request) {
	if s.config.Overlay != nil || r.Adopt != nil || r.Raze || r.Restore > 0 || len(r.Only) > 0 || r.Run != "" {
		return
	}
	s.keepKnown(p, states)
}

// keepKnown keeps what a proposal says of each address. Nothing is lost where it cannot.
func (s *Session) keepKnown(p *propose.Proposal, states map[string]*ledger.State) {
	path, err := knownPath(s.Estate.Dir, s.Env)
	if err != nil {
		return
	}
	was, before := readKnown(s.Estate.Dir, s.Env)
	head := knownHead{Format: knownFormat, At: time.Now().UTC().Truncate(time.Second), Entries: maps.Clone(was.Entries),
		Idle: p.Idle()}
	if head.Entries == nil {
		head.Entries = map[string]int64{}
	}
	same := head.Idle && was.Idle && len(s.Wards) == len(s.Estate.Wards) && bytes.Count(before,
		[]byte("\n")) == len(p.Actions)
	for _, ward := range s.Wards {
		if st := states[ward]; st != nil {
			entry, known := was.Entries[ward]
			same = same && known && entry == st.Seq
			head.Entries[ward] = st.Seq
		}
	}
	if same {
		return
	}
	body, err := json.Marshal(head)
	if err == nil {
		body = append(append(body, '\n'), s.knownOf(p, before)...)
		if err = os.MkdirAll(filepath.Dir(path), 0o700); err == nil {
			err = disk.ReplacePrivate(path, body)
		}
	}
	if err != nil {
		s.detail("Editors and shells do not know of this proposal: %v", err)
	}
}

// knownOf are the lines of a proposal in byte order, and those before of wards that it is not about.
func (s *Session) knownOf(p *propose.Proposal, before []byte) []byte {
	var lines []byte
	from, to := 0, 0 // where the line before is
	sorted := true
	for _, a := range p.Actions {
		start := len(lines)
		lines = append(append(append(append(lines, a.Ward...), ':'), a.Address...), said(a)...)
		sorted = sorted && bytes.Compare(lines[from:to], lines[start:]) <= 0
		from, to = start, len(lines)
		lines = append(lines, '\n')
	}
	if sorted && len(s.Wards) == len(s.Estate.Wards) {
		return lines
	}
	all := bytes.SplitAfter(lines, []byte("\n"))
	for line := range bytes.Lines(before) { // other wards are as they were
		ward, _, _ := bytes.Cut(line, []byte(":"))
		if w := string(ward); s.Estate.HasWard(w) && !slices.Contains(s.Wards, w) {
			all = append(all, line)
		}
	}
	slices.SortFunc(all, func(a, b []byte) int {
		return bytes.Compare(bytes.TrimSuffix(a, []byte("\n")), bytes.TrimSuffix(b, []byte("\n")))
	})
	return bytes.Join(all, nil)
}

// said is an action as one of few words; "" for none.
func said(a *propose.Action) string {
	if a.Kind == propose.Same {
		return ""
	}
	out := "\t" + string(a.Kind)
	var names []string
	for _, c := range a.Changes {
		if name, _, _ := strings.Cut(c.Path, "."); a.Kind != propose.New && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	if len(names) > 4 {
		names = append(names[:4], fmt.Sprintf("and %d more", len(names)-4))
	}
	if len(names) > 0 {
		out += " " + strings.Join(names, ", ")
	}
	return out
}
