package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

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
		Name: "ledger rename", Short: "record a resource under another address, in its ward or another",
		Args: "ADDRESS ADDRESS", Estate: true,
		Long: "Records a resource under another address, without a change in the cloud. Use " +
			"care(renamed_from = ...) where the code can say it.",
		Examples: [2]string{"kasbah ledger rename medina.subnet/quay medina.subnet/pier",
			`kasbah ledger rename shore:medina.bucket/log signal:medina.bucket/readings -why "it moved"`},
		Flags: func(fs *flag.FlagSet) {
			f.registerRun(fs)
		},
		Takes: exactly(2, "two addresses: what it is, and what it is to be"),
		Run: func(ctx context.Context, a *app, args []string) error {
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
		for _, w := range p.Wards {
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
		for _, w := range p.Wards {
			known = append(known, states[w].Addresses()...)
		}
		return &problem.UsageError{Message: from + " is not recorded", Hint: nearest.Hint(short, known)}
	}
	toWard, toShort := value.SplitWard(to)
	if toWard == "" {
		toWard = ward
	}
	if states[toWard] == nil {
		return &problem.UsageError{Message: "there is no ward " + toWard, Hint: nearest.Hint(toWard, p.Wards)}
	}
	r, err := states[ward].Records[short].Record()
	if err != nil {
		return err
	}
	if typ, name := typeIn(toShort); typ != r.Type || name == "" {
		return problem.Usage("%s is of type %s, and %s is not an address of that type", short, r.Type, toShort)
	}
	doc := renameDocument{Format: "kasbah.rename/1", From: value.InWard(ward, short), To: value.InWard(toWard, toShort)}
	if err := a.consentTo(ctx, fmt.Sprintf("Record %s as %s?", doc.From, doc.To)); err != nil {
		return err
	}
	o := p.EnactOptions(ctx, f.run(a))
	doc.Run = o.Run
	if err := enact.Rename(ctx, doc.From, doc.To, o); err != nil {
		return err
	}
	if a.json {
		return a.document(doc)
	}
	a.out().Printf("%s is recorded as %s. Run %s.\n", doc.From, doc.To, ledger.ShortRun(doc.Run))
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
