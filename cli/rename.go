package cli

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/render"
)

// renamedAway are the resources of the project's wards that others of the
// estate say they have taken over: former full address -> present one.
// Declarations that speak of no renaming are not evaluated.
func (a *app) renamedAway(ctx context.Context, p *project, others []string) (map[string]string, error) {
	some, err := speaksOf(p.estate.Dir, "renamed_from")
	if err != nil || !some || len(others) == 0 {
		return nil, err
	}
	q := *p
	q.wards = others
	d, _, problems, err := a.evaluate(ctx, &q)
	if err != nil {
		return nil, err
	}
	if problems.Wrong() > 0 {
		return nil, problems
	}
	out := map[string]string{}
	for _, r := range d.Resources {
		for _, former := range r.Former {
			if ward, _ := value.SplitWard(former); slices.Contains(p.wards, ward) {
				out[former] = r.Full()
			}
		}
	}
	return out, nil
}

// speaksOf reports whether a word stands in a *.star file of a folder or below.
func speaksOf(dir, word string) (bool, error) {
	found := false
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && strings.HasPrefix(e.Name(), ".") && path != dir:
			return filepath.SkipDir
		case e.IsDir() || !strings.HasSuffix(path, ".star"):
			return nil
		}
		body, err := os.ReadFile(path)
		if found = err == nil && bytes.Contains(body, []byte(word)); found {
			return filepath.SkipAll
		}
		return err
	})
	return found, err
}

// renameDocument is the JSON form of a rename.
type renameDocument struct {
	Format string `json:"format"`
	From   string `json:"from"` // with its ward
	To     string `json:"to"`
	Run    string `json:"run"`
}

func ledgerRenameCommand() *command {
	var f enactFlags
	return &command{
		name: "ledger rename", line: "record a resource under another address, in its ward or another", args: "ADDRESS ADDRESS", common: true,
		examples: [2]string{"kasbah ledger rename medina.subnet/quay medina.subnet/pier", `kasbah ledger rename shore:medina.bucket/log signal:medina.bucket/readings -why "it moved"`},
		flags: func(fs *flag.FlagSet) {
			f.registerRun(fs)
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 2 {
				return problem.Usage("ledger rename wants two addresses: what it is, and what it is to be")
			}
			return a.ledgerRename(ctx, args[0], args[1], f)
		},
	}
}

func (a *app) ledgerRename(ctx context.Context, from, to string, f enactFlags) error {
	p, states, err := a.openStates(ctx, nil)
	if err != nil {
		return err
	}
	ward, short := value.SplitWard(from)
	if ward == "" {
		for _, w := range p.wards {
			switch {
			case states[w].Records[short] == nil:
			case ward != "":
				return problem.Usage("%s is recorded in %s and in %s; write it with its ward", short, ward, w)
			default:
				ward = w
			}
		}
	}
	if ward == "" || states[ward] == nil || states[ward].Records[short] == nil {
		var known []string
		for _, w := range p.wards {
			known = append(known, states[w].Addresses()...)
		}
		return &problem.UsageError{Message: from + " is not recorded", Hint: nearest.Hint(short, known)}
	}
	toWard, toShort := value.SplitWard(to)
	if toWard == "" {
		toWard = ward
	}
	if states[toWard] == nil {
		return &problem.UsageError{Message: "there is no ward " + toWard, Hint: nearest.Hint(toWard, p.wards)}
	}
	r, err := states[ward].Records[short].Record()
	if err != nil {
		return err
	}
	if typ, name := typeIn(toShort); typ != r.Type || name == "" {
		return problem.Usage("%s is of type %s, and %s is no address of one", short, r.Type, toShort)
	}
	doc := renameDocument{Format: "kasbah.rename/1", From: value.InWard(ward, short), To: value.InWard(toWard, toShort)}
	if err := a.consentTo(ctx, fmt.Sprintf("Record %s as %s?", doc.From, doc.To)); err != nil {
		return err
	}
	o := a.enactOptions(ctx, p, f)
	doc.Run = o.Run
	if err := enact.Rename(ctx, doc.From, doc.To, o); err != nil {
		return err
	}
	if a.json {
		return a.document(doc)
	}
	a.out().Printf("%s is recorded as %s. Run %s.\n", doc.From, doc.To, render.ShortRun(doc.Run))
	return nil
}

// typeIn is the type and the name at the end of an address without its ward.
func typeIn(address string) (typ, name string) {
	parts := strings.Split(address, "/")
	if len(parts) < 2 {
		return "", ""
	}
	return parts[len(parts)-2], parts[len(parts)-1]
}
